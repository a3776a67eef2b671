"""Runs statements that a person wrote, after making sure that they only read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Set
from contextlib import closing
from itertools import islice
from types import MappingProxyType
from typing import TYPE_CHECKING

import apsw

from jondel.core.engines.sqlite.sql_text import unwrapped, wrapped
from jondel.core.errors import StatementFailed, StatementRefused
from jondel.core.model.rows import ResultRows

if TYPE_CHECKING:
    from apsw.ext import QueryDetails

_HARMLESS_PRAGMAS = frozenset(
    {
        "foreign_key_check",
        "foreign_key_list",
        "index_info",
        "index_list",
        "index_xinfo",
        "integrity_check",
        "quick_check",
        "table_info",
        "table_list",
        "table_xinfo",
    }
)
"""Pragmas that may be given an argument; with one, most others would set something."""
_ASKS_JOURNAL_MODE = re.compile(r"\s*PRAGMA\s+(\w+\.)?journal_mode\s*;?\s*", re.IGNORECASE)
_REFUSED_ACTIONS = frozenset(
    {apsw.SQLITE_ATTACH, apsw.SQLITE_DETACH, apsw.SQLITE_TRANSACTION, apsw.SQLITE_SAVEPOINT}
)


def single_reading_statement(
    connection: apsw.Connection, sql: str, scanned: Mapping[str, Set[str]] = MappingProxyType({})
) -> str:
    """Check that the text is one statement that only reads, and return it.

    ``scanned`` are, by schema, tables that it may only read by way of the temporary views that
    stand for them, see ``unknown_order``.

    Raises:
        StatementRefused: it is not one, or it would write or set something, or seek in a table
            whose order only the app knows.
    """
    from apsw.ext import query_info  # slow to import and needed only here

    rest = sql
    statements: list[str] = []
    while rest.strip() and len(statements) < 2:
        try:
            details = query_info(connection, rest, actions=True)
        except apsw.SQLError:
            statements.append(rest)  # running it gives the engine's own message
            break
        if details.has_vdbe:
            _check_only_reads(details)
            _check_scans(details, scanned)
            statements.append(details.first_query)
        rest = details.query_remaining or ""
    if len(statements) != 1:
        raise StatementRefused("give exactly one statement")
    return statements[0]


def run_statement(connection: apsw.Connection, statement: str, limit: int | None) -> ResultRows:
    """Run a checked statement and return at most ``limit`` rows."""
    cursor = connection.execute(statement)
    with closing(cursor):
        try:
            description = cursor.get_description()
        except apsw.ExecutionCompleteError:
            from apsw.ext import query_info  # slow to import and seldom needed

            # apsw forgets the columns of a statement that returned no row.
            info = query_info(connection, statement)
            description = info.description
        columns = tuple(entry[0] for entry in description)
        wanted = None if limit is None else limit + 1
        rows = list(islice(cursor, wanted))
    if _ASKS_JOURNAL_MODE.fullmatch(statement):
        columns = ("journal_mode",)  # SQLite has no name for what a file layer answers
    complete = limit is None or len(rows) <= limit
    return ResultRows(columns, tuple(rows[:limit]), complete)


def run_with_any_text(
    connection: apsw.Connection, statement: str, limit: int | None, encoding: str
) -> ResultRows:
    """The same for a result with text that is not valid; it takes longer.

    Raises:
        StatementFailed: it is a statement of which that cannot be had.
    """
    from apsw.ext import query_info  # slow to import and seldom needed

    columns = tuple(entry[0] for entry in query_info(connection, statement).description)
    names = [f"c{number}" for number in range(len(columns))]
    values = [wrapped(name, max_bytes=None, text_as_bytes=True) for name in names]
    # The line break ends a comment that may be the last of it.
    inner = statement.strip().rstrip(";")
    sql = (
        f"WITH result({', '.join(names)}) AS (SELECT * FROM ({inner}\n) LIMIT -1 OFFSET 0) "
        f"SELECT {', '.join(values)} FROM result"
    )
    try:
        result = run_statement(connection, sql, limit)
    except apsw.SQLError as error:
        raise StatementFailed(
            "the result holds text that is not valid UTF-8; "
            "select CAST(column AS BLOB) to see its bytes"
        ) from error
    rows = tuple(unwrapped(row, encoding) for row in result.rows)
    return ResultRows(columns, rows, result.complete)


def _check_scans(details: QueryDetails, scanned: Mapping[str, Set[str]]) -> None:
    for action in details.actions or ():
        if action.action == apsw.SQLITE_PRAGMA and scanned.get("main"):
            _check_checks(str(action.pragma_name), action.pragma_value, scanned["main"])
        if action.action != apsw.SQLITE_READ:
            continue
        schema = str(action.database_name)
        by_itself = action.trigger_or_view is None or schema != "main"
        if by_itself and action.table_name in scanned.get(schema, ()):
            how = (
                "give its name without a schema"
                if schema == "main"
                else f"ask that snapshot by itself, with --at {schema}"
            )
            raise StatementRefused(
                f"{schema}.{action.table_name} is in an order that only the app knows, and could "
                f"miss rows; {how}"
            )


def _check_checks(pragma: str, table: str | None, scanned: Set[str]) -> None:
    if pragma.lower() in ("integrity_check", "quick_check") and (not table or table in scanned):
        raise StatementRefused(
            f"PRAGMA {pragma} would find tables out of order whose order only the app knows "
            f"({', '.join(sorted(scanned))}); name one of the others, as in {pragma}(name)"
        )


def _check_only_reads(details: QueryDetails) -> None:
    if not details.is_readonly:
        raise StatementRefused("the statement would write; Jondel only reads here")
    for action in details.actions or ():
        if action.action in _REFUSED_ACTIONS:
            raise StatementRefused(
                f"{action.action_name.removeprefix('SQLITE_')} is not possible here; "
                "give a statement that reads"
            )
        sets = action.action == apsw.SQLITE_PRAGMA and action.pragma_value is not None
        if sets and str(action.pragma_name).lower() not in _HARMLESS_PRAGMAS:
            raise StatementRefused(
                f"PRAGMA {action.pragma_name} would set something; Jondel only reads here"
            )
