"""Reads what a sheet is about to show, before anything of it is seen."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

from jondel.core.browse.display import safe_name
from jondel.core.browse.sheet_states import SheetState
from jondel.core.browse.windows import WindowCache
from jondel.core.engines.protocol import ArrangingProgress
from jondel.core.errors import ConditionInvalid, RecordNotFound, TableUnreadable
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.tui.frame.place import (
    AtKey,
    AtNew,
    AtPosition,
    AtRemoved,
    AtRow,
    NotShownHere,
    RecordRef,
)
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import Anchor, RowService
from jondel.tui.views.records.table_rows import TableRows

if TYPE_CHECKING:
    from jondel.core.browse.ghosts import Ghost
    from jondel.core.model.changes import TableChanges

Ordering: TypeAlias = AsyncGenerator[WindowCache | ArrangingProgress, None]


@dataclass(eq=False, repr=False)
class SheetOpening:
    """A table as of a moment, ready to be shown."""

    moment: Moment
    table: Table
    state: SheetState
    keep_place: bool
    """Whether it is the table that is shown already, as it is arranged already."""
    source: TableRows | None = None
    """The first rows; None where there is a problem instead."""
    problem: str = ""
    unreadable: bool = False
    """Whether it is the table that cannot be read, and not its filter that cannot be one."""
    row: int | None = None
    """Where to be; None to stay there, or to be where it was left."""
    position: Position = ()
    """The position of that row, where it may have moved."""
    column: str = ""
    shifts: Sequence[int] = (0, 0)
    """How many rows further down the current record and the topmost one in view are, where one
    stays with them."""
    new: int | None = None
    """The new record of the draft to be on."""
    ghosts: Sequence[Ghost] | None = None
    ghost: AtRemoved | None = None
    """The removed record to be on."""
    ordering: Ordering | None = None
    """Goes on making the order of the rows, of which the first ones are known."""

    def discard(self) -> None:
        """It is not going to be shown."""
        if self.ordering is not None:
            self._closing = asyncio.ensure_future(_close(self.ordering))


def condition_problem(error: ConditionInvalid) -> str:
    """What a sheet says whose filter or order cannot be one of its table any more."""
    return f"{error}. Press f to change the filter, F to turn it off."


async def _close(ordering: Ordering) -> None:
    await ordering.aclose()


class SheetOpener:
    """Reads openings; every coroutine may raise ``JondelError``."""

    def __init__(self, rows: RowService) -> None:
        self._rows = rows

    async def open(
        self,
        opening: SheetOpening,
        record: RecordRef | None,
        in_view: Sequence[int],
        removed: TableChanges | None = None,
        anchors: Sequence[Anchor] = (),
    ) -> None:
        """Read what an opening needs to show a record.

        ``in_view`` are the ordinals of the current row and of others in view, where its table is
        shown already, ``anchors`` those that one stays with. ``removed`` are the changes that the
        removed records are listed in.

        Raises:
            RecordNotFound: the record is not there.
        """
        try:
            await self._find(opening, record)
            if opening.state.natural:
                await self._read_natural(opening, in_view, anchors)
            else:
                await self._read_arranged(opening)
            if isinstance(record, AtRemoved):
                await self._place_ghosts(opening, record, removed)
        except TableUnreadable as error:
            opening.problem, opening.unreadable = str(error), True
        except ConditionInvalid as error:
            opening.problem = condition_problem(error)

    async def _find(self, opening: SheetOpening, record: RecordRef | None) -> None:
        """Find out at which row a record is."""
        table = opening.table
        match record:
            case AtRow(row, position):
                opening.row, opening.position = row, position
                if position and opening.state.natural:
                    known_ordinal = await self._rows.ordinal_of(opening.moment, table, position)
                    opening.row = row if known_ordinal is None else known_ordinal
                return
            case AtNew(number):
                opening.new = number
                return
            case AtPosition(position):
                pass
            case AtKey(_, _, row_id) if row_id is not None and table.row_id is not None:
                position = (row_id,)
            case AtKey(columns, key) if columns:
                known = await self._rows.position_of(opening.moment, table, columns, key)
                position = known if known is not None else ()
            case AtKey():
                position = ()
            case _:
                return
        ordinal = None
        if position:
            ordinal = await self._rows.ordinal_of(opening.moment, table, position)
        if ordinal is None:
            raise RecordNotFound(f"{safe_name(table.id)}: the record is no longer there")
        opening.row = ordinal

    async def _read_natural(
        self, opening: SheetOpening, in_view: Sequence[int], anchors: Sequence[Anchor]
    ) -> None:
        around = list(in_view) if opening.keep_place else [opening.state.row]
        if opening.row is not None:
            around = [opening.row, *(around if opening.keep_place else ())]
        stays = opening.keep_place and opening.row is None
        cache, shifts = await self._rows.first_rows(
            opening.moment, opening.table, around, anchors if stays else ()
        )
        opening.shifts = shifts or opening.shifts
        opening.source = TableRows(self._rows, opening.moment, cache)

    async def _read_arranged(self, opening: SheetOpening) -> None:
        """Read the first rows of an arrangement; its order is made on once they are shown."""
        ordering = self._rows.arranged(
            opening.moment, opening.table, opening.state.arrangement, first_rows=True
        )
        async for item in ordering:
            if isinstance(item, WindowCache):
                opening.source = TableRows(self._rows, opening.moment, item)
                opening.ordering = ordering
                break

    async def _place_ghosts(
        self, opening: SheetOpening, record: AtRemoved, removed: TableChanges | None
    ) -> None:
        ghosts: Sequence[Ghost] = ()
        if removed is not None and opening.source is not None:
            await self._finish(opening)
            ghosts = await self._rows.ghosts(
                opening.moment, opening.table, removed, opening.source.cache
            )
        if not any(ghost.record.key == record.key for ghost in ghosts):
            raise NotShownHere(record.otherwise)
        opening.ghosts, opening.ghost = ghosts, record

    async def _finish(self, opening: SheetOpening) -> None:
        """Make the order to its end, for removed records have their places only then."""
        if opening.ordering is None:
            return
        async for item in opening.ordering:
            if isinstance(item, WindowCache):
                await self._rows.read_around(opening.moment, item, [0], ())
                opening.source = TableRows(self._rows, opening.moment, item)
        opening.ordering = None
