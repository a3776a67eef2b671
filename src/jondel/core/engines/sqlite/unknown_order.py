"""Finds the tables whose order only the app knows: they are kept by a collation of its own.

Where the tree of a table or of one of its indexes is ordered by such a collation, a stand-in can
compare texts but not seek in the tree: rows would be missed without a word. Such tables are read by
scanning them, see ``sql_text.source_of``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from contextlib import suppress
from typing import Any

import apsw

from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.engines.sqlite.temporary_views import drop_views

BUILT_IN_COLLATIONS = ("BINARY", "NOCASE", "RTRIM")
_MENTIONED = re.compile(
    rf"\bcollate\b(?!\s+[\"'`\[]?(?:{'|'.join(BUILT_IN_COLLATIONS)})\b)", re.IGNORECASE
)


def tables_of_unknown_order(connection: apsw.Connection) -> dict[str, str]:
    """The tables of the main schema, each with a collation that only the app knows.

    Views that mention one of them are such too: what they read is put in order by it.
    """
    declared: list[tuple[Any, ...]] = connection.execute(
        "SELECT DISTINCT tbl_name, sql FROM sqlite_schema WHERE sql LIKE '%collate%'"
    ).fetchall()
    suspects = {name for name, sql in declared if _MENTIONED.search(sql)}
    tables: dict[str, str] = {}
    for name in sorted(suspects):
        try:
            ordered = connection.execute(
                "SELECT DISTINCT x.coll FROM pragma_index_list(?, 'main') l, "
                "pragma_index_xinfo(l.name, 'main') x WHERE x.key",
                (name,),
            ).fetchall()
        except apsw.Error:
            continue  # it cannot be read at all, which is found out elsewhere
        alien = [c for (c,) in ordered if c and str(c).upper() not in BUILT_IN_COLLATIONS]
        if alien:
            tables[name] = str(alien[0])
    return {**tables, **_views_on(connection, tables)} if tables else tables


def _views_on(connection: apsw.Connection, tables: dict[str, str]) -> dict[str, str]:
    """The views that mention one of the tables, or a view that does."""
    views: list[tuple[Any, ...]] = connection.execute(
        "SELECT name, sql FROM sqlite_schema WHERE type = 'view'"
    ).fetchall()
    known = dict(tables)
    found: dict[str, str] = {}
    while True:
        more = {
            name: next(known[k] for k in known if k.lower() in sql.lower())
            for name, sql in views
            if name not in found and any(k.lower() in sql.lower() for k in known)
        }
        if not more:
            return found
        found.update(more)
        known.update(more)


def shadow(connection: apsw.Connection, tables: Mapping[str, str]) -> None:
    """Have statements that name one of these tables or views scan it, whatever they ask of it.

    A temporary view of the same name comes before it. ``main.name`` is the table itself.
    """
    connection.execute("PRAGMA query_only=OFF")
    try:
        drop_views(connection)
        declared: list[tuple[Any, ...]] = connection.execute(
            "SELECT s.name, s.type, s.sql, l.wr FROM main.sqlite_schema s "
            "LEFT JOIN pragma_table_list l ON l.schema = 'main' AND l.name = s.name "
            "WHERE s.type IN ('table', 'view')"
        ).fetchall()
        for name, kind, sql, by_key in declared:
            if name not in tables:
                continue
            if kind == "view":
                # Its own words, in which the tables' names mean the views made here.
                made = re.sub(r"^\s*CREATE\s+VIEW", "CREATE TEMP VIEW", sql, count=1, flags=re.I)
            else:
                how = "LIMIT -1 OFFSET 0" if by_key else ""
                made = (
                    f"CREATE TEMP VIEW {quoted(name)} AS SELECT * FROM "
                    f"main.{quoted(name)} {'' if by_key else 'NOT INDEXED'} {how}"
                )
            with suppress(apsw.Error):  # a view that cannot be read says so when it is
                connection.execute(made)
    finally:
        connection.execute("PRAGMA query_only=ON")
