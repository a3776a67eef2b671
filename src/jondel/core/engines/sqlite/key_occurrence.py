"""Looks for many keys in one pass over a table, which need not be indexed by them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from typing import cast

import apsw

from jondel.core.engines.sqlite.column_types import affinity_name
from jondel.core.engines.sqlite.connection import open_scratch
from jondel.core.engines.sqlite.sql_text import mark_of, parameters, quoted, source_of
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue

_MOST_PARAMETERS = 30_000
"""A statement takes no more than 32 766."""


def which_occur(
    connection: apsw.Connection,
    table: Table,
    columns: Sequence[str],
    keys: Sequence[Sequence[StoredValue]],
) -> set[int]:
    """See ``Database.which_occur``."""
    names = [f"v{n}" for n in range(len(columns))]
    pairs = zip(columns, names, strict=True)
    # BINARY because keys equal under a collation are different keys. With the plus no affinity is
    # applied to the keys, which they have by now: otherwise SQLite would make no index of them.
    holds = " AND ".join(f"+t.{quoted(c)} = k.{n} COLLATE BINARY" for c, n in pairs)
    keys = _as_compared(table, columns, keys)
    found: set[int] = set()
    at_once = _MOST_PARAMETERS // len(columns)
    for first in range(0, len(keys), at_once):
        some = keys[first : first + at_once]
        rows = ", ".join(
            f"({first + place}, {', '.join(map(mark_of, key))})" for place, key in enumerate(some)
        )
        # The table is gone through, and each row is looked for among the keys.
        sql = (
            f"WITH k(n, {', '.join(names)}) AS (VALUES {rows}) SELECT DISTINCT k.n "
            f"FROM {source_of(table)} t CROSS JOIN k ON {holds}"
        )
        values = parameters(value for key in some for value in key)
        found |= {cast(int, row[0]) for row in connection.execute(sql, values)}
    return found


def _as_compared(
    table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
) -> list[tuple[StoredValue, ...]]:
    """The keys as the columns' affinity has them be compared: in a text column 1 is '1'."""
    affinities = [_affinity(table, name) for name in columns]
    if all(affinity == "BLOB" for affinity in affinities):
        return [tuple(key) for key in keys]
    names = [f"v{n}" for n in range(len(columns))]
    declared = ", ".join(
        f"{name} {affinity}" for name, affinity in zip(names, affinities, strict=True)
    )
    with closing(open_scratch()) as scratch, scratch:
        scratch.execute(f"CREATE TABLE k(n INTEGER PRIMARY KEY, {declared})")
        scratch.executemany(
            f"INSERT INTO k({', '.join(names)}) VALUES ({', '.join('?' * len(names))})",
            (tuple(v if isinstance(v, int | float | str) else None for v in key) for key in keys),
        )
        converted = scratch.execute(f"SELECT {', '.join(names)} FROM k ORDER BY n").fetchall()
    return [
        tuple(
            cast(StoredValue, compared) if isinstance(value, int | float | str) else value
            for value, compared in zip(key, row, strict=True)
        )
        for key, row in zip(keys, converted, strict=True)
    ]


def _affinity(table: Table, name: str) -> str:
    column = table.column(name)
    return affinity_name(column.type.kind if column is not None else "integer")  # a row number
