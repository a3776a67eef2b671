"""Reads what sheets and cards show, as awaitable calls: rows as of a moment, and their orders."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Hashable, Sequence
from typing import TYPE_CHECKING, TypeVar

from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.engines.protocol import ArrangingProgress, Database, Extent
from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import ShownRow
from jondel.core.trail.trail import Step, Trail
from jondel.tui.early_look import EarlyLook, Identity
from jondel.tui.moments import Moment, MomentReader

if TYPE_CHECKING:
    from jondel.core.browse.ghosts import Ghost
    from jondel.core.browse.sheet_states import SheetStates
    from jondel.core.model.filters import Arrangement

T = TypeVar("T")
_FOUND_BY_COUNTING = 20_000
"""Rows as far down as this are found without measuring the table first."""
_CARD_VALUE_BYTES = 64 * 1024


class RowReading:
    """The reading half of a ``Workspace``. Every coroutine may raise ``JondelError``."""

    def __init__(self, location: str, target: str, early: EarlyLook | None) -> None:
        self.location = location
        self.steps: list[Step] = []
        self._rows = MomentReader("rows", target, early)
        self._survey = MomentReader("survey", target)
        self._orders = MomentReader("orders", target)
        self._aside = MomentReader("aside", target)
        self._trail: Trail | None = None
        self._sheets: SheetStates | None = None

    def step(self, moment: Moment) -> Step | None:
        """The step of a moment; None for now."""
        return next((step for step in self.steps if step.number == moment), None)

    @property
    def sheets(self) -> SheetStates:
        """How the tables' sheets were left."""
        if self._sheets is None:
            from jondel.core.browse.sheet_states import SheetStates  # not needed for a first look

            self._sheets = SheetStates(self.location)
        return self._sheets

    async def identity(self) -> Identity:
        return await self._rows.read(None, self._trail, Identity.of)

    async def change_token(self) -> Hashable:
        """Differs after something was committed to the live database."""
        return await self._rows.read(None, self._trail, lambda database: database.change_token())

    async def schema(self, moment: Moment) -> Schema:
        return await self._rows.read(self.step(moment), self._trail, lambda db: db.schema())

    async def count(self, moment: Moment, table: Table) -> int:
        """Count a table's rows, however long it takes."""
        extent = await self._survey.read(
            self.step(moment), self._trail, lambda database: database.measure(table)
        )
        return extent.rows

    # Rows

    async def first_rows(self, moment: Moment, table: Table, around: Sequence[int]) -> WindowCache:
        """Measure a table at a glance and read the blocks that the given rows are in.

        It is measured exactly where rows far down are wanted, which could not be found else.
        """
        quick = all(ordinal < _FOUND_BY_COUNTING for ordinal in around)

        def work(database: Database) -> WindowCache:
            cache = WindowCache(table, database.measure(table, quick=quick))
            cache.read_around(database, around)
            return cache

        return await self._rows.read(self.step(moment), self._trail, work)

    async def measured(self, moment: Moment, table: Table) -> Extent:
        """Count a table's rows, with what it takes to find any of them."""
        return await self._orders.read(
            self.step(moment), self._trail, lambda database: database.measure(table)
        )

    async def arranged(
        self,
        moment: Moment,
        table: Table,
        arrangement: Arrangement,
        first: Callable[[WindowCache], None] | None,
        told: Callable[[ArrangingProgress], None],
    ) -> WindowCache:
        """Make the order of a sheet.

        ``first``, called in the interface's thread, is given the first rows as soon as they are
        known; ``told``, called in another one, how far the order is.
        """
        loop = asyncio.get_running_loop()

        def show(window: Window) -> None:
            extent = Extent(len(window.rows), precision="at least")
            cache = WindowCache(table, extent, arrangement)
            cache.add(window)
            assert first is not None
            loop.call_soon_threadsafe(first, cache)

        def work(database: Database) -> WindowCache:
            order = database.arrange(
                table, arrangement, first=show if first else None, told=told, first_rows=BLOCK_ROWS
            )
            return WindowCache(table, Extent(order.rows), arrangement, order)

        return await self._orders.read(self.step(moment), self._trail, work)

    async def read_around(
        self, moment: Moment, cache: WindowCache, ordinals: Sequence[int], position: Position
    ) -> int | None:
        """Read what will be in view of a sheet's new order; returns a row's place in it."""

        def work(database: Database) -> int | None:
            order = cache.order
            place = order.ordinal_of(position) if order is not None and position else None
            shift = place - ordinals[0] if place is not None else 0
            cache.read_around(database, [ordinal + shift for ordinal in ordinals])
            return place

        return await self._reader_of(cache).read(self.step(moment), self._trail, work)

    async def block(self, moment: Moment, cache: WindowCache, block: int) -> Window:
        return await self._reader_of(cache).read(
            self.step(moment), self._trail, lambda database: cache.fetch(database, block)
        )

    def _reader_of(self, cache: WindowCache) -> MomentReader:
        return self._rows if cache.anywhere else self._orders

    async def place_of_key(self, moment: Moment, cache: WindowCache, typed: str) -> int | None:
        """The place in a sheet of the record with a key, as a person types it."""
        from jondel.core.browse.typed import typed_value

        table = cache.table
        parts = typed.split(",") if len(table.primary_key) > 1 else [typed]
        if len(parts) != len(table.primary_key):
            return None
        columns = map(table.column, table.primary_key)
        key = [
            typed_value(part.strip(), column) for part, column in zip(parts, columns, strict=True)
        ]

        def work(database: Database) -> int | None:
            position = database.find_position(table, table.primary_key, key)
            if position is None:
                return None
            if cache.order is not None:
                return cache.order.ordinal_of(position)
            return database.ordinal_of(table, position)

        return await self._aside.read(self.step(moment), self._trail, work)

    async def ask(self, moment: Moment, work: Callable[[Database], T]) -> T:
        """Ask something of the database as of a moment that may take long; it can be stopped."""
        return await self._aside.read(self.step(moment), self._trail, work)

    async def record(
        self,
        moment: Moment,
        table: Table,
        position: Position,
        max_bytes: int = _CARD_VALUE_BYTES,
    ) -> ShownRow | None:
        """One record with its values in full, but for very large ones."""
        return await self._rows.read(
            self.step(moment),
            self._trail,
            lambda database: database.read_record(table, position, max_bytes),
        )

    async def place_of(
        self, moment: Moment, changes: TableChanges, record: RecordChange
    ) -> int | None:
        """The place of a changed record in its table's sheet; None if it is not there."""

        def work(database: Database) -> int | None:
            table = database.schema().find(changes.table)
            if table is None:
                return None
            position: Position | None = None
            if record.row_id is not None and table.row_id is not None:
                position = (record.row_id,)
            elif not changes.key_is_row_id:
                position = database.find_position(table, changes.key_columns, record.key)
            if position is None or database.read_record(table, position, 1) is None:
                return None
            return database.ordinal_of(table, position)

        return await self._rows.read(self.step(moment), self._trail, work)

    async def ghosts(self, moment: Moment, table: Table, changes: TableChanges) -> list[Ghost]:
        """The removed records of a table, each with the place it would have."""
        from jondel.core.browse.ghosts import ghosts_of

        return await self._rows.read(
            self.step(moment), self._trail, lambda database: ghosts_of(database, table, changes)
        )
