"""Compares large values without holding them in memory.

They come clipped from both sides. Those that turn out to be the same stay so; those that differ,
or whose whole record is new or gone, are brought along where changes are kept whole.
"""

from __future__ import annotations

from jondel.core.diff.cells import CellComparison
from jondel.core.diff.keys import Key
from jondel.core.diff.merge import Pair
from jondel.core.engines.protocol import Database
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, ShownRow, Value

_LARGE_BYTES = 4 << 20


class LargeValues:
    """The large values of one table on both sides."""

    def __init__(
        self,
        before: Database,
        after: Database,
        old: Table | None,
        new: Table | None,
        key: Key,
        *,
        keep_whole: bool,
    ) -> None:
        self._sides = ((before, old), (after, new))
        self._key = key
        self._keep_whole = keep_whole
        # Only where rows have numbers can a single value be asked for.
        addressed = key.with_row_id and all(
            table is None or table.kind == "table" for _, table in self._sides
        )
        self.largest = _LARGE_BYTES if addressed else None
        """From how many bytes on values are to come clipped; None for none of them."""
        self._start = key.width + key.with_row_id

    def resolved(self, pair: Pair, cells: CellComparison | None) -> Pair:
        """A pair of rows in which clipped values differ only where the values do."""
        if self.largest is None or not any(_has_clipped(row) for row in pair):
            return pair
        before, after = pair
        if before is None or after is None or cells is None:
            return self._whole(before, 0), self._whole(after, 1)
        one, other = list(before), list(after)
        for name, old_place, new_place in cells.shared:
            at, to = self._start + old_place, self._start + new_place
            mine, theirs = one[at], other[to]
            if not (isinstance(mine, Clipped) or isinstance(theirs, Clipped)):
                continue
            if mine == theirs and self._is_same(before, after, old_place, name):
                one[at] = other[to] = self._head(after, 1, new_place, theirs)
                continue
            one[at] = self._value(before, 0, old_place, mine)
            other[to] = self._value(after, 1, new_place, theirs)
        shared = {self._start + place for _, _, place in cells.shared}
        for place, value in enumerate(other):
            if place >= self._start and place not in shared:
                other[place] = self._value(after, 1, place - self._start, value)
        return tuple(one), tuple(other)

    def _whole(self, row: ShownRow | None, side: int) -> ShownRow | None:
        if row is None:
            return None
        start = self._start
        read = self._value if self._keep_whole else self._head
        values = [read(row, side, place, value) for place, value in enumerate(row[start:])]
        return (*row[:start], *values)

    def _is_same(self, before: ShownRow, after: ShownRow, place: int, name: str) -> bool:
        """Whether two values of the same size that begin alike are the same to their ends."""
        (older, old), (newer, new) = self._sides
        assert old is not None
        assert new is not None
        row_ids = self._row_id(before), self._row_id(after)
        if row_ids[0] == row_ids[1] and old.column_names[place] == name:
            return newer.scanner.same_value(new, row_ids[1], name, older, old)
        return older.rows.read_value(
            old, row_ids[0], old.column_names[place]
        ) == newer.rows.read_value(new, row_ids[1], name)

    def _value(self, row: ShownRow, side: int, place: int, value: Value) -> Value:
        """A value whole, where it is clipped and is needed."""
        database, table = self._sides[side]
        if not isinstance(value, Clipped) or table is None:
            return value
        return database.rows.read_value(table, self._row_id(row), table.column_names[place])

    def _head(self, row: ShownRow, side: int, place: int, value: Value) -> Value:
        """A value with its beginning, where it is clipped."""
        database, table = self._sides[side]
        if not isinstance(value, Clipped) or table is None:
            return value
        return database.rows.read_head(table, self._row_id(row), table.column_names[place], value)

    def _row_id(self, row: ShownRow) -> int:
        number = row[self._key.width]
        assert isinstance(number, int)
        return number


def _has_clipped(row: ShownRow | None) -> bool:
    return row is not None and any(isinstance(value, Clipped) for value in row)
