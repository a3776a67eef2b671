"""Writes to SQLite files: checked rows, or a whole captured state, each as one transaction.

A connection of its own is opened for it and closed after. Foreign keys are not enforced on it, so
that cascades nobody asked for do not take place; links are checked at the end instead. Collations
and functions that only the app has are not replaced here: what needs them to be written is refused.
"""

from __future__ import annotations

import ctypes
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, Literal, NamedTuple, cast

import apsw

from jondel.core.engines.sqlite.connection import BUSY_TIMEOUT_MS
from jondel.core.engines.sqlite.descriptors import PlainFile, writing
from jondel.core.engines.sqlite.error_translation import locked_message, translated
from jondel.core.engines.sqlite.file_names import companions_of, stat_of
from jondel.core.engines.sqlite.lock_holders import is_attached
from jondel.core.engines.sqlite.plan_run import PlanRun
from jondel.core.engines.sqlite.rehearsing import set_up
from jondel.core.engines.sqlite.script_run import ScriptRun, SinkFor, is_one_transaction
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.engines.sqlite.write_statements import write_statement
from jondel.core.errors import PermissionMissing, RecordsMovedOn, TargetLocked, WriteRefused
from jondel.core.model.outcomes import ScriptOutcome, ScriptStatement
from jondel.core.model.writes import WritePlan

_STEPS_BETWEEN_LOOKS = 50_000
_PAGES_AT_ONCE = 2_000


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
            inserted = PlanRun(connection, stop).run(plan, statements)
            check_stop(stop)
        except BaseException:
            connection.set_progress_handler(None)
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            raise
        connection.set_progress_handler(None)
        connection.execute("COMMIT")
    return inserted


def run_script(
    path: Path,
    statements: Sequence[ScriptStatement],
    sink_for: SinkFor,
    current: Callable[[], bool],
    stop: threading.Event,
    *,
    foreign_keys: bool,
) -> ScriptOutcome:
    """See ``ScriptRunner.run``. Triggers run, and links cascade where foreign keys are enforced."""
    with _writable(path) as connection:
        set_up(connection, foreign_keys=foreign_keys)
        connection.set_progress_handler(stop.is_set, _STEPS_BETWEEN_LOOKS)

        def begin() -> None:
            connection.execute("BEGIN IMMEDIATE")
            try:
                _require_current(path, current)
            except BaseException:
                connection.execute("ROLLBACK")
                raise

        if not is_one_transaction(statements):
            begin()  # nothing was committed up to here; the script's own transactions follow
            connection.execute("ROLLBACK")
        return ScriptRun(connection, statements, sink_for, stop).run(begin)


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
