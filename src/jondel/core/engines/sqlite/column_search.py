"""Adds up columns, and finds values wherever they are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, cast

import apsw

from jondel.core.engines.protocol import Hit, Tally
from jondel.core.engines.sqlite.condition_sql import either, order_sql, word_sql
from jondel.core.engines.sqlite.row_orders import among, conditions
from jondel.core.engines.sqlite.select_statements import selected
from jondel.core.engines.sqlite.sql_text import quoted, source_of, unwrapped, wrapped
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement

_SHOWN_BYTES = 4096


def tally(
    connection: apsw.Connection,
    encoding: str,
    table: Table,
    column: str,
    arrangement: Arrangement,
    only: Sequence[Position] | None,
) -> Tally:
    """See ``Database.tally``."""
    if only is not None:
        with among(connection, table, only) as (where, parameters):
            return _tallied(connection, encoding, table, column, where, parameters)
    found = conditions(table, arrangement)
    where, values = (found.text(), found.values) if found is not None else ("", ())
    return _tallied(connection, encoding, table, column, where, values)


def _tallied(
    connection: apsw.Connection,
    encoding: str,
    table: Table,
    column: str,
    where: str,
    parameters: Any,
) -> Tally:
    name = quoted(column)
    number = f"CASE WHEN typeof({name}) IN ('integer', 'real') THEN {name} END"
    inner = (
        f"SELECT count(*) AS n, count(DISTINCT {name}) AS d, "
        f"count(*) - count({name}) AS z, total({name} = '') AS e, min({name}) AS lo, "
        f"max({name}) AS hi, {{sum}}({number}) AS s, avg({number}) AS m FROM {source_of(table)}"
        + (f" WHERE {where}" if where else "")
    )
    least, greatest = (
        wrapped(end, max_bytes=_SHOWN_BYTES, text_as_bytes=True) for end in ("lo", "hi")
    )
    outer = f"SELECT n, d, z, e, {least}, {greatest}, s, m FROM ({inner})"
    try:
        row = connection.execute(outer.format(sum="sum"), parameters).fetchone()
    except apsw.SQLError as error:
        if "overflow" not in str(error):
            raise
        row = connection.execute(outer.format(sum="total"), parameters).fetchone()
    rows, distinct, nulls, empty, lowest, highest, total, mean = unwrapped(
        cast("tuple[Any, ...]", row), encoding
    )
    return Tally(
        cast(int, rows),
        cast(int, distinct),
        cast(int, nulls),
        int(cast(float, empty)),
        lowest,
        highest,
        cast("int | float | None", total),
        cast("float | None", mean),
    )


def find_text(
    connection: apsw.Connection, encoding: str, table: Table, text: str, whole: bool
) -> Iterator[Hit]:
    """See ``Database.find_text``."""
    names = table.column_names
    tests = [_test(name, text, whole) for name in names]
    if not tests:
        return
    where = either(tests)
    flags = [_with_literals(test) for test in tests]
    values = [wrapped(name, max_bytes=_SHOWN_BYTES, text_as_bytes=True) for name in names]
    positions = [
        wrapped(name, max_bytes=None, text_as_bytes=True) for name in table.position_columns
    ]
    with selected(
        connection,
        source_of(table),
        [*positions, *flags, *values],
        where=_with_literals(where),
        order=order_sql(table, (), total=True),
    ) as rows:
        width, count = len(positions), len(names)
        for row in rows:
            position = cast(Position, unwrapped(row[:width], encoding))
            shown = unwrapped(row[width + count :], encoding)
            for index, flag in enumerate(row[width : width + count]):
                if flag:
                    yield Hit(position, names[index], shown[index])


def _test(column: str, text: str, whole: bool) -> Statement:
    if not whole:
        return word_sql(column, text)
    test = Statement((f"CAST({quoted(column)} AS TEXT) = ",)) + Statement.value(text)
    return test + " COLLATE NOCASE"


def _with_literals(statement: Statement) -> str:
    """With its with literals, for what is read by several statements in step."""
    pieces = [statement.texts[0]]
    for argument, text in zip(statement.arguments, statement.texts[1:], strict=True):
        # The text was typed by a person; a NUL cannot be in it.
        value = str(argument.value).replace("\x00", "").replace("'", "''")
        pieces += [f"'{value}'", text]
    return "".join(pieces)
