"""Writes to SQLite files: checked rows, or a whole captured state, each as one transaction.

A connection of its own is opened for it and closed after. Foreign keys are not enforced on it, so
that cascades nobody asked for do not take place; links are checked at the end instead. Collations
and functions that only the app has are not replaced here: what needs them to be written is refused.
"""

from __future__ import annotations

import ctypes
import threading
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeAlias, cast

import apsw

from jondel.core.engines.sqlite.connection import BUSY_TIMEOUT_MS
from jondel.core.engines.sqlite.descriptors import PlainFile, writing
from jondel.core.engines.sqlite.error_translation import locked_message, translated
from jondel.core.engines.sqlite.file_names import companions_of, stat_of
from jondel.core.engines.sqlite.lock_holders import is_attached
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.engines.sqlite.state_wait import check_stop
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
_STEPS_BETWEEN_LOOKS = 50_000
_PAGES_AT_ONCE = 2_000
_NO_ROW = -(2**63)
"""What the number of the last row that was inserted is set to before the next one is."""
_CHECKED_SINGLY = 100
"""More links than this between two tables are checked with one statement for all."""


def apply_plan(
    path: Path, plan: WritePlan, current: Callable[[], bool], stop: threading.Event
) -> Sequence[int | None]:
    """See ``Database.apply``; ``current`` tells, once others cannot write, if it still holds.

    Raises ``Cancelled`` where ``stop`` is set before it is written; nothing is, then.
    """
    # Before others are kept from writing: it takes a while where there are many.
    statements = [write_statement(write) for write in plan.writes]
    with _writable(path) as connection:
        connection.config(apsw.SQLITE_DBCONFIG_ENABLE_TRIGGER, int(plan.triggers))
        connection.execute("PRAGMA foreign_keys=OFF")
        connection.set_progress_handler(stop.is_set, _STEPS_BETWEEN_LOOKS)
        connection.execute("BEGIN IMMEDIATE")
        try:
            _require_current(path, current)
            inserted = _Writing(connection, stop).run(plan, statements)
            check_stop(stop)
        except BaseException:
            connection.set_progress_handler(None)
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise
        connection.set_progress_handler(None)
        connection.execute("COMMIT")
    return inserted


def copy_over(
    path: Path, source: apsw.Connection, current: Callable[[], bool], stop: threading.Event
) -> None:
    """See ``Database.restore_from``; through SQLite's backup interface."""
    with _writable(path) as connection:
        # The interface itself would wait for ever for an app that holds the file for good.
        connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        sizes = [c.execute("PRAGMA page_size").get for c in (connection, source)]
        if sizes[0] != sizes[1] and connection.execute("PRAGMA journal_mode").get == "wal":
            with _out_of_wal_mode(path, connection, current):
                _copy(path, connection, source, lambda: True, stop)
        else:
            _copy(path, connection, source, current, stop)


def _copy(
    path: Path,
    connection: apsw.Connection,
    source: apsw.Connection,
    current: Callable[[], bool],
    stop: threading.Event,
) -> None:
    with connection.backup("main", source, "main") as backup:
        if source.execute("PRAGMA page_count").get:
            backup.step(0)  # takes the lock and copies nothing yet
        # (Of an empty source even that step would be all there is to do.)
        _require_current(path, current)
        while not backup.done:
            check_stop(stop)  # what was copied so far is rolled back
            backup.step(_PAGES_AT_ONCE)


@contextmanager
def _out_of_wal_mode(
    path: Path, connection: apsw.Connection, current: Callable[[], bool]
) -> Iterator[None]:
    """Leave WAL mode for the time of the block, in which the page size can be changed.

    Possible only where no other process has the database open; none can open it meanwhile.
    """
    connection.execute("PRAGMA locking_mode=EXCLUSIVE").fetchall()
    connection.execute("BEGIN IMMEDIATE")
    connection.execute("ROLLBACK")  # from here on the lock is held
    _require_current(path, current)
    connection.execute("PRAGMA journal_mode=DELETE").fetchall()
    try:
        yield
    finally:
        connection.execute("PRAGMA journal_mode=WAL").fetchall()


def _require_current(path: Path, current: Callable[[], bool]) -> None:
    if not current():
        raise RecordsMovedOn(
            f"{path}: the app has written to it meanwhile; nothing was written, look again"
        )


@contextmanager
def _writable(path: Path) -> Iterator[apsw.Connection]:
    try:
        str(path).encode()
    except UnicodeEncodeError:
        raise WriteRefused(
            f"{path}: its name is not valid UTF-8, and SQLite cannot open it for writing; rename it"
        ) from None
    with translated(path), writing():
        companions = _found_beside(path)
        try:
            connection = apsw.Connection(str(path), flags=apsw.SQLITE_OPEN_READWRITE)
            with closing(connection):
                connection.set_busy_timeout(BUSY_TIMEOUT_MS)
                connection.execute("PRAGMA trusted_schema=OFF")
                if connection.readonly("main"):
                    raise PermissionMissing(f"{path}: the file is read-only; nothing was written")
                companions.keep(connection)
                yield connection
        except (apsw.BusyError, apsw.LockedError) as error:
            raise TargetLocked(f"{locked_message(path)}; nothing was written") from error
        except apsw.ReadOnlyError as error:
            raise PermissionMissing(
                f"{path}: the file or its folder is read-only; nothing was written"
            ) from error


class _Found(NamedTuple):
    """The companions that were there before we came, in so far as we could take them away."""

    log: bool
    journal: Literal["", "TRUNCATE", "PERSIST"]

    def keep(self, connection: apsw.Connection) -> None:
        """Have a connection leave them when it closes or commits."""
        if self.log:
            # Nobody has the database open: what a crash left in the log stays there.
            connection.config(apsw.SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, 1)
            on = ctypes.c_int(1)
            connection.file_control("main", apsw.SQLITE_FCNTL_PERSIST_WAL, ctypes.addressof(on))
        if self.journal and connection.execute("PRAGMA journal_mode").get != "wal":
            connection.execute(f"PRAGMA journal_mode={self.journal}")


def _found_beside(path: Path) -> _Found:
    names = companions_of(path)
    log, journal = False, ""
    wal, old_journal = stat_of(names.wal), stat_of(names.journal)
    if wal is not None:
        log = wal.st_size > 0 and not _in_use(names.shm)
    if old_journal is not None:
        journal = "PERSIST" if old_journal.st_size else "TRUNCATE"
    return _Found(log, cast(Any, journal))


def _in_use(index: Path) -> bool:
    try:
        file = PlainFile(index)
    except OSError:
        return False
    try:
        return is_attached(file.descriptor)
    finally:
        file.close()


class _Writing:
    """One transaction."""

    def __init__(self, connection: apsw.Connection, stop: threading.Event) -> None:
        self._connection = connection
        self._stop = stop

    def run(self, plan: WritePlan, statements: Sequence[Statement]) -> list[int | None]:
        """Returns the row numbers of the rows that were inserted."""
        inserted: list[int | None] = []
        relations = Counter(_relation(check) for check in plan.checks)
        many = [relation for relation, times in relations.items() if times > _CHECKED_SINGLY]
        dangling = {relation: self._dangling(*relation) for relation in many}
        for write, statement in zip(plan.writes, statements, strict=True):
            check_stop(self._stop)
            self._connection.set_last_insert_rowid(_NO_ROW)
            changed = self._write(write, statement)
            if write.kind == "insert":
                row_id = self._connection.last_insert_rowid()
                inserted.append(row_id if changed and row_id != _NO_ROW else None)
        for check in plan.checks:
            check_stop(self._stop)
            if _relation(check) not in dangling:
                self._check(check)
        for relation, before in dangling.items():
            for values in self._dangling(*relation) - before:
                raise _broken_link(*relation, values)
        return inserted

    def _write(self, write: RowWrite, statement: Statement) -> int:
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
        return changed

    def _run(self, statement: Statement) -> int:
        values = cast("tuple[apsw.SQLiteValue]", statement.values)
        self._connection.execute(statement.text(), values)
        return self._connection.changes()

    def _check(self, check: LinkCheck) -> None:
        child, values = self._matching(check.child, check.child_columns, check.values)
        parent, others = self._matching(check.parent, check.parent_columns, check.values)
        found = self._connection.execute(
            # What is pointed at is there as a rule, and has an index.
            f"SELECT CASE WHEN EXISTS({parent}) THEN 0 ELSE EXISTS({child}) END",
            (*others, *values),
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
        marks = ", ".join(_marked(storage) for _, storage in given)
        sql = f"INSERT INTO {quoted(table)}({names}) VALUES ({marks})"
    else:
        where = " AND ".join(_holds(quoted(name), storage) for name, storage in expected)
        sets = ", ".join(f"{quoted(name)} = {_marked(storage)}" for name, storage in given)
        change = f"UPDATE {quoted(table)} SET {sets}" if given else f"DELETE FROM {quoted(table)}"
        sql = f"{change} WHERE {where}"
    return tuple(sql.split(_ARGUMENT))


def _holds(column: str, storage: str) -> str:
    """That a cell holds a value exactly: same storage class, same bytes."""
    # The first comparison lets an index be used; the others tell 1 from 1.0 and from '1'.
    sql = f"{column} IS {_marked(storage)}"
    if storage != "null":
        sql += f" AND typeof({column}) = '{'text' if storage == 'invalid' else storage}'"
    if storage in ("text", "invalid"):
        sql += f" AND {column} IS {_marked(storage)} COLLATE BINARY"
    return sql


def _marked(storage: str) -> str:
    return f"CAST({_ARGUMENT} AS TEXT)" if storage == "invalid" else _ARGUMENT


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
