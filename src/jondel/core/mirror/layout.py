"""How the tables of any engine are kept in the SQLite file that mirrors them.

Values are stored as they are; an exact one as its text, for its column says what kind it is. Beside
each column of exact values stands one of the bytes that sort as the values do, so that SQLite can
sort and compare them: stored where the column is in the key, computed otherwise.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Sequence
from typing import NamedTuple

from jondel.core.engines.delta import NULL_FIELD
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.model.addresses import TableId
from jondel.core.model.exact_order import order_bytes
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Clipped, Exact, Row, ShownRow, StoredValue, Value

ORDER_FUNCTION = "jondel_order"
"""Takes a kind and a text, and gives the bytes that sort as the value does."""
_ROW_NUMBER = "~row"
OWN_NUMBER = "_rowid_"
"""SQLite's own number of a row, which no column of a mirror is called."""
_MOST_COLUMNS = 1990
"""SQLite takes 2000. Of a table with more, some exact columns have no order beside them: at a step
these are sorted by their text."""
NOT_A_NUMBER = "NaN"
"""How that is stored: SQLite has no such real number."""


def decoded(column: Column, stored: Value) -> Value:
    """The value that is stored so in a column."""
    kind = column.type.exact_kind
    if stored == NOT_A_NUMBER and column.type.kind == "real":
        return math.nan
    if kind is not None:
        if isinstance(stored, str):
            return Exact(kind, stored)
        if isinstance(stored, Clipped):
            return Clipped(kind, stored.size, stored.head)
    return stored


def row_decoder(columns: Sequence[Column | None]) -> Callable[[ShownRow], ShownRow]:
    """What makes rows of what is stored of some columns; the values of None stay as they are."""
    special = [
        (place, column)
        for place, column in enumerate(columns)
        if column is not None and (column.type.kind == "real" or column.type.exact_kind is not None)
    ]
    if not special:
        return lambda stored: stored

    def row(stored: ShownRow) -> ShownRow:
        values = list(stored)
        for place, column in special:
            values[place] = decoded(column, values[place])
        return tuple(values)

    return row


def encoded(value: StoredValue) -> StoredValue:
    """How a value is stored."""
    if isinstance(value, float) and math.isnan(value):
        return NOT_A_NUMBER
    return value.text if isinstance(value, Exact) else value


class MirrorTable(NamedTuple):
    """A table, and how it is kept: its name there, and its columns', in the table's own order.

    ``orders`` are the columns with the order of exact ones, by place; ``number`` is the column of
    the row number, where that addresses the rows.
    """

    table: Table
    name: str
    columns: tuple[str, ...]
    orders: dict[int, str]
    number: str | None

    @property
    def address(self) -> tuple[str, ...]:
        """The columns that address and sort the rows there; empty where nothing does."""
        if self.number is not None:
            return (self.number,)
        names: list[str] = []
        for place in self._key_places:
            names += [self.orders[place]] if place in self.orders else []
            names.append(self.columns[place])
        return tuple(names)

    @property
    def real_key(self) -> tuple[str, ...]:
        """The columns of the key that hold real numbers."""
        kinds = ((self.columns[p], self.table.columns[p].type.kind) for p in self._key_places)
        return tuple(name for name, kind in kinds if kind == "real")

    @property
    def leading_integer(self) -> str | None:
        """The first column of the key, where that holds integers."""
        place = next(iter(self._key_places), None)
        if place is None or self.table.columns[place].type.kind != "integer":
            return None
        return self.columns[place]

    @property
    def _key_places(self) -> list[int]:
        if self.number is not None:
            return []
        return [self.table.column_names.index(name) for name in self.table.position_columns]

    def statement(self) -> str:
        """The statement that makes the table, but for what is computed."""
        key = self._key_places
        parts = [quoted(name) for name in self.columns]
        parts += [quoted(name) for place, name in self.orders.items() if place in key]
        if self.number is not None:
            parts.append(f"{quoted(self.number)} INTEGER PRIMARY KEY")
        elif key:
            parts.append(f"PRIMARY KEY ({quoted_list(self.address)})")
        without = " WITHOUT ROWID" if key else ""
        return f"CREATE TABLE {quoted(self.name)}({', '.join(parts)}){without}"

    def computing_statements(self) -> list[str]:
        """The statements that add what is computed, once the table is filled: SQLite computes it
        for each row that is written, though it stores none of it."""
        key = self._key_places
        return [
            f"ALTER TABLE {quoted(self.name)} ADD COLUMN {quoted(name)} "
            f"AS ({self._order_sql(place, quoted(self.columns[place]))})"
            for place, name in self.orders.items()
            if place not in key
        ]

    def _order_sql(self, place: int, value: str) -> str:
        kind = (self.table.columns[place].type.exact_kind or "").replace("'", "''")
        return f"{ORDER_FUNCTION}('{kind}', {value})"

    def from_fields(self, first: int) -> list[str]:
        """What is stored of a row that is told as text, its fields being parameters from a number
        on; real numbers come as such."""
        null = NULL_FIELD.replace("'", "''")
        read: list[str] = []
        for number, column in enumerate(self.table.columns, first):
            field = f"?{number}" if column.not_null else f"nullif(?{number}, '{null}')"
            kind = column.type.kind
            forms = {"integer": f"CAST({field} AS INTEGER)", "blob": f"unhex({field})",
                     "real": f"?{number}"}  # fmt: skip
            read.append(forms.get(kind, field))
        keyed = [p for p in self._key_places if p in self.orders]
        return read + [self._order_sql(place, f"?{first + place}") for place in keyed]

    @property
    def stored_names(self) -> tuple[str, ...]:
        """The columns that a row is written to; see ``stored_row``."""
        keyed = [self.orders[place] for place in self._key_places if place in self.orders]
        number = [self.number] if self.number is not None else []
        return (*self.columns, *keyed, *number)

    def stored_row(self, position: Position, row: Row) -> list[StoredValue]:
        """A row as it is written."""
        keyed = [_order_of(row[place]) for place in self._key_places if place in self.orders]
        number = list(position) if self.number is not None else []
        return [*map(encoded, row), *keyed, *number]

    def stored_position(self, position: Position) -> Position:
        """What addresses a row there."""
        if self.number is not None:
            return position
        found: list[StoredValue] = []
        for place, value in zip(self._key_places, position, strict=True):
            found += [_order_of(value)] if place in self.orders else []
            found.append(encoded(value))
        return tuple(found)

    def position(self, stored: Position) -> Position:
        """The position of a row that is addressed so there."""
        if not self.address:
            return ()  # what tells such rows apart there is nothing of the database's
        if self.number is not None or not stored:
            return stored
        names = dict(zip(self.address, stored, strict=True))
        values = (
            decoded(self.table.columns[place], names[self.columns[place]])
            for place in self._key_places
        )
        return tuple(values)  # type: ignore[arg-type]

    def row(self, stored: ShownRow) -> ShownRow:
        """A row that was read from there; an empty one stays so."""
        columns = self.table.columns
        return tuple(decoded(c, v) for c, v in zip(columns, stored, strict=False)) if stored else ()

    def place(self, column: str) -> int:
        return self.table.column_names.index(column)

    def stored_name(self, column: str) -> str:
        """What a column, or the row number, is called there."""
        if column in self.table.column_names:
            return self.columns[self.place(column)]
        if column == self.table.row_id and self.number is not None:
            return self.number
        return column

    def order_name(self, column: str) -> str | None:
        """The column with the order of a column's exact values."""
        return self.orders.get(self.place(column)) if column in self.table.column_names else None


def _order_of(value: StoredValue) -> StoredValue:
    return order_bytes(value) if isinstance(value, Exact) else None


class Layout:
    """How the tables of a schema are kept; the same for the same schema."""

    def __init__(self, schema: Schema) -> None:
        self.tables: dict[TableId, MirrorTable] = {}
        for table in schema.tables:
            if table.is_mirrored:
                self.tables[table.id] = _kept(table, _name_of(table.id))


def _kept(table: Table, name: str) -> MirrorTable:
    taken: set[str] = {OWN_NUMBER}
    columns = tuple(_free(column, taken) for column in table.column_names)
    number = _free(_ROW_NUMBER, taken) if table.row_id is not None else None
    exact = [place for place, column in enumerate(table.columns) if column.type.exact]
    exact.sort(key=lambda place: table.columns[place].key_position == 0)  # the key's first
    orders = {
        place: _free(f"~order {place}", taken)
        for place in sorted(exact[: _MOST_COLUMNS - len(columns)])
    }
    return MirrorTable(table, name, columns, orders, number)


def _name_of(table: TableId) -> str:
    """What a table is called, whatever other tables there are; SQLite's names know no case."""
    name = table.spelled
    if name != name.casefold() or name.startswith(("sqlite_", "jondel_")):
        return f"~{zlib.crc32(name.encode()):08x} {name}"
    return name


def _free(wanted: str, taken: set[str]) -> str:
    """A name that SQLite does not take for another one, nor for its own."""
    name, number = wanted, 2
    while name.casefold() in taken:
        name, number = f"{wanted}~{number}", number + 1
    taken.add(name.casefold())
    return name


def changed_tables(before: Layout, after: Layout) -> tuple[list[MirrorTable], list[MirrorTable]]:
    """The tables that are no longer kept as they were, and those that are to be kept anew."""
    gone = [kept for table, kept in before.tables.items() if after.tables.get(table) != kept]
    new = [kept for table, kept in after.tables.items() if before.tables.get(table) != kept]
    return gone, new


def columns_in(kept: MirrorTable, names: Sequence[str]) -> list[str]:
    """What some columns are called there."""
    return [kept.stored_name(name) for name in names]
