"""Ghosts: records that are gone, shown among the others where they would be."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from typing import NamedTuple, cast

from jondel.core.engines.protocol import Database, RowOrder
from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, Row, ShownRow, Value

_MOST = 500


class Ghost(NamedTuple):
    """A removed record, and how many rows of the table come before the place it had."""

    record: RecordChange
    position: Position
    rows_before: int


def ghosts_of(
    database: Database,
    table: Table,
    changes: TableChanges,
    arrangement: Arrangement | None = None,
    order: RowOrder | None = None,
) -> list[Ghost]:
    """Place the removed records of a table among its rows; at most the first 500 of them.

    ``arrangement`` is that of the sheet and ``order`` its order, None for the table as it is;
    a record that the sheet's filter would not find is left out. None where rows have no address,
    or where the columns were others.
    """
    if not table.position_columns or changes.columns_before != changes.columns_after:
        return []
    removed: list[tuple[Position, RecordChange]] = []
    for record in changes.records:
        if len(removed) == _MOST:
            break
        # A value that was too large to be kept whole does not say where its row would be.
        if record.kind != "removed" or record.before is None or _is_clipped(record.before):
            continue
        if table.row_id is not None:
            if record.row_id is not None:
                removed.append(((record.row_id,), record))
        elif changes.key_columns == table.primary_key:
            removed.append((record.key, record))
    rows = [(position, cast(Row, record.before)) for position, record in removed]
    places = database.finder.places_of_absent(table, arrangement or Arrangement(), order, rows)
    return [Ghost(removed[index][1], removed[index][0], place) for index, place in places]


def _is_clipped(row: ShownRow) -> bool:
    return any(isinstance(value, Clipped) for value in row)


class Interleaving:
    """The lines of a sheet: a table's rows in order, ghosts in between, new records at the end."""

    def __init__(self, rows: int, ghosts: Sequence[Ghost] = (), new: int = 0) -> None:
        self._rows = rows
        self._ghosts = ghosts
        self._new = new
        self._lines = [ghost.rows_before + number for number, ghost in enumerate(ghosts)]

    @property
    def lines(self) -> int:
        """How many lines there are."""
        return self._rows + len(self._ghosts) + self._new

    def with_rows(self, rows: int, *, ghosts: bool) -> Interleaving:
        """The lines of as many rows, with or without the ghosts, and with the new records."""
        return Interleaving(rows, self._ghosts if ghosts else (), self._new)

    def with_ghosts(self, ghosts: Sequence[Ghost]) -> Interleaving:
        """The same with other ghosts."""
        return Interleaving(self._rows, ghosts, self._new)

    def with_new(self, new: int) -> Interleaving:
        """The same with as many new records."""
        return Interleaving(self._rows, self._ghosts, new)

    def new(self, line: int) -> int | None:
        """Which of the new records, from 0, is on a line, if one is."""
        place = line - self._rows - len(self._ghosts)
        return place if 0 <= place < self._new else None

    def ghost(self, line: int) -> Ghost | None:
        """The ghost on a line, if it is one's."""
        at = bisect_left(self._lines, line)
        return self._ghosts[at] if at < len(self._lines) and self._lines[at] == line else None

    def ordinal(self, line: int) -> int:
        """The row on a line; for a ghost's line, the row after it."""
        return line - bisect_left(self._lines, line)

    def line(self, ordinal: int) -> int:
        """The line of a row."""
        at = sum(1 for ghost in self._ghosts if ghost.rows_before <= ordinal)
        return ordinal + at

    def line_of_ghost(self, key: Sequence[Value]) -> int | None:
        """The line of a removed record, by its key."""
        for line, ghost in zip(self._lines, self._ghosts, strict=True):
            if ghost.record.key == tuple(key):
                return line
        return None
