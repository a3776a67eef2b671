"""Reads whole tables in memory in the order of their keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jondel.core.engines.memory.tables import MemoryAccess
from jondel.core.engines.plain_scanner import PlainScanner
from jondel.core.engines.protocol import Database, Selection
from jondel.core.model.ordering import sort_key
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, StoredValue

_BATCH_ROWS = 256


class MemoryScanner(PlainScanner):
    """See ``Scanner``."""

    def __init__(self, access: MemoryAccess) -> None:
        self._access = access

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        rows: list[tuple[tuple[StoredValue, ...], ShownRow]] = []
        for position, row in self._access.in_order(table):
            cells: dict[str, StoredValue] = dict(zip(table.column_names, row, strict=True))
            if table.row_id is not None:
                cells.setdefault(table.row_id, position[0])
            key = tuple(cells[name] for name in order)
            if only is None or key in only.keys or position[0] in (only.row_ids or ()):
                rows.append((key, tuple(cells[name] for name in columns)))
        rows.sort(key=lambda entry: sort_key(entry[0]))
        for first in range(0, len(rows), _BATCH_ROWS):
            self._access.check()
            yield [row for _, row in rows[first : first + _BATCH_ROWS]]

    def same_value(
        self, table: Table, row_id: int, column: str, other: Database, other_table: Table
    ) -> bool:
        row = dict(self._access.in_order(table))[row_id,]
        ours = row[table.column_names.index(column)]
        return ours == other.rows.read_value(other_table, row_id, column)
