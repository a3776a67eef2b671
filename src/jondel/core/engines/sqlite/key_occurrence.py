"""Looks for many keys in one pass over a table, which need not be indexed by them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

import apsw

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
    # BINARY because keys equal under a collation are different keys.
    holds = " AND ".join(f"t.{quoted(c)} = k.{n} COLLATE BINARY" for c, n in pairs)
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
