"""States of different engines, made comparable: tables and columns by their names, values by what
they mean.

What one engine keeps exactly another keeps as a number or a text: numbers are the same where they
are equal, truth values are 1 and 0, and all else is its text.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import cast

from jondel.core.engines.plain_scanner import PlainScanner
from jondel.core.engines.protocol import Database, Features, Selection
from jondel.core.errors import TableUnreadable
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.model.ordering import sort_key
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Clipped, Exact, Row, ShownRow, StoredValue, Value

_LARGEST_INTEGER = (1 << 63) - 1
_AT_ONCE = 1000


def on_common_ground(one: Database, other: Database) -> tuple[Database, Database]:
    """Both states as they are, where they are of one kind; else as what they have in common."""
    kinds = {len(t.id) for state in (one, other) for t in state.schema().tables}
    if len(kinds) < 2:
        return one, other
    # A comparison asks for less than a database is.
    return cast(Database, CommonState(one)), cast(Database, CommonState(other))


def in_terms_of(changes: Changes, state: Database) -> Changes:
    """Changes that were found on common ground, with the tables and keys that a state has."""
    schema, tables = state.schema(), []
    for told in changes.tables:
        table = schema.find(told.table) or schema.named(told.table.name)
        if table is None or table.id == told.table:
            tables.append(told)
            continue
        records = tuple(
            record._replace(key=_key_of(table, told.key_columns, record.key))
            for record in told.records
        )
        tables.append(told._replace(table=table.id, schema=table.schema, records=records))
    return changes._replace(tables=tuple(tables))


def _key_of(table: Table, columns: Sequence[str], key: Row) -> Row:
    """A key with its values as they are in a table."""
    values: list[StoredValue] = []
    for name, value in zip(columns, key, strict=False):
        column = table.column(name)
        kind = column.type.exact_kind if column is not None else None
        exact = kind is not None and isinstance(value, str)
        values.append(Exact(str(kind), str(value)) if exact else value)
    return (*values, *key[len(values) :])


def meant(value: Value) -> Value:
    """A value as every engine can hold it."""
    match value:
        case Exact("boolean", text):
            return int(text == "true")
        case Exact("numeric", text):
            return _number(text)
        case Exact(_, text):
            return text
        case float() if math.isnan(value):
            return "NaN"
        case float() if value.is_integer() and abs(value) <= _LARGEST_INTEGER:
            return int(value)
        case _:
            return value


def _number(text: str) -> Value:
    """A decimal as a number where that is just as exact, else as its text."""
    number = Decimal(text)
    if not number.is_finite():
        return float(text) if not number.is_nan() else text
    if number == number.to_integral_value() and abs(number) <= _LARGEST_INTEGER:
        return int(number)
    nearest = float(number)
    return nearest if Decimal(repr(nearest)) == number else text


class CommonState:
    """A state to be compared with one of another engine; nothing else is asked of it."""

    lock = False
    notices: tuple[str, ...] = ()
    commits = capturer = deltas = writer = restorer = statements = scripts = rehearser = None
    rehearsals = transactions = None

    def __init__(self, inner: Database) -> None:
        self._inner = inner
        self.location, self.name, self.engine = inner.location, inner.name, inner.engine
        self.features = Features(inner.name)
        self.finder = inner.finder
        self._tables: dict[TableId, Table] = {}
        names = [table.name for table in inner.schema().tables if table.holds_rows]
        for table in inner.schema().tables:
            # A name that several schemas have is told with its schema.
            alone = names.count(table.name) == 1
            address = TableId(table.name) if alone else table.id
            if table.holds_rows and not table.internal:
                self._tables[address] = table
        self._schema = Schema(tuple(_plain(address, t) for address, t in self._tables.items()))
        self.rows = _Rows(self)
        self.scanner = _Scanner(self)

    def of(self, table: Table) -> Table:
        """The table that stands behind a plain one. Raises ``TableUnreadable``."""
        found = self._tables.get(table.id)
        if found is None:
            raise TableUnreadable(f"{table.title}: it is no longer there")
        return found

    @property
    def inner(self) -> Database:
        return self._inner

    def schema(self) -> Schema:
        return self._schema

    def interrupt(self) -> None:
        self._inner.interrupt()

    def resume(self) -> None:
        self._inner.resume()

    def close(self) -> None:
        self._inner.close()


def _plain(address: TableId, table: Table) -> Table:
    """A table with what other engines know of it, too."""
    columns = tuple(
        Column(column.name, key_position=column.key_position) for column in table.columns
    )
    return Table(address, "table", columns, unreadable=table.unreadable, schema=table.schema)


class _Rows:
    """The little of ``RowReader`` that a comparison asks for."""

    def __init__(self, state: CommonState) -> None:
        self._state = state

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        inner = self._state.inner.rows
        return inner.has_repeated_null_keys(self._state.of(table), key_columns)

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        return None


class _Scanner(PlainScanner):
    """See ``Scanner``."""

    def __init__(self, state: CommonState) -> None:
        self._state = state

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        inner = self._state.of(table)
        places = [list(columns).index(name) for name in order]
        streamed = self._state.inner.scanner.stream_rows(inner, columns, order, None, largest)
        if all(_keeps_order(inner, name) for name in order):
            for batch in streamed:
                yield [tuple(map(meant, row)) for row in batch]
            return
        rows = [tuple(map(meant, row)) for batch in streamed for row in batch]
        rows.sort(key=lambda row: sort_key(_key(row, places)))
        for first in range(0, len(rows), _AT_ONCE):
            yield rows[first : first + _AT_ONCE]


def _keeps_order(table: Table, name: str) -> bool:
    """Whether values of a column are in the same order as what they mean."""
    column = table.column(name)
    return column is not None and column.type.kind in ("integer", "text") and not column.type.exact


def _key(row: ShownRow, places: Sequence[int]) -> Row:
    return tuple(value for place in places if not isinstance(value := row[place], Clipped))
