"""Runs statements that a person wrote, after making sure that they only read."""

from __future__ import annotations

from contextlib import closing
from itertools import islice
from typing import TYPE_CHECKING

import apsw

from jondel.core.errors import StatementRefused
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
_REFUSED_ACTIONS = frozenset(
    {apsw.SQLITE_ATTACH, apsw.SQLITE_DETACH, apsw.SQLITE_TRANSACTION, apsw.SQLITE_SAVEPOINT}
)


def single_reading_statement(connection: apsw.Connection, sql: str) -> str:
    """Check that the text is one statement that only reads, and return it.

    Raises:
        StatementRefused: it is not one, or it would write or set something.
    """
    from apsw.ext import query_info  # slow to import and needed only here

    rest = sql
    found: list[str] = []
    while rest.strip() and len(found) < 2:
        try:
            details = query_info(connection, rest, actions=True)
        except apsw.SQLError:
            found.append(rest)  # running it gives the engine's own message
            break
        if details.has_vdbe:
            _check_only_reads(details)
            found.append(details.first_query)
        rest = details.query_remaining or ""
    if len(found) != 1:
        raise StatementRefused("give exactly one statement")
    return found[0]


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
    complete = limit is None or len(rows) <= limit
    return ResultRows(columns, tuple(rows[:limit]), complete)


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
