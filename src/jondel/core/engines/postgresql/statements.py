"""Runs statements that a person wrote, in a transaction that only reads."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import psycopg

from jondel.core.engines.postgresql.column_types import TypeFacts, column_type, value_of
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.protocol import Database
from jondel.core.errors import StatementFailed, StatementRefused
from jondel.core.model.column_types import ColumnType
from jondel.core.model.rows import ResultRows
from jondel.core.sql.tokens import without_comments

_READING = ("SELECT", "WITH", "VALUES", "TABLE", "SHOW", "EXPLAIN", "(")
_TYPES = """
SELECT oid, typname, typtype, typcategory = 'A', format_type(oid, NULL)
FROM pg_type WHERE oid = ANY(%s::oid[])
"""


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
        _check(sql, beside or {})
        with self._session.asking(sql) as connection, connection.transaction():
            # Names mean what they mean to the app of the user who is connected.
            connection.execute("SET LOCAL search_path TO DEFAULT")
            try:
                cursor = connection.execute(sql, prepare=True)
            except psycopg.errors.SyntaxError as error:
                if error.diag.statement_position is None:  # the only one that is in no place
                    raise StatementRefused("give exactly one statement") from error
                raise
            except psycopg.errors.ReadOnlySqlTransaction as error:
                raise StatementRefused(
                    "the statement would write; Jondel only reads here"
                ) from error
            if cursor.description is None:
                raise StatementRefused("the statement gives no rows; give one that reads")
            columns = tuple(column.name for column in cursor.description)
            numbers = [column.type_code for column in cursor.description]
            rows = cursor.fetchall() if limit is None else cursor.fetchmany(limit + 1)
            types = self._types(connection, numbers)
        complete = limit is None or len(rows) <= limit
        shown = tuple(
            tuple(value_of(types[number], part) for number, part in zip(numbers, row, strict=True))
            for row in rows[:limit]
        )
        return ResultRows(columns, shown, complete)

    @staticmethod
    def _types(connection: Connection, numbers: Sequence[int]) -> dict[int, ColumnType]:
        listed = f"{{{','.join(map(str, set(numbers)))}}}"
        found = connection.execute(_TYPES, (listed,)).fetchall()
        types = {
            int(oid): column_type(
                TypeFacts(shown.decode(), base.decode(), sort.decode(), array == b"t")
            )
            for oid, base, sort, array, shown in found
        }
        unknown = ColumnType("text", "text")
        return {number: types.get(number, unknown) for number in numbers}


def _check(sql: str, beside: Mapping[str, Database]) -> None:
    if beside:
        names = ", ".join(sorted(beside))
        raise StatementRefused(
            f"{names}: the server knows no snapshots; ask one by itself, with --at {names}"
        )
    tokens = without_comments(sql)
    if not tokens:
        raise StatementRefused("give exactly one statement")
    if not tokens[0].says(*_READING):
        raise StatementRefused(
            f"{tokens[0].text.upper()[:40]} is not possible here; give a statement that reads"
        )
    if any("\0" in token.text for token in tokens):
        raise StatementFailed("the statement holds a NUL character")
