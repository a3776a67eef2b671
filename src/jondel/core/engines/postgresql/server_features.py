"""What a server tells that speaks the protocol: not each one is made like the others.

Found by asking for it, once, and outside of any transaction, which an error would end.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import psycopg

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import source, unmarked
from jondel.core.model.schema import Table

_LACKING = (
    psycopg.errors.UndefinedColumn,
    psycopg.errors.UndefinedFunction,
    psycopg.errors.UndefinedObject,
    psycopg.errors.FeatureNotSupported,
    psycopg.errors.SyntaxError,
)
_SAMPLED_AT_ONCE = 50
_FIRST_NUMBER = 3
"""Smaller ones are no transaction's."""


class ServerFeatures(NamedTuple):
    """``numbers``: which transaction wrote each row, and which are over. ``copies``: rows can be
    copied out, which is quicker than selecting them."""

    numbers: bool
    copies: bool


def probe(connection: Connection, tables: Sequence[Table]) -> ServerFeatures:
    """Find out what a server tells, of some tables at least."""
    return ServerFeatures(_tells_numbers(connection, tables), _copies(connection))


def _tells_numbers(connection: Connection, tables: Sequence[Table]) -> bool:
    try:
        connection.execute("SELECT pg_current_snapshot()::text").fetchall()
        for first in range(0, len(tables), _SAMPLED_AT_ONCE):
            sampled = " UNION ALL ".join(
                f"(SELECT xmin::text, age(xmin) FROM {unmarked(source(table))} LIMIT 1)"
                for table in tables[first : first + _SAMPLED_AT_ONCE]
            )
            numbers = [int(number) for number, _ in connection.execute(sampled).fetchall()]
            if any(number < _FIRST_NUMBER for number in numbers):
                return False
    except _LACKING:
        return False
    return True


def _copies(connection: Connection) -> bool:
    try:
        with connection.cursor() as cursor, cursor.copy("COPY (SELECT 1) TO STDOUT") as copy:
            return b"".join(map(bytes, copy)) == b"1\n"
    except _LACKING:
        return False
