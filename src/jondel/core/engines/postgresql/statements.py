"""Runs statements that a person wrote, in a transaction that only reads."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import count
from typing import Any

import psycopg

from jondel.core.engines.postgresql.connection import Connection, words_with_hint
from jondel.core.engines.postgresql.dialect import DIALECT
from jondel.core.engines.postgresql.outside_effects import outside_effect
from jondel.core.engines.postgresql.plans import plan_of
from jondel.core.engines.postgresql.result_columns import ResultReading
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.postgresql.sql_text import argument
from jondel.core.engines.protocol import Database
from jondel.core.errors import NotOnlyReading, StatementFailed, StatementRefused, WouldWrite
from jondel.core.model.outcomes import CollectedRows, ResultSink, StatementError
from jondel.core.model.plans import PlanStep
from jondel.core.model.rows import ResultRows
from jondel.core.model.statements import Statement
from jondel.core.sql.tokens import without_comments

_READING = ("SELECT", "WITH", "VALUES", "TABLE", "SHOW", "EXPLAIN", "(")
_WITH_CURSOR = ("SELECT", "WITH", "VALUES", "TABLE", "(")
_FIRST_ROWS, _ROWS_AT_ONCE = 100, 1000
_numbers = count(1)


class ServerStatements:
    """See ``StatementRunner``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def execute(
        self,
        sql: str,
        *,
        limit: int | None = None,
        beside: Mapping[str, Database] | None = None,
    ) -> ResultRows:
        """See ``StatementRunner.execute``."""
        rows = CollectedRows(limit)
        try:
            self.stream(Statement((sql,)), rows, beside=beside)
        except StatementFailed as error:
            raise error.placed_in(sql) from error
        return rows.result()

    def stream(
        self,
        statement: Statement,
        sink: ResultSink,
        *,
        beside: Mapping[str, Database] | None = None,
    ) -> None:
        """See ``StatementRunner.stream``."""
        first = _check(statement, beside or {})
        with self._session.asking() as connection, connection.transaction():
            # Names mean what they mean to the app of the user who is connected.
            connection.execute("SET LOCAL search_path TO DEFAULT")
            try:
                stream_rows(connection, statement, sink, by_cursor=first in _WITH_CURSOR)
            except psycopg.errors.ReadOnlySqlTransaction as error:
                raise WouldWrite from error

    def plan(self, statement: Statement, *, measured: bool = False) -> tuple[PlanStep, ...]:
        """See ``StatementRunner.plan``."""
        before = f"EXPLAIN ({'ANALYZE, ' if measured else ''}FORMAT JSON) "
        with self._session.asking() as connection, connection.transaction(force_rollback=True):
            connection.execute("SET LOCAL search_path TO DEFAULT")
            try:
                found = run(connection, before, statement).fetchone()
            except psycopg.errors.ReadOnlySqlTransaction as error:
                raise StatementRefused(
                    "it writes, so it is not run to be measured; ask for the plan alone"
                ) from error
            except psycopg.errors.DatabaseError as error:
                raise failed(error, statement, before) from error
        return plan_of(found[0].decode()) if found is not None else ()

    def check(self, statement: Statement) -> StatementError | None:
        """See ``StatementRunner.check``: the server parses it."""
        if "\0" in statement.text():
            return StatementError("the statement holds a NUL character")
        sql = "".join(
            f"{text}${number}" if number <= len(statement.arguments) else text
            for number, text in enumerate(statement.texts, 1)
        )
        with self._session.asking() as connection, connection.transaction(force_rollback=True):
            connection.execute("SET LOCAL search_path TO DEFAULT")
            result = connection.pgconn.prepare(b"", sql.encode())
            if result.status == psycopg.pq.ExecStatus.COMMAND_OK:
                return None
            error = psycopg.errors.error_from_result(result)
        if isinstance(error, _CANNOT_TELL):
            return None
        told = failed(error, statement, "")
        return StatementError(str(told), told.at)


_CANNOT_TELL = (
    psycopg.errors.IndeterminateDatatype,
    psycopg.errors.AmbiguousParameter,
    psycopg.errors.InsufficientPrivilege,
    psycopg.errors.LockNotAvailable,
)


def stream_rows(
    connection: Connection, statement: Statement, sink: ResultSink, *, by_cursor: bool
) -> None:
    """Run a statement and hand its rows on as they come.

    Raises:
        StatementRefused: it gives no rows, or is more than one.
        StatementFailed: the server's words, and where in the statement.
        psycopg.Error: anything else.
    """
    name = f"jondel_{next(_numbers)}"
    before = f"DECLARE {name} NO SCROLL CURSOR FOR " if by_cursor else ""
    try:
        cursor = run(connection, before, statement)
    except psycopg.errors.SyntaxError as error:
        if error.diag.statement_position is None:  # the only one that is in no place
            raise StatementRefused("give exactly one statement") from error
        raise failed(error, statement, before) from error
    except psycopg.errors.FeatureNotSupported as error:
        if by_cursor and "DECLARE CURSOR" in str(error):
            raise WouldWrite from error
        raise failed(error, statement, before) from error
    except psycopg.errors.DatabaseError as error:
        if error.diag.statement_position is None:
            raise
        raise failed(error, statement, before) from error
    if not by_cursor:
        if cursor.description is None:
            raise StatementRefused("the statement gives no rows; give one that reads")
        hand_on(connection, cursor, sink)
        return
    try:
        cursor = connection.execute(f"FETCH {_FIRST_ROWS} FROM {name}")
        reading = ResultReading(connection, cursor)
        sink.begin(reading.columns)
        while rows := cursor.fetchall():
            if not sink.take(reading.rows(rows)):
                after = connection.execute(f"FETCH 1 FROM {name}").fetchall()
                sink.end(complete=not after)
                return
            cursor = connection.execute(f"FETCH {_ROWS_AT_ONCE} FROM {name}")
        sink.end(complete=True)
    except psycopg.errors.DatabaseError as error:
        if error.diag.statement_position is None and isinstance(error, psycopg.errors.DataError):
            raise failed(error, statement, before) from error
        raise


def hand_on(connection: Connection, cursor: psycopg.Cursor[Any], sink: ResultSink) -> None:
    """Hand the rows of a statement on that was run at once."""
    reading = ResultReading(connection, cursor)
    sink.begin(reading.columns)
    while rows := cursor.fetchmany(_ROWS_AT_ONCE):
        if not sink.take(reading.rows(rows)):
            sink.end(complete=cursor.fetchone() is None)
            return
    sink.end(complete=True)


def run(connection: Connection, before: str, statement: Statement) -> psycopg.Cursor[Any]:
    """Run a statement, with its values kept apart; ``before`` stands before it."""
    if not statement.arguments:
        # As it is: without arguments the driver takes percent signs as they are. Prepared, so that
        # it can only be one.
        return connection.execute(before + statement.texts[0], prepare=True)
    sql = "%s".join(text.replace("%", "%%") for text in statement.texts)
    values = [argument(value) for value in statement.values]
    return connection.execute(before + sql, values, prepare=True)


def failed(error: psycopg.Error, statement: Statement, before: str) -> StatementFailed:
    """What the server says of a statement, and where in it."""
    position = error.diag.statement_position
    at = None
    if position is not None and position.isdecimal():
        marks = [f"${number}" for number in range(1, len(statement.arguments) + 1)]
        at = statement.place(max(0, int(position) - 1 - len(before)), marks)
    return StatementFailed(words_with_hint(error), at)


def _check(statement: Statement, beside: Mapping[str, Database]) -> str:
    """The first word of a statement that may be run here."""
    if beside:
        names = ", ".join(sorted(beside))
        raise StatementRefused(
            f"{names}: the server knows no snapshots; ask one by itself, with --at {names}"
        )
    tokens = without_comments(statement.text(), DIALECT.lexis)
    if not tokens:
        raise StatementRefused("give exactly one statement")
    if not tokens[0].says(*_READING):
        raise NotOnlyReading(
            f"{tokens[0].text.upper()[:40]} is not possible here; give a statement that reads"
        )
    if any("\0" in token.text for token in tokens):
        raise StatementFailed("the statement holds a NUL character")
    if outside_effect(statement.text()):
        raise WouldWrite
    return tokens[0].text.upper()
