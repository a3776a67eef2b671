"""Writes to SQLite files: checked rows, or a whole captured state, each as one transaction.

A connection of its own is opened for it and closed after. Foreign keys are not enforced on it, so
that cascades nobody asked for do not take place; links are checked at the end instead. Collations
and functions that only the app has are not replaced here: what needs them to be written is refused.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, cast

import apsw

from jondel.core.engines.sqlite.connection import BUSY_TIMEOUT_MS
from jondel.core.engines.sqlite.failures import locked_message, translated
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.errors import (
    PermissionMissing,
    RecordsMovedOn,
    TargetLocked,
    WriteError,
    WriteRefused,
)
from jondel.core.model.statements import Statement
from jondel.core.model.values import InvalidText, StoredValue, storage_class
from jondel.core.model.writes import LinkCheck, RowWrite, WritePlan

_CHECKED_SINGLY = 100
"""More links than this between two tables are checked with one statement for all."""


def apply_plan(path: Path, plan: WritePlan, current: Callable[[], bool]) -> None:
    """See ``Database.apply``; ``current`` tells, once others cannot write, if it still holds."""
    with _writable(path) as connection:
        connection.config(apsw.SQLITE_DBCONFIG_ENABLE_TRIGGER, int(plan.triggers))
        connection.execute("PRAGMA foreign_keys=OFF")
        connection.execute("BEGIN IMMEDIATE")
        try:
            _require_current(path, current)
            _Writing(connection).run(plan)
        except BaseException:
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")


def copy_over(path: Path, source: apsw.Connection, current: Callable[[], bool]) -> None:
    """See ``Database.become``; through SQLite's backup interface."""
    with _writable(path) as connection:
        # The interface itself would wait for ever for an app that holds the file for good.
        connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        if connection.execute("PRAGMA journal_mode").get == "wal":
            sizes = [c.execute("PRAGMA page_size").get for c in (connection, source)]
            if sizes[0] != sizes[1]:
                raise WriteRefused(
                    f"{path}: its page size was {sizes[1]} then and is {sizes[0]} now, which "
                    "cannot be changed in WAL mode; restore single tables instead"
                )
        with connection.backup("main", source, "main") as backup:
            if source.execute("PRAGMA page_count").get:
                backup.step(0)  # takes the lock and copies nothing yet
            # (Of an empty source even that step would be all there is to do.)
            _require_current(path, current)
            while not backup.done:
                backup.step(-1)


def _require_current(path: Path, current: Callable[[], bool]) -> None:
    if not current():
        raise RecordsMovedOn(
            f"{path}: the app has written to it meanwhile; nothing was written, look again"
        )


@contextmanager
def _writable(path: Path) -> Iterator[apsw.Connection]:
    with translated(path):
        try:
            connection = apsw.Connection(str(path), flags=apsw.SQLITE_OPEN_READWRITE)
            with closing(connection):
                connection.set_busy_timeout(BUSY_TIMEOUT_MS)
                connection.execute("PRAGMA trusted_schema=OFF")
                if connection.readonly("main"):
                    raise PermissionMissing(f"{path}: the file is read-only; nothing was written")
                yield connection
        except (apsw.BusyError, apsw.LockedError) as error:
            raise TargetLocked(f"{locked_message(path)}; nothing was written") from error
        except apsw.ReadOnlyError as error:
            raise PermissionMissing(
                f"{path}: the file or its folder is read-only; nothing was written"
            ) from error


class _Writing:
    """One transaction."""

    def __init__(self, connection: apsw.Connection) -> None:
        self._connection = connection

    def run(self, plan: WritePlan) -> None:
        relations = Counter(_relation(check) for check in plan.checks)
        many = [relation for relation, times in relations.items() if times > _CHECKED_SINGLY]
        dangling = {relation: self._dangling(*relation) for relation in many}
        for write in plan.writes:
            self._write(write)
        for check in plan.checks:
            if _relation(check) not in dangling:
                self._check(check)
        for relation, before in dangling.items():
            for values in self._dangling(*relation) - before:
                raise _broken_link(*relation, values)

    def _write(self, write: RowWrite) -> None:
        try:
            changed = self._run(write)
        except apsw.ConstraintError as error:
            raise _constraint(write, error) from error
        except apsw.SQLError as error:
            if "no such collation" in str(error) or "no such function" in str(error):
                raise WriteRefused(
                    f"{write.table}: cannot be written without what only the app has ({error}); "
                    "nothing was written"
                ) from error
            raise WriteError(f"{write.table}: {error}; nothing was written") from error
        if write.kind != "insert" and changed != 1:
            raise RecordsMovedOn(
                f"{write.table} {write.record}: it is no longer as it was "
                "(changed or removed meanwhile); nothing was written"
            )

    def _run(self, write: RowWrite) -> int:
        statement = write_statement(write)
        values = cast("tuple[apsw.SQLiteValue]", statement.values)
        self._connection.execute(statement.text(), values)
        return self._connection.changes()

    def _check(self, check: LinkCheck) -> None:
        child, values = self._matching(check.child, check.child_columns, check.values)
        parent, others = self._matching(check.parent, check.parent_columns, check.values)
        found = self._connection.execute(
            f"SELECT EXISTS({child}) AND NOT EXISTS({parent})", (*values, *others)
        ).get
        if found:
            raise _broken_link(*_relation(check), check.values)

    def _matching(
        self, table: str, columns: Sequence[str], values: Sequence[StoredValue]
    ) -> tuple[str, list[Any]]:
        where = " AND ".join(
            f"{quoted(name)} = {_mark(value)}" for name, value in zip(columns, values, strict=True)
        )
        return f"SELECT 1 FROM {quoted(table)} WHERE {where}", [_bound(v) for v in values]

    def _dangling(
        self, child: str, columns: Sequence[str], parent: str, parent_columns: Sequence[str]
    ) -> set[tuple[StoredValue, ...]]:
        """The values by which rows of the child point at nothing."""
        present = " AND ".join(f"c.{quoted(name)} IS NOT NULL" for name in columns)
        joined = " AND ".join(
            f"p.{quoted(theirs)} = c.{quoted(ours)}"
            for theirs, ours in zip(parent_columns, columns, strict=True)
        )
        names = ", ".join(f"c.{quoted(name)}" for name in columns)
        return set(
            self._connection.execute(
                f"SELECT DISTINCT {names} FROM {quoted(child)} c WHERE {present} "
                f"AND NOT EXISTS (SELECT 1 FROM {quoted(parent)} p WHERE {joined})"
            )
        )


def write_statement(write: RowWrite) -> Statement:
    """The statement that a write runs."""
    table = quoted(write.table)
    if write.kind == "insert":
        if not write.values:
            return Statement((f"INSERT INTO {table} DEFAULT VALUES",))
        names = quoted_list(name for name, _ in write.values)
        listed = Statement.joined(", ", (_value(name, value) for name, value in write.values))
        return Statement((f"INSERT INTO {table}({names}) VALUES (",)) + listed + ")"
    where = Statement.joined(" AND ", (_holds(*cell) for cell in write.expected))
    if write.kind == "delete":
        return Statement((f"DELETE FROM {table} WHERE ",)) + where
    sets = Statement.joined(
        ", ", (Statement((f"{quoted(n)} = ",)) + _value(n, v) for n, v in write.values)
    )
    return Statement((f"UPDATE {table} SET ",)) + sets + " WHERE " + where


def _holds(name: str, value: StoredValue) -> Statement:
    """That a cell holds a value exactly: same storage class, same bytes."""
    column = quoted(name)
    # The first comparison lets an index be used; the others tell 1 from 1.0 and from '1'.
    found = Statement((f"{column} IS ",)) + _value(name, value)
    if value is not None:
        found += f" AND typeof({column}) = '{storage_class(value)}'"
    if isinstance(value, str | InvalidText):
        found = found + f" AND {column} IS " + _value(name, value) + " COLLATE BINARY"
    return found


def _value(name: str, value: StoredValue) -> Statement:
    if isinstance(value, InvalidText):
        return Statement(("CAST(",)) + Statement.value(value.raw, name) + " AS TEXT)"
    return Statement.value(value, name)


def _bound(value: StoredValue) -> Any:
    return value.raw if isinstance(value, InvalidText) else value


def _mark(value: StoredValue) -> str:
    return "CAST(? AS TEXT)" if isinstance(value, InvalidText) else "?"


def _relation(check: LinkCheck) -> tuple[str, tuple[str, ...], str, tuple[str, ...]]:
    return check.child, check.child_columns, check.parent, check.parent_columns


def _broken_link(
    child: str,
    columns: Sequence[str],
    parent: str,
    parent_columns: Sequence[str],
    values: Sequence[StoredValue],
) -> WriteRefused:
    named = ", ".join(f"{name} = {value!r}" for name, value in zip(columns, values, strict=True))
    return WriteRefused(
        f"{child} would point at a record of {parent} that is not there ({named}); "
        "nothing was written"
    )


def _constraint(write: RowWrite, error: apsw.ConstraintError) -> WriteError:
    if write.kind == "insert" and "UNIQUE" in str(error):
        return RecordsMovedOn(
            f"{write.table} {write.record}: a record of this key, or with a value that must be "
            f"unique, is there already ({error}); nothing was written"
        )
    return WriteRefused(f"{write.table} {write.record}: {error}; nothing was written")
