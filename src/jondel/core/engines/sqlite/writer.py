"""Writes to SQLite files: checked rows, or a whole captured state, each as one transaction.

A connection of its own is opened for it and closed after. Foreign keys are not enforced on it, so
that cascades nobody asked for do not take place; links are checked at the end instead. Collations
and functions that only the app has are not replaced here: what needs them to be written is refused.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeAlias, cast

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
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import InvalidText, StoredValue, storage_class
from jondel.core.model.writes import LinkCheck, RowWrite, WriteKind, WritePlan

_ARGUMENT = "\0"
"""Stands for an argument while a statement is put together; no SQL can hold it."""
_CHECKED_SINGLY = 100
"""More links than this between two tables are checked with one statement for all."""


def apply_plan(path: Path, plan: WritePlan, current: Callable[[], bool]) -> None:
    """See ``Database.apply``; ``current`` tells, once others cannot write, if it still holds."""
    # Before others are kept from writing: it takes a while where there are many.
    statements = [write_statement(write) for write in plan.writes]
    with _writable(path) as connection:
        connection.config(apsw.SQLITE_DBCONFIG_ENABLE_TRIGGER, int(plan.triggers))
        connection.execute("PRAGMA foreign_keys=OFF")
        connection.execute("BEGIN IMMEDIATE")
        try:
            _require_current(path, current)
            _Writing(connection).run(plan, statements)
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

    def run(self, plan: WritePlan, statements: Sequence[Statement]) -> None:
        relations = Counter(_relation(check) for check in plan.checks)
        many = [relation for relation, times in relations.items() if times > _CHECKED_SINGLY]
        dangling = {relation: self._dangling(*relation) for relation in many}
        for write, statement in zip(plan.writes, statements, strict=True):
            self._write(write, statement)
        for check in plan.checks:
            if _relation(check) not in dangling:
                self._check(check)
        for relation, before in dangling.items():
            for values in self._dangling(*relation) - before:
                raise _broken_link(*relation, values)

    def _write(self, write: RowWrite, statement: Statement) -> None:
        try:
            changed = self._run(statement)
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

    def _run(self, statement: Statement) -> int:
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
    given = tuple((name, _class_of(value)) for name, value in write.values)
    expected = tuple((name, _class_of(value)) for name, value in write.expected)
    arguments = [Argument(_bound(value), name) for name, value in write.values]
    for name, value in write.expected:
        argument = Argument(_bound(value), name)
        arguments += [argument] * (2 if isinstance(value, str | InvalidText) else 1)
    return Statement(_texts(write.kind, write.table, given, expected), tuple(arguments))


_Classes: TypeAlias = tuple[tuple[str, str], ...]
"""Columns, each with the storage class of its value, or ``invalid`` for text that is not valid."""


@lru_cache(maxsize=512)
def _texts(kind: WriteKind, table: str, given: _Classes, expected: _Classes) -> tuple[str, ...]:
    """What stands around a statement's arguments; the same for all rows of a kind."""
    if kind == "insert" and not given:
        return (f"INSERT INTO {quoted(table)} DEFAULT VALUES",)
    if kind == "insert":
        names = quoted_list(name for name, _ in given)
        marks = ", ".join(_marked(found) for _, found in given)
        sql = f"INSERT INTO {quoted(table)}({names}) VALUES ({marks})"
    else:
        where = " AND ".join(_holds(quoted(name), found) for name, found in expected)
        sets = ", ".join(f"{quoted(name)} = {_marked(found)}" for name, found in given)
        change = f"UPDATE {quoted(table)} SET {sets}" if given else f"DELETE FROM {quoted(table)}"
        sql = f"{change} WHERE {where}"
    return tuple(sql.split(_ARGUMENT))


def _holds(column: str, found: str) -> str:
    """That a cell holds a value exactly: same storage class, same bytes."""
    # The first comparison lets an index be used; the others tell 1 from 1.0 and from '1'.
    sql = f"{column} IS {_marked(found)}"
    if found != "null":
        sql += f" AND typeof({column}) = '{'text' if found == 'invalid' else found}'"
    if found in ("text", "invalid"):
        sql += f" AND {column} IS {_marked(found)} COLLATE BINARY"
    return sql


def _marked(found: str) -> str:
    return f"CAST({_ARGUMENT} AS TEXT)" if found == "invalid" else _ARGUMENT


def _class_of(value: StoredValue) -> str:
    return "invalid" if isinstance(value, InvalidText) else storage_class(value)


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
