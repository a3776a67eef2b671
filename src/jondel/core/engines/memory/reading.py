"""Reads rows of tables in memory where they stand."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import islice

from jondel.core.engines.memory.tables import MemoryAccess, equal, rank
from jondel.core.engines.protocol import Extent, RowOrder
from jondel.core.errors import ReadError
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, clipped, identical
from jondel.core.model.writes import Cells

_SHOWN_BYTES = 4096


class MemoryOrder:
    """Positions in order."""

    anywhere = True

    def __init__(self, positions: Sequence[Position]) -> None:
        self.positions = tuple(positions)
        self.bytes = 8 * len(self.positions)

    @property
    def rows(self) -> int:
        return len(self.positions)

    def ordinal_of(self, position: Position) -> int | None:
        return self.positions.index(position) if position in self.positions else None


class MemoryReader:
    """See ``RowReader``."""

    def __init__(self, access: MemoryAccess) -> None:
        self._access = access

    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        self._access.check()
        return Extent(len(self._access.in_order(table)))

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
        order: RowOrder | None = None,
    ) -> Window:
        self._access.check()
        rows = self._access.in_order(table)
        if order is None:
            some = rows[offset : offset + limit]
        else:
            assert isinstance(order, MemoryOrder), "orders come from the engine that reads by them"
            known = dict(rows)
            wanted = order.positions[offset : offset + limit]
            some = [(position, known.get(position, ())) for position in wanted]
        return shown_window(offset, some)

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        self._access.check()
        row = dict(self._access.in_order(table)).get(position)
        return None if row is None else tuple(clipped(value, max_bytes) for value in row)

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        self._access.check()
        place = tuple(map(rank, position))
        return sum(tuple(map(rank, p)) < place for p, _ in self._access.in_order(table))

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        def holds(row: Mapping[str, StoredValue]) -> bool:
            return all(identical(row[c], v) for c, v in zip(key_columns, key, strict=True))

        return next((position for position, _ in self._access.matching(table, holds)), None)

    def which_occur(
        self, table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
    ) -> set[int]:
        return {
            place
            for place, key in enumerate(keys)
            if None not in key and self.find_position(table, columns, key) is not None
        }

    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        return shown_window(0, list(islice(self._access.matching(table, _equal(cells)), limit)))

    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        return sum(1 for _ in islice(self._access.matching(table, _equal(cells)), most))

    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        place = table.column_names.index(column)
        found: dict[StoredValue, None] = {}
        for _, row in self._access.matching(table, _equal(cells or ())):
            if row[place] is not None and len(found) < most:
                found.setdefault(row[place])
        return list(found)

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        def has_null(row: Mapping[str, StoredValue]) -> bool:
            return any(row[column] is None for column in key_columns)

        return sum(1 for _ in self._access.matching(table, has_null)) > 1

    def read_value(self, table: Table, row_id: int, column: str) -> StoredValue:
        row = dict(self._access.in_order(table)).get((row_id,))
        return None if row is None else row[table.column_names.index(column)]

    def read_head(self, table: Table, row_id: int, column: str, value: Clipped) -> Clipped:
        whole = clipped(self.read_value(table, row_id, column), _SHOWN_BYTES)
        if not isinstance(whole, Clipped):
            raise ReadError(f"{table.title}.{column}: it is not large any more")
        return whole


def shown_window(offset: int, rows: Sequence[tuple[Position, Sequence[StoredValue]]]) -> Window:
    """A window of rows with their large values clipped."""
    return Window(
        offset,
        tuple(position for position, _ in rows),
        tuple(tuple(clipped(value, _SHOWN_BYTES) for value in row) for _, row in rows),
    )


def _equal(cells: Cells) -> Callable[[Mapping[str, StoredValue]], bool]:
    def holds(row: Mapping[str, StoredValue]) -> bool:
        return all(equal(row[name], value) for name, value in cells)

    return holds
