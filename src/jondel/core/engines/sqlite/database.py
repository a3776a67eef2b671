"""The ``Database`` protocol for SQLite files."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, cast

import apsw

from jondel.core.engines.protocol import (
    CommitMark,
    Database,
    Feature,
    Features,
    Selection,
)
from jondel.core.engines.sqlite import connection as opening
from jondel.core.engines.sqlite import page_vfs
from jondel.core.engines.sqlite.attached_states import attached
from jondel.core.engines.sqlite.committed_state import LiveFiles
from jondel.core.engines.sqlite.error_translation import translated
from jondel.core.engines.sqlite.live_reader import LiveReader
from jondel.core.engines.sqlite.reader import SqliteReader
from jondel.core.engines.sqlite.state_wait import latest_state
from jondel.core.engines.sqlite.statements import (
    check_statement,
    run_statement,
    single_reading_statement,
)
from jondel.core.engines.sqlite.steady_reader import steady
from jondel.core.engines.sqlite.temporary_views import define_views
from jondel.core.errors import StatementFailed, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.outcomes import CollectedRows
from jondel.core.model.rows import ResultRows
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import StoredValue

if TYPE_CHECKING:
    from jondel.core.engines.pages import PagePeek, PageSink
    from jondel.core.engines.roles import (
        Capturer,
        Commits,
        ConstraintChecker,
        Finder,
        Observation,
        Rehearser,
        Restorer,
        RowReader,
        Scanner,
        ScriptRunner,
        StatementRunner,
        TransactionObserver,
        Writer,
    )
    from jondel.core.engines.sqlite.capture import FilesToGoOnWith
    from jondel.core.engines.sqlite.commit_observer import CommitObserver
    from jondel.core.model.constraints import Violation
    from jondel.core.model.outcomes import (
        ResultSink,
        ScriptOutcome,
        ScriptStatement,
        StatementError,
    )
    from jondel.core.model.plans import PlanStep
    from jondel.core.model.writes import RowWrite, SequenceState, WritePlan


def open_live(path: Path, *, lock: bool = False) -> SqliteDatabase:
    """Open the file an app works with.

    ``lock`` allows a reader's lock where the app writes without a pause. Raises ``TargetError``.
    """
    path = path.expanduser()
    opening.check_path(path)
    return LiveSqliteDatabase(path.resolve(), lock=lock)


def open_image(path: Path, *, location: str) -> SqliteDatabase:
    """Open a captured image of the database at ``location``."""
    opening.check_path(path)
    return SqliteDatabase(path, opening.open_immutable, location)


_NAMED = 5
_SETTINGS = ("user_version", "application_id", "encoding", "auto_vacuum", "page_size")
_OF_LIVE_ONES = (
    Feature.COMMITS,
    Feature.CAPTURE,
    Feature.WRITING,
    Feature.RESTORING,
    Feature.SCRIPTS,
)


class SqliteDatabase(SqliteReader):
    """One SQLite file, open for reading."""

    deltas = rehearsals = None

    @property
    def transactions(self) -> TransactionObserver | None:
        """See ``Database``."""
        return None

    @property
    def constraints(self) -> ConstraintChecker | None:
        return self

    def violations(
        self,
        table: Table,
        key: Sequence[str],
        records: Sequence[tuple[StoredValue, ...]] | None = None,
    ) -> Iterator[Violation]:
        from jondel.core.engines.sqlite import check_constraints  # seldom needed

        declaration = self.schema().declaration(table.id) or ""
        return check_constraints.violations(self, declaration, table, key, records)

    lock = False

    # Roles: one object plays them all

    @property
    def features(self) -> Features:
        missing = dict.fromkeys(_OF_LIVE_ONES, "it is a snapshot")
        return Features(self.name, {**missing, Feature.REHEARSING: "it is kept in an old format"})

    @property
    def rows(self) -> RowReader:
        return self

    @property
    def finder(self) -> Finder:
        return self

    @property
    def scanner(self) -> Scanner:
        return self

    @property
    def statements(self) -> StatementRunner | None:
        return self

    @property
    def scripts(self) -> ScriptRunner | None:
        return None

    @property
    def rehearser(self) -> Rehearser | None:
        return None

    @property
    def commits(self) -> Commits | None:
        return None

    @property
    def capturer(self) -> Capturer | None:
        return None

    @property
    def writer(self) -> Writer | None:
        return None

    @property
    def restorer(self) -> Restorer | None:
        return None

    # What it is

    @property
    def location(self) -> str:
        return self._location

    @property
    def name(self) -> str:
        return Path(self._location).name

    @property
    def engine(self) -> str:
        return f"SQLite {apsw.sqlite_lib_version()}"

    @property
    def notices(self) -> tuple[str, ...]:
        notices = []
        unknown = self.tables_of_unknown_order()
        if unknown:
            names = ", ".join(sorted(set(unknown.values())))
            tables = ", ".join(sorted(unknown)[:_NAMED])
            more = f" and {len(unknown) - _NAMED} more" if len(unknown) > _NAMED else ""
            notices.append(
                f"ordered by {names}, which only the app knows: {tables}{more}. They are read "
                "by scanning, in byte order, and not written"
            )
        return tuple(notices)

    @steady
    def tables_of_unknown_order(self) -> dict[str, str]:
        """The tables, and views on them, that are kept by a collation of the app, and by which."""
        with translated(self._path):
            return self._shadow_unknown()

    def rows_that_may_differ(self, older: Database, table: TableId) -> Selection | None:
        return None

    @steady
    def settings(self) -> tuple[StoredValue, ...]:
        with translated(self._path):
            pragmas = (self._connection.pragma(name) for name in _SETTINGS)
            return tuple(cast(StoredValue, value) for value in pragmas)

    def sequences(self) -> tuple[SequenceState, ...]:
        return ()  # they are a table

    def tables_alike(self, older: Database) -> frozenset[TableId]:
        return frozenset()

    def reads_alike(self, other: PagePeek) -> bool:
        return False

    def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        declared = table.column(column)
        if declared is None or declared.generated:
            return None, False
        if declared.default is None:
            return None, True
        if declared.default.upper().startswith("CURRENT_"):
            return None, False
        # Expressions come without the parentheses they were declared in; bare words need none.
        for expression in (declared.default, f"({declared.default})"):
            with closing(apsw.Connection(":memory:")) as scratch, suppress(apsw.Error, ValueError):
                # A table of its own, so that the column's affinity applies to the default.
                scratch.execute(f"CREATE TABLE t(c {declared.type.name} DEFAULT {expression})")
                scratch.execute("INSERT INTO t DEFAULT VALUES")
                return scratch.execute("SELECT c FROM t").get, True
        return None, False

    def execute(
        self,
        sql: str,
        *,
        limit: int | None = None,
        beside: Mapping[str, Database] | None = None,
    ) -> ResultRows:
        rows = CollectedRows(limit)
        try:
            self.stream(Statement((sql,)), rows, beside=beside)
        except StatementFailed as error:
            raise error.placed_in(sql) from error
        return rows.result()

    @steady
    def stream(
        self,
        statement: Statement,
        sink: ResultSink,
        *,
        beside: Mapping[str, Database] | None = None,
    ) -> None:
        scanned = {"main": set(self.tables_of_unknown_order())}
        for name, state in (beside or {}).items():
            if isinstance(state, SqliteDatabase):
                scanned[name] = set(state.tables_of_unknown_order())
        with translated(self._path), attached(self._connection, beside or {}):
            reading = single_reading_statement(self._connection, statement, scanned)
            run_statement(self._connection, reading, sink, self._encoding)

    def plan(self, statement: Statement, *, measured: bool = False) -> tuple[PlanStep, ...]:
        from jondel.core.engines.sqlite.plans import EXPLAIN, plan_of  # seldom needed

        rows = CollectedRows()
        try:
            self.stream(Statement((EXPLAIN,)) + statement, rows)
        except StatementFailed as error:
            at = None if error.at is None else max(0, error.at - len(EXPLAIN))
            raise StatementFailed(str(error), at) from error
        return plan_of(rows.rows)

    @steady
    def check(self, statement: Statement) -> StatementError | None:
        self.tables_of_unknown_order()
        with translated(self._path):
            return check_statement(self._connection, statement)

    def define_views(self, views: Mapping[str, str]) -> None:
        """Have names mean queries in what is executed from now on, for this opening alone."""
        self.tables_of_unknown_order()  # which has views of its own made first
        with translated(self._path):
            define_views(self._connection, views)

    def interrupt(self) -> None:
        if not self._closed:
            self._stop_asked.set()
            self._connection.interrupt()

    def resume(self) -> None:
        self._stop_asked.clear()

    def close(self) -> None:
        if not self._closed:
            self._closed = True
            self._connection.close()


class LiveSqliteDatabase(SqliteDatabase):
    """The file that an app works with."""

    look_every_seconds = 0.0

    def __init__(self, path: Path, *, lock: bool = False) -> None:
        reading = LiveReader(path, threading.Event(), lock=lock)
        self._reading = reading
        self._observer: CommitObserver | None = None
        self._captured_files: FilesToGoOnWith | None = None
        self._served_name = page_vfs.serve(reading.pages)

        def opened(path: Path) -> apsw.Connection:
            return opening.open_pages(self._served_name, path)

        try:
            super().__init__(path, opened, str(path), reading)
        except BaseException:
            self._let_go()
            raise

    @property
    def lock(self) -> bool:
        return self._reading.lock

    @lock.setter
    def lock(self, allowed: bool) -> None:
        self._reading.lock = allowed

    @property
    def notices(self) -> tuple[str, ...]:
        notice = self._reading.notice
        return (*((notice,) if notice else ()), *super().notices)

    @property
    def features(self) -> Features:
        return Features(self.name)

    @property
    def commits(self) -> Commits | None:
        return self

    @property
    def capturer(self) -> Capturer | None:
        return self

    @property
    def writer(self) -> Writer | None:
        return self

    @property
    def restorer(self) -> Restorer | None:
        return self

    @property
    def scripts(self) -> ScriptRunner | None:
        return self

    @property
    def transactions(self) -> TransactionObserver | None:
        return self

    def observed(self) -> AbstractContextManager[Observation]:
        if self._observer is None:
            from jondel.core.engines.sqlite.commit_observer import CommitObserver  # seldom needed

            self._observer = CommitObserver(self._path)
        return self._observer.observed()

    def change_token(self) -> Hashable:
        with translated(self._path):
            return self._reading.files.token()

    def capture(self, sink: PageSink) -> None:
        from jondel.core.engines.sqlite import capture  # not needed to look

        if self._captured_files is None:
            self._captured_files = capture.FilesToGoOnWith()
        with translated(self._path):
            capture.capture_pages(
                self._path,
                sink,
                self._stop_asked,
                lock=self._reading.lock,
                go_on_with=self._captured_files,
            )

    def mark(self, *, exact: bool = False) -> CommitMark:
        from jondel.core.engines.sqlite.commit_marks import mark_of  # not needed to look

        with translated(self._path), closing(LiveFiles(self._path)) as files:
            return mark_of(latest_state(files, self._stop_asked))

    def moved_since(self, mark: CommitMark) -> bool:
        return self.mark() != mark

    def why_not_written(self, table: Table) -> str:
        if table.unreadable:
            return f"it cannot be read: {table.unreadable}"
        if table.kind == "view":
            return "it is a view: change the tables that it reads"
        if table.kind == "virtual table":
            return "it is a virtual table: only its module knows how to write it"
        if table.internal:
            return "the engine keeps it for itself"
        if not table.position_columns:
            return "its rows have nothing to tell one from another by: no row number, no key"
        if table.unknown_order:
            return (
                f"its keys or indexes are ordered by {table.unknown_order}, which only the app "
                "knows: writing would put them out of order"
            )
        return ""

    def write_statement(self, write: RowWrite) -> Statement:
        from jondel.core.engines.sqlite.write_statements import write_statement

        return write_statement(write)

    def unguarded_statement(self, write: RowWrite) -> Statement:
        from jondel.core.engines.sqlite.write_statements import unguarded_statement

        return unguarded_statement(write)

    def apply(self, plan: WritePlan, since: CommitMark | None = None) -> Sequence[int | None]:
        from jondel.core.engines.sqlite.writer import apply_plan  # not needed to look

        def current() -> bool:
            return since is None or self.mark() == since

        return apply_plan(self._path, plan, current, self._stop_asked)

    def run(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: Callable[[int], ResultSink | None],
        *,
        foreign_keys: bool = True,
        since: CommitMark | None = None,
    ) -> ScriptOutcome:
        from jondel.core.engines.sqlite.writer import run_script  # not needed to look

        def current() -> bool:
            return since is None or self.mark() == since

        return run_script(
            self._path, statements, sink_for, current, self._stop_asked, foreign_keys=foreign_keys
        )

    def restore_from(self, image: Database, since: CommitMark) -> None:
        from jondel.core.engines.sqlite.writer import copy_over

        if not isinstance(image, SqliteDatabase):
            raise WriteRefused(f"{self.name}: the snapshot is of another engine")

        def current() -> bool:
            return self.mark() == since

        copy_over(self._path, image._connection, current, self._stop_asked)

    def close(self) -> None:
        super().close()
        self._let_go()

    def _let_go(self) -> None:
        page_vfs.withdraw(self._served_name)
        self._reading.close()
        if self._captured_files is not None:
            self._captured_files.close()
