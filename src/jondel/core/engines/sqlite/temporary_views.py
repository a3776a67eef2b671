"""Views that are there for one opening of a database alone, and change nothing about it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import apsw

from jondel.core.engines.sqlite.sql_text import quoted


def define_views(connection: apsw.Connection, views: Mapping[str, str]) -> None:
    """Have temporary views be these, by name and query, and no others."""
    connection.execute("PRAGMA query_only=OFF")
    try:
        drop_views(connection)
        for name, query in views.items():
            connection.execute(f"CREATE TEMP VIEW IF NOT EXISTS {quoted(name)} AS {query}")
    finally:
        connection.execute("PRAGMA query_only=ON")


def drop_views(connection: apsw.Connection) -> None:
    """Drop all temporary views."""
    stale: list[tuple[Any, ...]] = connection.execute(
        "SELECT name FROM temp.sqlite_schema WHERE type = 'view'"
    ).fetchall()
    for (name,) in stale:
        connection.execute(f"DROP VIEW temp.{quoted(name)}")
