"""Counts the rows of tables: at a glance, or exactly with what helps to find one by its place."""

from __future__ import annotations

from typing import Any, cast

import apsw

from jondel.core.engines.protocol import LANDMARK_ROWS, Extent
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list, row_comparison, select
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table

_COUNTED_AT_ONCE = 20_000
"""So many rows are counted in no time."""


def measured_quickly(connection: apsw.Connection, table: Table) -> Extent:
    """Count a small table exactly, and estimate how large a large one is."""
    name = quoted(table.name)
    bounded = f"SELECT 1 FROM {name} LIMIT {_COUNTED_AT_ONCE + 1}"
    rows = cast(int, connection.execute(f"SELECT count(*) FROM ({bounded})").get)
    if rows <= _COUNTED_AT_ONCE:
        return Extent(rows, _dense_from(connection, table, rows))
    if table.row_id is None or table.kind != "table":
        return Extent(rows, precision="at least")
    row_id = quoted(table.row_id)
    first, last = _ends(connection, table)
    passed = connection.execute(
        f"SELECT {row_id} FROM {name} ORDER BY {row_id} LIMIT 1 OFFSET {_COUNTED_AT_ONCE}"
    ).get
    # As close together on the whole as in the beginning.
    share = (_COUNTED_AT_ONCE + 1) / (cast(int, passed) - first + 1)
    return Extent(max(rows, round((last - first + 1) * share)), precision="estimate")


def measured(connection: apsw.Connection, table: Table) -> Extent:
    """Count exactly; where row numbers have gaps, with landmarks."""
    name = quoted(table.name)
    rows = cast(int, connection.execute(f"SELECT count(*) FROM {name}").get)
    dense = _dense_from(connection, table, rows)
    if (
        dense is not None
        or rows <= LANDMARK_ROWS
        or table.kind != "table"
        or not table.position_columns
    ):
        return Extent(rows, dense)
    marks, last = _landmarks(connection, table)
    # All of it is as of the landmarks, should something be committed in between.
    behind = select(table.name, ["count(*)"], where=row_comparison(table.position_columns, ">"))
    rest = cast(int, connection.execute(behind, cast(Any, last)).get) if last else 0
    return Extent(len(marks) * LANDMARK_ROWS + rest, landmarks=tuple(marks))


def _dense_from(connection: apsw.Connection, table: Table, rows: int) -> int | None:
    """The first row number, where all follow without a gap."""
    if table.row_id is None or table.kind != "table" or not rows:
        return None
    first, last = _ends(connection, table)
    return first if last - first + 1 == rows else None


def _ends(connection: apsw.Connection, table: Table) -> tuple[int, int]:
    name, row_id = quoted(table.name), quoted(table.row_id or "")
    # Each by itself: together they would be found by reading the whole table.
    first = connection.execute(f"SELECT min({row_id}) FROM {name}").get
    last = connection.execute(f"SELECT max({row_id}) FROM {name}").get
    return cast(int, first or 0), cast(int, last or 0)


def _landmarks(connection: apsw.Connection, table: Table) -> tuple[list[Position], Position | None]:
    """The last position of every full stretch of rows, and that of the last stretch."""
    columns = table.position_columns
    step = f"LIMIT 1 OFFSET {LANDMARK_ROWS - 1}"
    start = f"SELECT {quoted_list(columns)} FROM {quoted(table.name)}"
    order = f"ORDER BY {quoted_list(columns)}"
    found = connection.execute(f"{start} {order} {step}").fetchone()
    going_on = f"{start} WHERE {row_comparison(columns, '>')} {order} {step}"
    marks: list[Position] = []
    while found is not None:
        marks.append(cast(Position, found))
        found = connection.execute(going_on, cast(Any, found)).fetchone()
    return marks, marks[-1] if marks else None
