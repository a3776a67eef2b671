"""Counts the rows of tables: at a glance, or exactly with what helps to find one by its place."""

from __future__ import annotations

from typing import cast

import apsw

from jondel.core.engines.protocol import LANDMARK_ROWS, Extent
from jondel.core.engines.sqlite.sql_text import (
    parameters,
    quoted,
    quoted_list,
    row_comparison,
    select,
    source_of,
    unwrapped,
    ways_to_read,
    wrapped,
)
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table

_COUNTED_AT_ONCE = 20_000
"""So many rows are counted in no time."""


def measured_quickly(connection: apsw.Connection, table: Table) -> Extent:
    """Count a small table exactly, and estimate how large a large one is."""
    source = source_of(table)
    bounded = f"SELECT 1 FROM {source} LIMIT {_COUNTED_AT_ONCE + 1}"
    rows = cast(int, connection.execute(f"SELECT count(*) FROM ({bounded})").get)
    if rows <= _COUNTED_AT_ONCE:
        return Extent(rows, _dense_from(connection, table, rows))
    if table.row_id is None or table.kind != "table":
        return Extent(rows, precision="at least")
    row_id = quoted(table.row_id)
    first, last = _ends(connection, table)
    passed = connection.execute(
        f"SELECT {row_id} FROM {source} ORDER BY {row_id} LIMIT 1 OFFSET {_COUNTED_AT_ONCE}"
    ).get
    # As close together on the whole as the table has them.
    share = (_COUNTED_AT_ONCE + 1) / (cast(int, passed) - first + 1)
    return Extent(max(rows, round((last - first + 1) * share)), precision="estimate")


def measured(connection: apsw.Connection, encoding: str, table: Table) -> Extent:
    """Count exactly; where row numbers have gaps, with landmarks."""
    source = source_of(table)
    rows = cast(int, connection.execute(f"SELECT count(*) FROM {source}").get)
    dense = _dense_from(connection, table, rows)
    if (
        dense is not None
        or rows <= LANDMARK_ROWS
        or table.kind != "table"
        or not table.position_columns
    ):
        return Extent(rows, dense)
    for as_bytes in ways_to_read(encoding):
        try:
            marks, last = _landmarks(connection, encoding, table, as_bytes=as_bytes)
            break
        except UnicodeDecodeError:
            continue
    # All of it is as of the landmarks, should something be committed in between.
    rest = 0
    if last:
        later = row_comparison(table.position_columns, ">", last)
        behind = select(source_of(table), ["count(*)"], where=later)
        rest = cast(int, connection.execute(behind, parameters(last)).get)
    return Extent(len(marks) * LANDMARK_ROWS + rest, landmarks=tuple(marks))


def _dense_from(connection: apsw.Connection, table: Table, rows: int) -> int | None:
    """The first row number, where all follow without a gap."""
    if table.row_id is None or table.kind != "table" or not rows:
        return None
    first, last = _ends(connection, table)
    return first if last - first + 1 == rows else None


def _ends(connection: apsw.Connection, table: Table) -> tuple[int, int]:
    source, row_id = source_of(table), quoted(table.row_id or "")
    # Each by itself: together they would be found by reading the whole table.
    first = connection.execute(f"SELECT min({row_id}) FROM {source}").get
    last = connection.execute(f"SELECT max({row_id}) FROM {source}").get
    return cast(int, first or 0), cast(int, last or 0)


def _landmarks(
    connection: apsw.Connection, encoding: str, table: Table, *, as_bytes: bool
) -> tuple[list[Position], Position | None]:
    """The last position of every full stretch of rows, and that of the last stretch."""
    columns = table.position_columns
    step = f"LIMIT 1 OFFSET {LANDMARK_ROWS - 1}"
    values = [wrapped(name, max_bytes=None, text_as_bytes=as_bytes) for name in columns]
    start = f"SELECT {', '.join(values)} FROM {source_of(table)}"
    order = f"ORDER BY {quoted_list(columns)}"
    row = connection.execute(f"{start} {order} {step}").fetchone()
    marks: list[Position] = []
    while row is not None:
        last = cast(Position, unwrapped(row, encoding))
        marks.append(last)
        going_on = f"{start} WHERE {row_comparison(columns, '>', last)} {order} {step}"
        row = connection.execute(going_on, parameters(last)).fetchone()
    return marks, marks[-1] if marks else None
