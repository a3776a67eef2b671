"""Inserts many rows into a table; those that it does not take are told one by one."""

from __future__ import annotations

import re
import threading
from collections.abc import Sequence
from itertools import chain
from typing import Any, NamedTuple

import apsw

from jondel.core.engines.sqlite.sql_text import mark_of, parameters, quoted, quoted_list
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.model.bulk import BulkRows
from jondel.core.model.values import InvalidText, Row

_ROWS_AT_ONCE = 1_000
_DOES_MORE = re.compile(r"\bON\s+CONFLICT\b|^\s*CREATE\s+VIRTUAL\b", re.IGNORECASE)
"""In the declaration of a table: it settles conflicts by itself, or is kept in others."""
_OF_THE_ROW = (apsw.ConstraintError, apsw.MismatchError, apsw.TooBigError)
"""What the database says where it is a row that it does not take."""


class _Waiting(NamedTuple):
    """A row that points at one that is not there, perhaps not yet."""

    columns: tuple[str, ...]
    number: int
    row: Row


class BulkLoad:
    """Inserts rows on a connection, within a transaction that is under way."""

    def __init__(self, connection: apsw.Connection, rows: BulkRows, stop: threading.Event) -> None:
        self._connection, self._rows, self._stop = connection, rows, stop
        self._table = rows.table.name
        self._inserted = 0
        self._waiting: list[_Waiting] = []
        self._one_by_one = self._is_more_than_inserting()
        self._points_at_itself = any(
            str(link[2]).lower() == self._table.lower() for link in self._links()
        )

    def run(self) -> int:
        """Insert all; returns how many went in.

        Raises:
            Cancelled: that was asked for.
            apsw.Error: it is not one row that is at fault.
            ImportFailed: they cannot be read on.
        """
        for batch in self._rows.batches():
            for at in range(0, len(batch.rows), _ROWS_AT_ONCE):
                check_stop(self._stop)
                some = slice(at, at + _ROWS_AT_ONCE)
                self._insert(batch.columns, batch.numbers[some], batch.rows[some])
                self._rows.inserted(self._inserted)
        self._try_waiting()
        return self._inserted

    def _insert(
        self, columns: tuple[str, ...], numbers: Sequence[int], rows: Sequence[Row]
    ) -> None:
        if self._one_by_one or not columns or _holds_invalid(rows):
            for number, row in zip(numbers, rows, strict=True):
                self._insert_one(columns, number, row)
            return
        sql = self._statement(columns, ["?"] * len(columns))
        done = 0
        while done < len(rows):
            before = self._connection.total_changes()
            try:
                self._connection.executemany(sql, rows[done:] if done else rows)
            except _OF_THE_ROW as error:
                # Each row is a statement: what went in before the one at fault stays.
                went_in = self._connection.total_changes() - before
                self._inserted += went_in
                done += went_in
                self._refuse(columns, numbers[done], rows[done], error)
                done += 1
            else:
                self._inserted += len(rows) - done
                return

    def _insert_one(self, columns: tuple[str, ...], number: int, row: Row) -> None:
        if not columns:
            sql = f"INSERT INTO {quoted(self._table)} DEFAULT VALUES"
        else:
            sql = self._statement(columns, list(map(mark_of, row)))
        try:
            self._connection.execute(sql, parameters(row))
        except _OF_THE_ROW as error:
            self._refuse(columns, number, row, error)
            return
        if self._connection.changes():
            self._inserted += 1
        else:
            self._rows.refused(number, "the database left it out (a trigger or ON CONFLICT)")

    def _statement(self, columns: tuple[str, ...], marks: Sequence[str]) -> str:
        return (
            f"INSERT INTO {quoted(self._table)}({quoted_list(columns)}) VALUES ({', '.join(marks)})"
        )

    def _refuse(self, columns: tuple[str, ...], number: int, row: Row, error: apsw.Error) -> None:
        if not self._connection.in_transaction:
            raise error  # it rolled everything back
        points_at_nothing = getattr(error, "extendedresult", 0) == apsw.SQLITE_CONSTRAINT_FOREIGNKEY
        if points_at_nothing and self._points_at_itself and self._rows.hold(number):
            self._waiting.append(_Waiting(columns, number, row))
            return
        reason = self._dangling(columns, row) if points_at_nothing else ""
        self._rows.refused(number, reason or str(error))

    def _try_waiting(self) -> None:
        """Try rows again that others may have been there for since; as long as that helps."""
        while self._waiting:
            waiting, self._waiting = self._waiting, []
            before = self._inserted
            for entry in waiting:
                check_stop(self._stop)
                self._insert_one(*entry)
            self._rows.inserted(self._inserted)
            if self._inserted == before:
                self._points_at_itself = False
                for entry in self._waiting:
                    reason = self._dangling(entry.columns, entry.row)
                    self._rows.refused(entry.number, reason or "it points at nothing")
                self._waiting = []

    def _dangling(self, columns: tuple[str, ...], row: Row) -> str:
        """Which of a row's links leads to nothing, in words."""
        links: dict[int, list[tuple[str, str, str | None]]] = {}
        for number, _, parent, column, target, *_ in self._links():
            links.setdefault(number, []).append((parent, column, target))
        values = {name.casefold(): value for name, value in zip(columns, row, strict=True)}
        for parts in links.values():
            parent = parts[0][0]
            held = [values.get(column.casefold()) for _, column, _ in parts]
            if None in held:
                continue
            targets = [target for _, _, target in parts if target] or self._key_of(parent)
            where = " AND ".join(f"{quoted(name)} = ?" for name in targets)
            try:
                found = self._connection.execute(
                    f"SELECT 1 FROM {quoted(parent)} WHERE {where} LIMIT 1", parameters(held)
                ).fetchone()
            except apsw.Error:
                continue
            if found is None:
                names = ", ".join(column for _, column, _ in parts)
                shown = ", ".join(map(str, held))
                return f"{names} {shown} points at nothing in {parent}"
        return ""

    def _links(self) -> list[tuple[Any, ...]]:
        sql = f"PRAGMA foreign_key_list({quoted(self._table)})"
        return self._connection.execute(sql).fetchall()

    def _key_of(self, table: str) -> list[str]:
        sql = f"PRAGMA table_info({quoted(table)})"
        found: list[tuple[Any, ...]] = self._connection.execute(sql).fetchall()
        return [str(row[1]) for row in sorted(found, key=lambda row: row[5]) if row[5]]

    def _is_more_than_inserting(self) -> bool:
        """Whether inserting may change other rows, or leave one out without a word."""
        found = self._connection.execute(
            "SELECT type, sql FROM sqlite_schema WHERE lower(tbl_name) = lower(?)", (self._table,)
        ).fetchall()
        return any(
            kind == "trigger" or (kind == "table" and _DOES_MORE.search(str(sql)))
            for kind, sql in found
        )


def _holds_invalid(rows: Sequence[Row]) -> bool:
    return InvalidText in set(map(type, chain.from_iterable(rows)))
