"""Tables and rows in memory, shared by all that have the database open."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import count
from typing import TypeAlias

from jondel.core.errors import Cancelled, TableNotFound
from jondel.core.model.addresses import TableId
from jondel.core.model.exact_order import order_bytes
from jondel.core.model.rows import Position
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Exact, InvalidText, Row, StoredValue

Rank: TypeAlias = tuple[int, int | float | bytes | str, bytes]
Rows: TypeAlias = dict[Position, Row]


def rank(value: StoredValue) -> Rank:
    """What sorts as the values of a column do: NULL, numbers, text, exact values, blobs."""
    match value:
        case None:
            return 0, 0, b""
        case int() | float():
            return 1, value, b""
        case str():
            return 2, value.encode("utf-8", "surrogatepass"), b""
        case InvalidText(raw):
            return 2, raw, b""
        case Exact(kind, _):
            return 3, kind, order_bytes(value)
        case bytes():
            return 4, value, b""


def equal(one: StoredValue, other: StoredValue) -> bool:
    """Whether two values are equal to the engine; NULL is equal to nothing."""
    return one is not None and other is not None and rank(one) == rank(other)


class MemoryTables:
    """A database: its schema, the rows of each table by position, how often it was committed."""

    def __init__(self, name: str, tables: Sequence[Table]) -> None:
        self.name = name
        self.schema = Schema(tuple(tables))
        self.rows: dict[TableId, Rows] = {table.id: {} for table in tables}
        self.commits = 0
        self.lock = threading.RLock()
        self._numbers = count(1)

    def fill(self, table: TableId, rows: Sequence[Row]) -> None:
        """Have a table hold these rows, as an app would write them."""
        with self.lock:
            found = self.schema.by_id[table]
            self.rows[table] = {self.position_of(found, row): tuple(row) for row in rows}
            self.commits += 1

    def position_of(self, table: Table, row: Row) -> Position:
        """What addresses a row that is added."""
        if table.row_id is not None and table.row_id not in table.column_names:
            return (next(self._numbers),)
        return tuple(row[table.column_names.index(name)] for name in table.position_columns)

    def copied(self) -> MemoryTables:
        """The same content, which nobody else changes."""
        with self.lock:
            copy = MemoryTables(self.name, self.schema.tables)
            copy.rows = {table: dict(rows) for table, rows in self.rows.items()}
            return copy


class MemoryAccess:
    """One opening of the tables, that can be stopped."""

    def __init__(self, tables: MemoryTables) -> None:
        self.tables = tables
        self.stopped = threading.Event()

    def check(self) -> None:
        """Raise ``Cancelled`` where this was stopped."""
        if self.stopped.is_set():
            raise Cancelled("stopped")

    def in_order(self, table: Table) -> list[tuple[Position, Row]]:
        """A table's rows in its own order. Raises ``TableNotFound``."""
        rows = self.tables.rows.get(table.id)
        if rows is None:
            raise TableNotFound(f"{table.title}: there is no such table any more")
        with self.tables.lock:
            found = list(rows.items())
        return sorted(found, key=lambda entry: tuple(map(rank, entry[0])))

    def matching(
        self, table: Table, meets: Callable[[Mapping[str, StoredValue]], bool]
    ) -> Iterator[tuple[Position, Row]]:
        """A table's rows that meet something, given by column, in its own order."""
        names = table.column_names
        for position, row in self.in_order(table):
            self.check()
            cells = dict(zip(names, row, strict=True))
            if table.row_id is not None:
                cells.setdefault(table.row_id, position[0])
            if meets(cells):
                yield position, row
