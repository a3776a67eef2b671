"""Tells where rows that are not in a table would stand among those that are.

Which of them a filter finds, and in which order they are themselves, SQLite says of a scratch table
that is declared like the real one, so that types and collations count as they do there.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from typing import Any, cast

import apsw

from jondel.core.engines.sqlite.condition_sql import order_columns, order_sql
from jondel.core.engines.sqlite.row_orders import conditions
from jondel.core.engines.sqlite.sql_text import mark_of, parameter_of, quoted, quoted_list
from jondel.core.model.filters import Arrangement
from jondel.core.model.ordering import sort_key
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import Row, StoredValue

OpenScratch = Callable[[], apsw.Connection]


def in_order(
    open_scratch: OpenScratch,
    declared: str | None,
    table: Table,
    arrangement: Arrangement,
    rows: Sequence[tuple[Position, Row]],
) -> list[int]:
    """The indexes of the rows that an arrangement would show, in its order.

    ``declared`` is the statement that made the table. Where a scratch table cannot be made of it,
    all rows are taken to be shown, in the order of their positions.
    """
    try:
        with closing(open_scratch()) as scratch:
            return _asked(scratch, declared or "", table, arrangement, rows)
    except (apsw.Error, UnicodeDecodeError):
        return sorted(range(len(rows)), key=lambda index: sort_key(rows[index][0]))


def _asked(
    scratch: apsw.Connection,
    declared: str,
    table: Table,
    arrangement: Arrangement,
    rows: Sequence[tuple[Position, Row]],
) -> list[int]:
    scratch.config(apsw.SQLITE_DBCONFIG_ENABLE_FKEY, 0)
    scratch.execute("PRAGMA ignore_check_constraints=ON")
    scratch.execute(declared)
    stored = [index for index, column in enumerate(table.columns) if not column.generated]
    names = [table.column_names[index] for index in stored]
    with_number = table.row_id is not None and table.row_id not in names
    if with_number:
        names.insert(0, cast(str, table.row_id))
    places: dict[Position, int] = {}
    for index, (position, row) in enumerate(rows):
        values = [row[at] for at in stored]
        if with_number:
            values.insert(0, position[0])
        marks = ", ".join(map(mark_of, values))
        scratch.execute(
            f"INSERT OR REPLACE INTO {quoted(table.name)}({quoted_list(names)}) VALUES ({marks})",
            [parameter_of(value) for value in values],
        )
        places[position] = index
    where = conditions(table, arrangement)
    sql = f"SELECT {quoted_list(table.position_columns)} FROM {quoted(table.name)}"
    sql += f" WHERE {where.text()}" if where is not None else ""
    sql += f" ORDER BY {order_sql(table, arrangement.order, total=True)}"
    answers = scratch.execute(sql, cast(Any, where.values if where is not None else ()))
    return [places[cast(Position, position)] for position in answers if position in places]


def comes_before(table: Table, arrangement: Arrangement, position: Position, row: Row) -> Statement:
    """An expression that says of a row of the table whether it comes before an absent one."""
    values = {**dict(zip(table.position_columns, position, strict=True))}
    values |= dict(zip(table.column_names, row, strict=True))
    before: Statement | None = None
    for name, down in reversed(order_columns(table, arrangement.order)):
        before = _before(quoted(name), values[name], down, before)
    assert before is not None, "a table whose rows have positions has an order"
    return before


def _before(name: str, value: StoredValue, down: bool, among_equals: Statement | None) -> Statement:
    """Before in one column, or equal in it and before in the rest; NULL comes first of all."""
    bound = Statement.value(parameter_of(value))
    if value is None:
        earlier = Statement((f"{name} IS NOT NULL" if down else "FALSE",))
    else:
        compared = Statement((f"{name} {'>' if down else '<'} ",)) + _marked(value, bound)
        earlier = compared if down else Statement((f"{name} IS NULL OR ",)) + compared
    earlier = Statement(("((",)) + earlier + ") IS TRUE"
    if among_equals is None:
        return earlier + ")"
    equal = Statement((f"{name} IS ",)) + _marked(value, bound)
    return earlier + " OR (" + equal + " AND " + among_equals + "))"


def _marked(value: StoredValue, bound: Statement) -> Statement:
    if mark_of(value) == "?":
        return bound
    return Statement(("CAST(",)) + bound + " AS TEXT)"
