"""One session with a server: what is asked, and how answers become rows."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from itertools import count
from typing import Any, NamedTuple, TypeVar, cast

import psycopg

from jondel.core.engines.postgresql.column_types import value_of
from jondel.core.engines.postgresql.connection import (
    Connection,
    connect,
    translated,
)
from jondel.core.engines.postgresql.giving_way import giving_way
from jondel.core.engines.postgresql.heap_facts import read_incarnation
from jondel.core.engines.postgresql.idle import close_when_idle
from jondel.core.engines.postgresql.outside import Outside
from jondel.core.engines.postgresql.schema_reader import ServerSchema, read_schema
from jondel.core.engines.postgresql.sql_text import (
    argument,
    quoted,
    quoted_list,
    source,
    unmarked,
    written,
)
from jondel.core.errors import (
    Cancelled,
    StatementFailed,
    TableNotFound,
    TableUnreadable,
    TargetUnavailable,
)
from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import Clipped, ShownRow, StoredValue, Value

_SHORT: frozenset[ValueKind] = frozenset(
    {"integer", "real", "boolean", "date", "time", "time with time zone", "timestamp",
     "timestamp with time zone", "uuid"}
)  # fmt: skip
"""Kinds whose values are never large."""
_WITHOUT_ORDER = ("json", "xml", "point", "polygon", "txid_snapshot", "pg_snapshot")
SHOWN_BYTES = 4096
_HEAD_CHARACTERS = 1024
_names = count(1)
_T = TypeVar("_T")


_MARKS = re.compile("(%%|%s)")


class Asked(NamedTuple):
    """SQL with a mark for each of its values."""

    sql: str
    values: tuple[str | bytes | None, ...] = ()

    def __add__(self, other: Asked | str) -> Asked:  # type: ignore[override]
        if isinstance(other, str):
            return Asked(self.sql + other, self.values)
        return Asked(self.sql + other.sql, self.values + other.values)

    @property
    def statement(self) -> Statement:
        """The same for people to read, and to carry elsewhere."""
        texts = [""]
        for part in _MARKS.split(self.sql):
            if part == "%s":
                texts.append("")
            else:
                texts[-1] += unmarked(part)
        return Statement(tuple(texts), tuple(Argument(value) for value in self.values))


class Session:
    """A connection that reads, opened again where it was lost; can be stopped at any time."""

    def __init__(self, target: str, what: str) -> None:
        """``what`` names the database in messages."""
        self.target, self.what = target, what
        self._lock = threading.Lock()
        self.outside = Outside(target, what)
        self._connection: Connection | None = None
        self._incarnation = ""
        self._stopped = threading.Event()
        self._asking = 0
        """How many questions are under way, one within another."""
        self._lent: set[Connection] = set()
        self._catalogue_has_numbers = True
        self._schema: tuple[str, ServerSchema] | None = None

    # The connection

    def _connected(self) -> Connection:
        """The connection, made again where it was lost or let go."""
        if self._stopped.is_set():
            raise Cancelled("stopped")
        if self._connection is None or self._connection.closed:
            opened = connect(self.target, self.what)
            with suppress(psycopg.Error):  # not every server tells
                if self._schema is not None and read_incarnation(opened) != self._incarnation:
                    self._schema = None  # another database, though all may look the same
                self._incarnation = read_incarnation(opened)
            with self._lock:
                self._connection = opened
            close_when_idle(opened, self._lock, lambda: self._asking > 0)
        self._connection.used_at = time.monotonic()
        return self._connection

    def interrupt(self) -> None:
        self._stopped.set()
        with self._lock, suppress(psycopg.Error):
            own = {self._connection} if self._asking > 0 and self._connection is not None else set()
            for connection in own | self._lent:
                if not connection.closed:
                    connection.cancel_safe(timeout=2)

    def resume(self) -> None:
        self._stopped.clear()

    @contextmanager
    def stoppable(self, connection: Connection) -> Iterator[None]:
        """Have ``interrupt`` stop what another connection does in the block, too."""
        with self._lock:
            self._lent.add(connection)
        try:
            if self._stopped.is_set():
                raise Cancelled("stopped")
            yield
        finally:
            with self._lock:
                self._lent.discard(connection)

    def close(self) -> None:
        self._stopped.set()
        with self._lock:
            if self._connection is not None:
                self._connection.close()
        self.outside.close()

    # The schema

    def schema(self) -> ServerSchema:
        """The schema, read again once the catalogue has changed."""
        return self._twice_if_need_be(self._current_schema)

    def _current_schema(self) -> ServerSchema:
        with self.asking() as connection:
            mark = self._catalogue_mark()
            if self._schema is None or self._schema[0] != mark:
                self._schema = (mark, read_schema(connection))
        return self._schema[1]

    def _catalogue_mark(self) -> str:
        if self._catalogue_has_numbers:
            try:
                return str(self.ask(Asked(_MARK_BY_NUMBERS))[0][0].decode())
            except StatementFailed as error:
                if not isinstance(error.__cause__, psycopg.errors.UndefinedColumn):
                    raise
                self._catalogue_has_numbers = False
        return str(self.ask(Asked(_MARK_BY_CONTENT))[0][0].decode())

    def require(self, table: Table) -> dict[str, str]:
        """What a table's columns are cast to.

        Raises:
            TableNotFound: it is not there any more.
            TableUnreadable: it may not be read.
        """
        if table.unreadable:
            raise TableUnreadable(f"{table.title}: cannot be read: {table.unreadable}")
        known = self._schema[1] if self._schema is not None else self.schema()
        if table.id not in known.casts and table.id not in known.schema.by_id:
            raise TableNotFound(f"{table.title}: there is no such table any more")
        return known.casts.get(table.id, {})

    def values_list(self, table: Table, keys: Sequence[Sequence[Any]]) -> Asked:
        """Keys of a table, each with its number, as rows to join with."""
        casts = self.require(table)
        marks = ", ".join(f"%s::{casts[name]}" for name in table.primary_key)
        rows = ", ".join(f"({number}, {marks})" for number in range(len(keys)))
        return Asked(f"(VALUES {rows})", tuple(part for key in keys for part in key))

    # Asking

    def ask(self, asked: Asked) -> list[tuple[Any, ...]]:
        """Run a statement that reads, and give its rows as the server sent them."""
        return self._twice_if_need_be(lambda: self._answer(asked))

    def _twice_if_need_be(self, work: Callable[[], _T]) -> _T:
        """Do work that reads; again where it was in vain."""
        try:
            return work()
        except Cancelled:
            if self._stopped.is_set():
                raise
            # What was to be stopped had ended by then.
        except TargetUnavailable:
            if self._asking or self._connection is None or not self._connection.closed:
                raise
            # The connection was lost before this was asked, or meanwhile.
        return work()

    def _answer(self, asked: Asked) -> list[tuple[Any, ...]]:
        with translated(self.what), self._being_asked() as connection:
            # Without arguments the driver takes percent signs as they are.
            return connection.execute(asked.sql, asked.values).fetchall()

    @contextmanager
    def _being_asked(self) -> Iterator[Connection]:
        """While something is asked it can be stopped at the server, and gives way to whoever
        waits to change a table."""
        with self._lock:
            self._asking += 1
        try:
            connection = self._connected()
            if self._asking > 1:  # within what is asked already
                yield connection
            else:
                with giving_way(connection, self.outside, self.what):
                    yield connection
            connection.used_at = time.monotonic()
        finally:
            with self._lock:
                self._asking -= 1

    @contextmanager
    def asking(self) -> Iterator[Connection]:
        """The connection, for as long as the block asks.

        Raises:
            TargetError: it cannot be made.
            Cancelled: this was stopped.
        """
        with translated(self.what), self._being_asked() as connection:
            yield connection

    @contextmanager
    def streamed(self, asked: Asked, at_once: int) -> Iterator[Iterator[list[tuple[Any, ...]]]]:
        """Run a statement whose rows come in batches, of one state of the database."""
        with (
            translated(self.what),
            self._being_asked() as connection,
            connection.transaction(),
            connection.cursor(name=f"jondel_{next(_names)}") as cursor,
        ):
            cursor.itersize = at_once
            cursor.execute(asked.sql, asked.values)

            def batches() -> Iterator[list[tuple[Any, ...]]]:
                while batch := cursor.fetchmany(at_once):
                    yield batch

            yield batches()

    # Rows

    def rows(self, table: Table, asked_after: Asked) -> list[tuple[Position, ShownRow]]:
        """A table's rows, large values clipped, by what follows FROM and the table."""
        shown, expressions, sizes = _shown(table)
        key, width = table.primary_key, len(expressions)
        # In one list: a statement gives 1664 columns at most, and a table has up to 1600.
        expressions += [f"ARRAY[{', '.join(sizes)}]"] if sizes else []
        expressions += [quoted(name) for name in key]
        # Which rows, first: what is shown of them is not computed for those that are only sorted.
        sql = f"SELECT {', '.join(expressions) or '1'} FROM (SELECT t.* FROM {source(table)} t"
        found = []
        for row in self.ask(Asked(sql) + asked_after + ") t"):
            told = iter(row[width][1:-1].split(b",") if sizes else ())
            values = tuple(
                _clipped(column_type, part, next(told) if has_size else None)
                for (column_type, has_size), part in zip(shown, row, strict=False)
            )
            behind = width + bool(sizes)
            position = cast(Position, self.whole(table, key, row[behind : behind + len(key)]))
            found.append((position, values))
        return found

    def at(self, table: Table, position: Position, operator: str = "=") -> Asked:
        """The row at a position, or the rows before or behind it in the order of the key."""
        casts = self.require(table)
        marks = ", ".join(f"%s::{casts[name]}" for name in table.primary_key)
        keys = quoted_list(table.primary_key)
        return Asked(f"({keys}) {operator} ({marks})", tuple(map(argument, position)))

    def whole(self, table: Table, names: Sequence[str], row: Sequence[bytes | None]) -> ShownRow:
        """A row of some columns, as the server sent them whole."""
        types = {column.name: column.type for column in table.columns}
        return tuple(value_of(types[n], part) for n, part in zip(names, row, strict=True))

    def equals(self, table: Table, name: str, value: StoredValue, operator: str = "=") -> Asked:
        """A column compared with a value by the server's own operator."""
        kind = self.require(table).get(name, "text")
        text = "::text" if has_no_order(table, name) else ""
        return Asked(f"{quoted(name)}{text} {operator} (%s::{kind}){text}", (argument(value),))

    def holds(self, table: Table, name: str, value: StoredValue) -> Asked:
        """That a column holds just this value, as it is written."""
        if value is None:
            return Asked(f"{quoted(name)} IS NULL")
        column = table.column(name)
        if column is not None and column.type.kind in ("integer", "real", "blob", "boolean"):
            return self.equals(table, name, value)
        # Values that are equal may be written otherwise: 1.5 and 1.50.
        given = f"format('%%s', %s::{self.require(table).get(name, 'text')})"
        return Asked(f'{written(name)} COLLATE "C" = {given}', (argument(value),))


_CATALOGUE = {"pg_class": "oid", "pg_attribute": "attrelid", "pg_constraint": "oid", "pg_enum": ""}
"""What a schema is read from, and the column that tells the server's own part by its number."""
_FIRST_OWN_NUMBER = 16384


def _catalogue_mark(of_row: str) -> str:
    """A statement whose answer is another one once the catalogue has changed; ``of_row``: SQL for
    a text that a row changes with."""
    parts = []
    for name, number in _CATALOGUE.items():
        where = f"WHERE {number} >= {_FIRST_OWN_NUMBER}" if number else ""
        parts.append(
            f"SELECT '{name}' || count(*) || ' ' || coalesce(sum(hashtext({of_row})::int8), 0) "
            f"FROM {name} AS t {where}"
        )
    listed = " UNION ALL ".join(parts)
    return f"SELECT md5(string_agg(part, ',' ORDER BY part)) FROM ({listed}) AS marks(part)"


_MARK_BY_NUMBERS = _catalogue_mark("t.ctid::text || t.xmin::text")
_MARK_BY_CONTENT = _catalogue_mark("t::text")


def has_no_order(table: Table, name: str) -> bool:
    """Whether values of a column cannot be compared but by their text."""
    column = table.column(name)
    return column is not None and column.type.name in _WITHOUT_ORDER


def _shown(table: Table) -> tuple[list[tuple[ColumnType, bool]], list[str], list[str]]:
    """For each column its type and whether its size goes with it; what to select for each, and what
    for the sizes."""
    shown, expressions, sizes = [], [], []
    for column in table.columns:
        name = quoted(column.name)
        if column.type.kind in _SHORT:
            shown.append((column.type, False))
            expressions.append(name)
            continue
        of_bytes = column.type.kind == "blob"
        text = name if of_bytes else written(column.name)
        head = (
            f"substring({name} from 1 for {_HEAD_CHARACTERS})"
            if of_bytes
            else f"left({text}, {_HEAD_CHARACTERS})"
        )
        size = f"octet_length({text})"
        shown.append((column.type, True))
        expressions.append(
            f"CASE WHEN {name} IS NULL THEN NULL WHEN {size} <= {SHOWN_BYTES} THEN {text} "
            f"ELSE {head} END"
        )
        sizes.append(size)
    return shown, expressions, sizes


def _clipped(column_type: ColumnType, text: bytes | None, size: bytes | None) -> Value:
    if text is None or size is None or int(size) <= SHOWN_BYTES:
        return value_of(column_type, text)
    if column_type.kind == "blob":
        return Clipped("blob", int(size), bytes.fromhex(text[2:].decode("ascii")))
    kind = column_type.name if column_type.kind == "other" else column_type.kind
    return Clipped(kind, int(size), text)
