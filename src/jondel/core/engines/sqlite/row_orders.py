"""Makes the order of a filtered or sorted sheet, and reads rows by it.

Of a table with row numbers an order is just these, eight bytes a row. What has none (a view, a
table kept by its key) is copied once into a temporary table of the connection, which the engine
keeps on the disk where it is large: the keys of a table, or the whole rows of a view, since there
is no other way to find one of them again.
"""

from __future__ import annotations

import os
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from itertools import chain, count, islice
from typing import Any, cast

import apsw

from jondel.core.engines.protocol import ArrangingProgress
from jondel.core.engines.sqlite.condition_sql import condition_sql, order_sql
from jondel.core.engines.sqlite.select_statements import selected
from jondel.core.engines.sqlite.sql_text import (
    mark_of,
    parameters,
    quoted,
    quoted_list,
    select,
    source_of,
    text_read,
    unwrapped,
    wrapped,
)
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import Value

_BATCH_ROWS = 1 << 15
_STEPS_BETWEEN_LOOKS = 200_000
_KEPT_VALUE_BYTES = 4096
_PREFIX = f"jondel_{os.urandom(8).hex()}"
"""No table of the database goes by it."""
_kept_names = (f"{_PREFIX}_{number}" for number in count(1))


class NumberOrder:
    """Row numbers in order."""

    anywhere = True

    def __init__(self, numbers: array[int]) -> None:
        self._numbers = numbers

    @property
    def rows(self) -> int:
        return len(self._numbers)

    @property
    def bytes(self) -> int:
        return self._numbers.itemsize * len(self._numbers)

    def numbers(self, offset: int, limit: int) -> array[int]:
        return self._numbers[offset : offset + limit]

    def ordinal_of(self, position: Position) -> int | None:
        try:
            return self._numbers.index(cast(int, position[0]))
        except ValueError:
            return None


class KeptOrder:
    """A temporary table of one connection, whose rows are numbered from 1 in the order."""

    anywhere = False
    bytes = 0

    def __init__(self, connection: apsw.Connection, name: str, rows: int) -> None:
        self.connection = connection
        self.name = name
        self.rows = rows

    def ordinal_of(self, position: Position) -> int | None:
        if not position:
            return None
        columns = [f"k{number}" for number in range(len(position))]
        pairs = zip(columns, position, strict=True)
        where = " AND ".join(f"{name} IS {mark_of(value)}" for name, value in pairs)
        row = self.connection.execute(
            f"SELECT n FROM temp.{self.name} WHERE {where}", parameters(position)
        ).get
        return None if row is None else cast(int, row) - 1


def conditions(table: Table, arrangement: Arrangement) -> Statement | None:
    """What follows WHERE; None where any row will do."""
    if arrangement.condition is None:
        return None
    return condition_sql(table, arrangement.condition)


def arrange(
    connection: apsw.Connection,
    table: Table,
    arrangement: Arrangement,
    read: Callable[[Statement | None, str, int], Window],
    first: Callable[[Window], None] | None,
    on_progress: Callable[[ArrangingProgress], None] | None,
    first_rows: int,
) -> NumberOrder | KeptOrder:
    """See ``Database.arrange``; ``read`` reads rows by condition, order and limit."""
    where = conditions(table, arrangement)
    order = order_sql(table, arrangement.order, total=True)
    steps = _Steps(connection)
    if first is not None:
        with steps.counted():
            window = read(where, order, first_rows)
        first(window)
        if len(window.rows) < first_rows and table.row_id is not None:
            return NumberOrder(array("q", (cast(int, p[0]) for p in window.positions)))
    # Where the first rows need no sorting they are there at once, and so are the others.
    scan = steps.taken if arrangement.order else 0
    numbers = array("q")

    def looked(taken: int) -> None:
        if on_progress is not None:
            on_progress(ArrangingProgress(min(1.0, taken / scan) if scan else None, len(numbers)))

    if table.row_id is None:
        with steps.counted(looked):
            return _copied(connection, table, where, order)
    sql = select(source_of(table), [quoted(table.row_id)], where=_text(where), order=order)
    with steps.counted(looked):
        cursor = connection.execute(sql, _values(where))
        flat = cast("Iterator[int]", chain.from_iterable(cursor))
        while len(batch := array("q", islice(flat, _BATCH_ROWS))):
            numbers += batch
            if on_progress is not None:
                on_progress(ArrangingProgress(1.0 if scan else None, len(numbers)))
    return NumberOrder(numbers)


def drop_kept(connection: apsw.Connection, names: Iterable[str]) -> None:
    """Drop temporary tables that no order needs any more."""
    with _writing_temporary(connection):
        for name in names:
            connection.execute(f"DROP TABLE IF EXISTS temp.{name}")


def positions_by(
    order: NumberOrder | KeptOrder, table: Table, offset: int, limit: int, encoding: str
) -> list[Position]:
    """The positions of some rows of an order; empty ones for a view."""
    if isinstance(order, NumberOrder):
        return [(number,) for number in order.numbers(offset, limit)]
    columns = [f"k{number}" for number in range(len(table.position_columns))]
    if not columns:
        return [()] * max(0, min(limit, order.rows - offset))
    kept = _kept_values(order, columns, offset, limit, encoding)
    return [cast(Position, row) for row in kept]


def kept_rows(
    order: KeptOrder, table: Table, offset: int, limit: int, encoding: str
) -> list[tuple[Value, ...]]:
    """The rows of a view, as they were copied."""
    columns = [f"c{number}" for number in range(len(table.columns))]
    return _kept_values(order, columns, offset, limit, encoding)


def _kept_values(
    order: KeptOrder, columns: Sequence[str], offset: int, limit: int, encoding: str
) -> list[tuple[Value, ...]]:
    try:
        return [unwrapped(row, encoding) for row in _kept(order, columns, offset, limit)]
    except UnicodeDecodeError:
        expressions = [f"typeof({name}) = 'text'" for name in columns]
        expressions += [f"CASE typeof({n}) WHEN 'text' THEN CAST({n} AS BLOB) ELSE {n} END"
                        for n in columns]  # fmt: skip
        width = len(columns)
        rows = _kept(order, expressions, offset, limit)
        return [
            tuple(
                text_read(value, encoding) if is_text else value
                for is_text, value in zip(row[:width], row[width:], strict=True)
            )
            for row in rows
        ]


def _kept(
    order: KeptOrder, columns: Sequence[str], offset: int, limit: int
) -> list[tuple[Any, ...]]:
    with selected(
        order.connection,
        quoted(order.name),
        columns,
        (offset, offset + limit),
        where="n > ? AND n <= ?",
        order="n",
    ) as rows:
        return list(rows)


def _copied(
    connection: apsw.Connection, table: Table, where: Statement | None, order: str
) -> KeptOrder:
    name = next(_kept_names)
    keys = table.position_columns
    if keys:
        columns = [f"k{number}" for number in range(len(keys))]
        expressions = [quoted(key) for key in keys]
    else:
        columns = [f"c{number}" for number in range(len(table.columns))]
        expressions = [
            wrapped(column, max_bytes=_KEPT_VALUE_BYTES, text_as_bytes=False)
            for column in table.column_names
        ]
    source = select(source_of(table), expressions, where=_text(where), order=order)
    with _writing_temporary(connection):
        connection.execute(
            f"CREATE TABLE temp.{name}({', '.join(['n INTEGER PRIMARY KEY', *columns])})"
        )
        try:
            connection.execute(
                f"INSERT INTO temp.{name}({quoted_list(columns) or 'n'}) "
                f"{source if columns else 'SELECT NULL WHERE FALSE'}",
                _values(where),
            )
            if keys:
                connection.execute(f"CREATE INDEX temp.{name}_k ON {name}({quoted_list(columns)})")
        except BaseException:
            connection.execute(f"DROP TABLE temp.{name}")
            raise
    rows = cast(int, connection.execute(f"SELECT count(*) FROM temp.{name}").get)
    return KeptOrder(connection, name, rows)


class _Steps:
    """Counts the engine's steps while a statement runs, which is how far a sort has come."""

    def __init__(self, connection: apsw.Connection) -> None:
        self._connection = connection
        self.taken = 0

    @contextmanager
    def counted(self, looked: Callable[[int], None] | None = None) -> Iterator[None]:
        self.taken = 0

        def look() -> bool:
            self.taken += _STEPS_BETWEEN_LOOKS
            if looked is not None:
                looked(self.taken)
            return False

        self._connection.set_progress_handler(look, _STEPS_BETWEEN_LOOKS, id=self)
        try:
            yield
        finally:
            self._connection.set_progress_handler(None, id=self)


@contextmanager
def _writing_temporary(connection: apsw.Connection) -> Iterator[None]:
    """Allow writing, which only ever concerns the temporary tables here, for a statement."""
    connection.execute("PRAGMA query_only=OFF")
    try:
        yield
    finally:
        connection.execute("PRAGMA query_only=ON")


def _text(where: Statement | None) -> str:
    return where.text() if where is not None else ""


def _values(where: Statement | None) -> Any:
    return where.values if where is not None else ()


def in_positions(table: Table, positions: Sequence[Position]) -> tuple[str, tuple[Any, ...]]:
    """A condition that holds for the rows at these positions, and its parameters."""
    if table.row_id is not None:
        return f"{quoted(table.row_id)} IN ({', '.join('?' * len(positions))})", tuple(
            position[0] for position in positions
        )
    rows = [f"({', '.join(map(mark_of, position))})" for position in positions]
    return (
        f"({quoted_list(table.position_columns)}) IN (VALUES {', '.join(rows)})",
        parameters(chain.from_iterable(positions)),
    )


@contextmanager
def among(
    connection: apsw.Connection, table: Table, positions: Sequence[Position]
) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """A condition that holds for any number of rows at some positions, and its parameters."""
    if table.row_id is not None:
        numbers = array("q", (cast(int, position[0]) for position in positions))
        yield f"{quoted(table.row_id)} IN carray(?)", (apsw.carray(numbers),)
        return
    name = next(_kept_names)
    columns = [f"k{number}" for number in range(len(table.position_columns))]
    with _writing_temporary(connection):
        connection.execute(f"CREATE TABLE temp.{name}({', '.join(columns)})")
        try:
            for position in positions:
                marks = ", ".join(map(mark_of, position))
                connection.execute(
                    f"INSERT INTO temp.{name} VALUES ({marks})", parameters(position)
                )
            keys = quoted_list(table.position_columns)
            yield f"({keys}) IN (SELECT {', '.join(columns)} FROM temp.{name})", ()
        finally:
            connection.execute(f"DROP TABLE temp.{name}")
