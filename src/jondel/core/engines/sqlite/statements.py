"""Runs statements that a person wrote, after making sure that they only read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence, Set
from contextlib import suppress
from types import MappingProxyType
from typing import TYPE_CHECKING

import apsw

from jondel.core.engines.sqlite.script_run import error_of, executed_text, stream_rows
from jondel.core.engines.sqlite.sql_text import unwrapped, wrapped
from jondel.core.errors import NotOnlyReading, StatementFailed, StatementRefused, WouldWrite
from jondel.core.model.outcomes import (
    CollectedRows,
    ResultColumn,
    ResultSink,
    ScriptStatement,
    StatementError,
)
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow

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
    connection: apsw.Connection,
    statement: Statement,
    scanned: Mapping[str, Set[str]] = MappingProxyType({}),
) -> Statement:
    """Check that it is one statement that only reads, and return it.

    ``scanned`` are, by schema, tables that it may only read by way of the temporary views that
    stand for them, see ``unknown_order``.

    Raises:
        StatementRefused: it is not one, or it would write or set something, or seek in a table
            whose order only the app knows.
    """
    from apsw.ext import query_info  # slow to import and needed only here

    rest = executed_text(statement)
    if "\0" in rest:
        raise StatementFailed("the statement holds a NUL character", rest.index("\0"))
    found = 0
    while rest.strip() and found < 2:
        try:
            details = query_info(connection, rest, actions=True)
        except apsw.SQLError:
            found += 1  # running it gives the engine's own message
            break
        if details.has_vdbe:
            _check_only_reads(details)
            _check_scans(details, scanned)
            found += 1
        rest = details.query_remaining or ""
    if found != 1:
        raise StatementRefused("give exactly one statement")
    return statement


def run_statement(
    connection: apsw.Connection, statement: Statement, sink: ResultSink, encoding: str
) -> None:
    """Run a checked statement; ``encoding`` is that of the database's texts.

    Raises:
        StatementRefused: it would write after all.
        StatementFailed: the engine's words, and where in the statement.
    """
    try:
        if encoding != "utf-8":
            with suppress(StatementFailed):
                _run_with_any_text(connection, statement, sink, encoding)
                return
        stream_rows(connection, statement, _Renaming(sink, statement))
    except apsw.ReadOnlyError as error:
        raise WouldWrite from error
    except UnicodeDecodeError:
        _run_with_any_text(connection, statement, sink, encoding)
    except apsw.SQLError as error:
        told = error_of(error, ScriptStatement(statement, ""))
        raise StatementFailed(told.message, at=told.at) from error


def check_statement(connection: apsw.Connection, statement: Statement) -> StatementError | None:
    """See ``StatementRunner.check``."""
    from apsw.ext import query_info

    if "\0" in statement.text():
        return StatementError("the statement holds a NUL character", statement.text().index("\0"))
    try:
        query_info(connection, executed_text(statement))
    except apsw.ReadOnlyError:
        return None
    except apsw.SQLError as error:
        return error_of(error, ScriptStatement(statement, ""))
    return None


class _Renaming:
    """A sink before another; SQLite has no name for what a file layer answers."""

    def __init__(self, sink: ResultSink, statement: Statement) -> None:
        self._sink, self._sql = sink, statement.texts[0]
        self.take, self.end = sink.take, sink.end

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        if _ASKS_JOURNAL_MODE.fullmatch(self._sql):
            columns = (ResultColumn("journal_mode"),)
        self._sink.begin(columns)


def _run_with_any_text(
    connection: apsw.Connection, statement: Statement, sink: ResultSink, encoding: str
) -> None:
    """The same for a result with text that is not valid; it takes longer.

    Raises:
        StatementFailed: it is a statement of which that cannot be had.
    """
    described = CollectedRows(0)
    with suppress(UnicodeDecodeError):
        stream_rows(connection, statement, described)
    names = [f"c{number}" for number in range(len(described.columns))]
    values = [wrapped(name, max_bytes=None, text_as_bytes=True) for name in names]
    # The line break ends a comment that may be the last of it.
    first, last = statement.texts[0].lstrip(), statement.texts[-1].rstrip().rstrip(";")
    texts = (first, *statement.texts[1:-1], last) if len(statement.texts) > 1 else (
        statement.texts[0].strip().rstrip(";"),
    )  # fmt: skip
    inner = Statement(texts, statement.arguments)
    before = Statement((f"WITH result({', '.join(names)}) AS (SELECT * FROM (",))
    sql = before + inner + f"\n) LIMIT -1 OFFSET 0) SELECT {', '.join(values)} FROM result"
    try:
        stream_rows(connection, sql, _Unwrapping(sink, described.columns, encoding))
    except apsw.SQLError as error:
        raise StatementFailed(
            "the result holds text that is not valid UTF-8; "
            "select CAST(column AS BLOB) to see its bytes"
        ) from error


class _Unwrapping:
    """A sink before another, that gives it what was wrapped."""

    def __init__(self, sink: ResultSink, columns: Sequence[ResultColumn], encoding: str) -> None:
        self._sink, self._columns, self._encoding = sink, columns, encoding
        self.end = sink.end

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self._sink.begin(self._columns)

    def take(self, rows: Sequence[ShownRow]) -> bool:
        return self._sink.take([unwrapped(row, self._encoding) for row in rows])


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
    if details.is_explain:
        return  # whatever it explains, that is not run
    if not details.is_readonly:
        raise WouldWrite
    for action in details.actions or ():
        if action.action in _REFUSED_ACTIONS:
            raise NotOnlyReading(
                f"{action.action_name.removeprefix('SQLITE_')} is not possible here; "
                "give a statement that reads"
            )
        sets = action.action == apsw.SQLITE_PRAGMA and action.pragma_value is not None
        if sets and str(action.pragma_name).lower() not in _HARMLESS_PRAGMAS:
            raise StatementRefused(
                f"PRAGMA {action.pragma_name} would set something; Jondel only reads here"
            )
