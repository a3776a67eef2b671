"""Inserts many rows into a table; those that it does not take are told one by one.

Rows go in by COPY, many at once, each time under a savepoint. Where that fails for something about
a row, the rows are halved until it is found.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import psycopg

from jondel.core.engines.postgresql.connection import Connection, words_with_hint
from jondel.core.engines.postgresql.copying import copy_line
from jondel.core.engines.postgresql.sql_text import named, quoted, quoted_list, unmarked
from jondel.core.errors import Cancelled
from jondel.core.model.bulk import BulkRows
from jondel.core.model.values import Row

_ROWS_AT_ONCE = 5_000
_CLASSES_OF_ROWS = ("22", "23")
"""Classes of what the server says where it is a row that it does not take: data, and integrity
(https://www.postgresql.org/docs/current/errcodes-appendix.html)."""
_STATES_OF_ROWS = frozenset({"P0001", "54000"})
"""The same: what a trigger raises, and a row that is too large for an index."""


class _Rows(NamedTuple):
    columns: tuple[str, ...]
    numbers: Sequence[int]
    rows: Sequence[Row]


class BulkLoad:
    """Inserts rows on a connection, within a transaction that is under way."""

    def __init__(self, connection: Connection, rows: BulkRows) -> None:
        self._connection, self._rows = connection, rows
        self._table = unmarked(named(rows.table))
        self._inserted = 0
        self._given: dict[str, None] = {}
        self._points_at_itself = self._has_link_to_itself()
        self._waiting: list[_Rows] = []

    def run(self) -> int:
        """Insert all; returns how many went in.

        Raises:
            Cancelled: that was asked for.
            psycopg.Error: it is not one row that is at fault.
            ImportFailed: they cannot be read on.
        """
        for columns, numbers, rows in self._rows.batches():
            self._given.update(dict.fromkeys(columns))
            for at in range(0, len(rows), _ROWS_AT_ONCE):
                some = slice(at, at + _ROWS_AT_ONCE)
                self._insert(_Rows(columns, numbers[some], rows[some]))
                self._rows.inserted(self._inserted)
        self._try_waiting()
        return self._inserted

    def move_sequences(self) -> list[str]:
        """Have the sequences that number rows go on after the numbers that were given; returns what
        is to be known of it. It outlives a rollback."""
        notes = []
        for column in self._given:
            found = self._connection.execute(
                "SELECT pg_get_serial_sequence(%s, %s)", (self._table, column)
            ).fetchone()
            if found is None or found[0] is None:
                continue
            sequence = found[0].decode()
            moved = self._moved(sequence, column)
            if moved:
                notes.append(moved)
        return notes

    def _moved(self, sequence: str, column: str) -> str:
        name = unmarked(quoted(column))
        try:
            with self._connection.transaction():
                found = self._connection.execute(
                    f"SELECT setval('{sequence.replace(chr(39), chr(39) * 2)}', m) "
                    f"FROM (SELECT max({name}) AS m FROM {self._table}) AS t, {sequence} AS s "
                    "WHERE m > s.last_value OR (m = s.last_value AND NOT s.is_called)"
                ).fetchone()
        except psycopg.errors.InsufficientPrivilege:
            return f"{sequence} stays where it is: the user may not set it"
        return f"numbers of {column} go on after {found[0].decode()}" if found else ""

    def _insert(self, rows: _Rows) -> None:
        """Insert some rows, or halves of them where there is one that does not go in."""
        error = self._copy(rows)
        if error is None:
            self._inserted += len(rows.rows)
            return
        if len(rows.rows) == 1:
            self._refuse(rows, error)
            return
        middle = len(rows.rows) // 2
        for part in (slice(0, middle), slice(middle, None)):
            self._insert(_Rows(rows.columns, rows.numbers[part], rows.rows[part]))

    def _copy(self, rows: _Rows) -> str | None:
        """Insert all of some rows, or none; returns why not."""
        try:
            block = b"".join(map(copy_line, rows.rows))
        except ValueError as error:
            return str(error)
        columns = f" ({unmarked(quoted_list(rows.columns))})" if rows.columns else ""
        try:
            with self._connection.transaction(), self._connection.cursor() as cursor:
                if not columns:
                    for _ in rows.rows:
                        cursor.execute(f"INSERT INTO {self._table} DEFAULT VALUES")
                    return None
                with cursor.copy(f"COPY {self._table}{columns} FROM STDIN") as copy:
                    copy.write(block)
                if cursor.rowcount != len(rows.rows):
                    raise _LeftOut
        except _LeftOut:
            return "the database left it out (a trigger or a rule)"
        except psycopg.errors.QueryCanceled as error:
            raise Cancelled("stopped") from error
        except psycopg.Error as error:
            state = error.sqlstate or ""
            if state[:2] not in _CLASSES_OF_ROWS and state not in _STATES_OF_ROWS:
                raise
            points_at_nothing = isinstance(error, psycopg.errors.ForeignKeyViolation)
            may_wait = points_at_nothing and len(rows.rows) == 1 and self._points_at_itself
            if may_wait and self._rows.hold(rows.numbers[0]):
                self._waiting.append(rows)
                return ""
            detail = error.diag.message_detail
            words = words_with_hint(error)
            return f"{words} ({detail.rstrip('.')})" if detail else words
        return None

    def _refuse(self, rows: _Rows, reason: str) -> None:
        if reason:  # else it waits
            self._rows.refused(rows.numbers[0], reason)

    def _try_waiting(self) -> None:
        """Try rows again that others may have been there for since; as long as that helps."""
        while self._waiting:
            waiting, self._waiting = self._waiting, []
            before = self._inserted
            for rows in waiting:
                self._insert(rows)
            self._rows.inserted(self._inserted)
            if self._inserted == before:
                self._points_at_itself = False
                waiting, self._waiting = self._waiting, []
                for rows in waiting:
                    self._insert(rows)

    def _has_link_to_itself(self) -> bool:
        found = self._connection.execute(
            "SELECT 1 FROM pg_constraint WHERE contype = 'f' AND conrelid = confrelid "
            "AND conrelid = to_regclass(%s)",
            (self._table,),
        ).fetchone()
        return found is not None


class _LeftOut(Exception):
    """Fewer rows went in than were given."""
