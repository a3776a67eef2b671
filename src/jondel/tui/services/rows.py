"""Reads what sheets and cards show, as awaitable calls: rows as of a moment, and their orders."""

from __future__ import annotations

import time
from collections.abc import AsyncGenerator, Callable, Hashable, Sequence
from typing import TYPE_CHECKING, TypeAlias, TypeVar

from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.engines.needed import commits_of
from jondel.core.engines.protocol import ArrangingProgress, Database, Extent
from jondel.core.engines.registry import dialect_of, location_of
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import ShownRow, StoredValue
from jondel.tui.services.early_look import EarlyLook, Identity
from jondel.tui.services.moments import NOW, Moment, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.browse.ghosts import Ghost
    from jondel.core.browse.value_search import FoundCell, Searched
    from jondel.core.model.changes import TableChanges
    from jondel.core.model.filters import Arrangement
    from jondel.core.sql.dialect import Dialect

T = TypeVar("T")
_FOUND_BY_COUNTING = 20_000
"""Rows as far down as this are found without measuring the table first."""
CARD_VALUE_BYTES = 64 * 1024
_SENT_EVERY_SECONDS = 0.1


Anchor: TypeAlias = tuple[int, Position]
"""A row that a person is at: its ordinal and its position when they were last read."""


class RowService:
    """Every coroutine and generator may raise ``JondelError``.

    Four threads: one reads the rows that are on the screen and is never kept waiting; one makes
    the orders of sheets; one answers what is asked beside (links, tallies, searches); the one that
    surveys counts tables, and may be busy for long.
    """

    def __init__(
        self, target: str, early: EarlyLook | None, trail: TrailService, survey: MomentReader
    ) -> None:
        self._trail = trail
        self._target = target
        self._rows = MomentReader("rows", target, early)
        self._orders = MomentReader("orders", target)
        self._aside = MomentReader("aside", target)
        self._survey = survey

    def dialect(self, moment: Moment) -> Dialect:
        """The SQL of what is read at a moment."""
        return dialect_of(location_of(self._target) if isinstance(moment, Now) else None)

    def allow_lock(self, allowed: bool) -> None:
        """Have the live database read under a lock where nothing else helps, or no more."""
        for reader in (self._rows, self._survey, self._orders, self._aside):
            reader.lock = allowed

    async def forget_images(self) -> None:
        """Open the steps' images anew when they are next asked for."""
        for reader in (self._rows, self._survey, self._orders, self._aside):
            await reader.forget_images()

    def close(self) -> None:
        """Stop all reading."""
        for reader in (self._rows, self._orders, self._aside):
            reader.close()

    async def _read(self, reader: MomentReader, moment: Moment, work: Callable[[Database], T]) -> T:
        return await reader.read(self._trail.require_source(moment), self._trail.if_opened, work)

    async def identity(self) -> Identity:
        return await self._read(self._rows, NOW, Identity.of)

    async def change_token(self) -> Hashable:
        """Differs after something was committed to the live database."""
        return await self._read(
            self._rows,
            NOW,
            lambda database: commits_of(database).change_token(),
        )

    async def schema(self, moment: Moment) -> Schema:
        return await self._read(self._rows, moment, lambda database: database.schema())

    async def count(self, moment: Moment, table: Table) -> int:
        """Count a table's rows, however long it takes."""
        extent = await self._read(self._survey, moment, lambda base: base.rows.measure(table))
        return extent.rows

    # Rows

    async def first_rows(
        self, moment: Moment, table: Table, around: Sequence[int], anchors: Sequence[Anchor] = ()
    ) -> tuple[WindowCache, list[int]]:
        """Measure a table at a glance and read the blocks that the given rows are in.

        It is measured exactly where rows far down are wanted, which could not be found else.
        The second item is how many rows further down than before each of the anchors is, 0 where
        it is there no more; the rows around are then read there.
        """
        quick = all(ordinal < _FOUND_BY_COUNTING for ordinal in around)

        def work(database: Database) -> tuple[WindowCache, list[int]]:
            cache = WindowCache(table, database.rows.measure(table, quick=quick))
            cache.read_around(database, around)
            shifts = []
            for ordinal, position in anchors:
                found = cache.ordinal_near(position, ordinal)
                if found is None and database.rows.read_record(table, position, 1) is not None:
                    found = database.rows.ordinal_of(table, position)
                shifts.append(found - ordinal if found is not None else 0)
            for shift in set(shifts):
                cache.read_around(database, [ordinal + shift for ordinal in around])
            return cache, shifts

        return await self._read(self._rows, moment, work)

    async def measured(self, moment: Moment, table: Table) -> Extent:
        """Count a table's rows, with what it takes to find any of them."""
        return await self._read(self._orders, moment, lambda base: base.rows.measure(table))

    async def arranged(
        self,
        moment: Moment,
        table: Table,
        arrangement: Arrangement,
        *,
        first_rows: bool,
    ) -> AsyncGenerator[WindowCache | ArrangingProgress, None]:
        """Make the order of a sheet. Gives how far it is, and in the end its rows.

        With ``first_rows`` these come beforehand too, as soon as they are known.
        """
        source, trail = self._trail.require_source(moment), self._trail.if_opened

        def work(job: Job, send: Callable[[WindowCache | ArrangingProgress], None]) -> None:
            sent = time.monotonic()

            def send_progress(progress: ArrangingProgress) -> None:
                nonlocal sent
                if time.monotonic() - sent > _SENT_EVERY_SECONDS:
                    sent = time.monotonic()
                    send(progress)

            def show(window: Window) -> None:
                extent = Extent(len(window.rows), precision="at least")
                cache = WindowCache(table, extent, arrangement)
                cache.add(window)
                send(cache)

            order = self._orders.open(job, source, trail).finder.arrange(
                table,
                arrangement,
                first=show if first_rows else None,
                on_progress=send_progress,
                first_rows=BLOCK_ROWS,
            )
            send(WindowCache(table, Extent(order.rows), arrangement, order))

        async for item in self._orders.stream(work):
            yield item

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

        return await self._read(self._reader_of(cache), moment, work)

    async def block(self, moment: Moment, cache: WindowCache, block: int) -> Window:
        return await self._read(
            self._reader_of(cache), moment, lambda database: cache.fetch(database, block)
        )

    def _reader_of(self, cache: WindowCache) -> MomentReader:
        return self._rows if cache.anywhere else self._orders

    async def place_of_key(self, moment: Moment, cache: WindowCache, typed: str) -> int | None:
        """The place in a sheet of the record with a key, as a person types it."""
        from jondel.core.browse.typed_values import typed_value

        table = cache.table
        parts = typed.split(",") if len(table.primary_key) > 1 else [typed]
        if len(parts) != len(table.primary_key):
            return None
        columns = map(table.column, table.primary_key)
        pairs = zip(parts, columns, strict=True)
        try:
            key = [typed_value(part.strip(), column) for part, column in pairs]
        except ValueUnsuitable:
            return None

        def work(database: Database) -> int | None:
            position = database.rows.find_position(table, table.primary_key, key)
            if position is None:
                return None
            if cache.order is not None:
                return cache.order.ordinal_of(position)
            return database.rows.ordinal_of(table, position)

        reader = self._aside if cache.anywhere else self._orders
        return await self._read(reader, moment, work)

    async def ask(self, moment: Moment, work: Callable[[Database], T]) -> T:
        """Ask something of the database as of a moment that may take long; it can be stopped."""
        return await self._read(self._aside, moment, work)

    async def record(
        self,
        moment: Moment,
        table: Table,
        position: Position,
        max_bytes: int = CARD_VALUE_BYTES,
    ) -> ShownRow | None:
        """One record with its values in full, but for very large ones."""
        return await self._read(
            self._rows, moment, lambda base: base.rows.read_record(table, position, max_bytes)
        )

    async def ordinal_of(self, moment: Moment, table: Table, position: Position) -> int | None:
        """The place of a record in its table; None where it is not there."""

        def work(database: Database) -> int | None:
            if database.rows.read_record(table, position, 1) is None:
                return None
            return database.rows.ordinal_of(table, position)

        return await self._read(self._rows, moment, work)

    async def position_of(
        self,
        moment: Moment,
        table: Table,
        key_columns: Sequence[str],
        key: Sequence[StoredValue],
    ) -> Position | None:
        """The position of the record with a key; None where it is not there."""
        return await self._read(
            self._rows, moment, lambda base: base.rows.find_position(table, key_columns, key)
        )

    async def search(
        self, moment: Moment, tables: Sequence[Table], text: str, *, whole: bool
    ) -> AsyncGenerator[list[FoundCell | Searched], None]:
        """Find a value in tables; what is found comes in batches, as it is found."""
        from jondel.core.browse.value_search import find_everywhere

        source, trail = self._trail.require_source(moment), self._trail.if_opened

        def work(job: Job, send: Callable[[list[FoundCell | Searched]], None]) -> None:
            database = self._aside.open(job, source, trail)
            batch: list[FoundCell | Searched] = []
            sent = time.monotonic()
            for item in find_everywhere(database, tables, text, whole=whole):
                batch.append(item)
                if time.monotonic() - sent > _SENT_EVERY_SECONDS:
                    send(batch)
                    batch, sent = [], time.monotonic()
            send(batch)

        async for batch in self._aside.stream(work):
            yield batch

    async def ghosts(
        self, moment: Moment, table: Table, changes: TableChanges, cache: WindowCache | None
    ) -> list[Ghost]:
        """The removed records of a table, each with the place it would have in a sheet.

        ``cache`` is the sheet's; none are told while its order is still being made.
        """
        from jondel.core.browse.ghosts import ghosts_of

        arrangement = cache.arrangement if cache is not None else None
        if cache is None or arrangement is None:
            return await self._read(
                self._rows, moment, lambda base: ghosts_of(base, table, changes)
            )
        order = cache.order
        if order is None:
            return []
        return await self._read(
            self._reader_of(cache),
            moment,
            lambda base: ghosts_of(base, table, changes, arrangement, order),
        )
