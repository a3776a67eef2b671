"""The ``Database`` protocol for SQLite files."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import apsw

from jondel.core.engines.protocol import (
    Capabilities,
    CommitMark,
    Database,
    Selection,
)
from jondel.core.engines.sqlite import connection as opening
from jondel.core.engines.sqlite.beside import attached
from jondel.core.engines.sqlite.connection import Access
from jondel.core.engines.sqlite.failures import translated
from jondel.core.engines.sqlite.reader import SqliteReader
from jondel.core.engines.sqlite.statements import run_statement, single_reading_statement
from jondel.core.errors import (
    StatementFailed,
    StatementRefused,
    WriteRefused,
)
from jondel.core.model.rows import ResultRows
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue

if TYPE_CHECKING:
    from jondel.core.engines.pages import PageSink
    from jondel.core.model.statements import Statement
    from jondel.core.model.writes import RowWrite, WritePlan

_WINDOW_VALUE_BYTES = 4096
"""Larger values are clipped in windows; a screen shows a fraction of this."""
_ENCODINGS = {"UTF-8": "utf-8", "UTF-16le": "utf-16-le", "UTF-16be": "utf-16-be"}


def open_live(path: Path) -> SqliteDatabase:
    """Open the file an app works with. Raises ``TargetError``."""
    path = path.expanduser()
    opening.check_path(path)
    return SqliteDatabase(path.resolve(), opening.open_file, str(path.resolve()))


def open_image(path: Path, *, location: str) -> SqliteDatabase:
    """Open a captured image of the database at ``location``."""
    opening.check_path(path)
    return SqliteDatabase(path, opening.open_immutable, location)


class SqliteDatabase(SqliteReader):
    """One SQLite file, open for reading."""

    capabilities = Capabilities(snapshots=True, change_token=True, writing=True)

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
        found = []
        if self._file.access is Access.IMMUTABLE and self._opener is opening.open_file:
            found.append(
                "in WAL mode, and its folder or file is read-only: shown as it lies on the disk"
            )
        if self._file.stand_in_collations:
            names = ", ".join(sorted(self._file.stand_in_collations))
            found.append(f"collations that only the app knows are replaced by byte order: {names}")
        return tuple(found)

    def change_token(self) -> Hashable:
        # Not by asking SQLite: even PRAGMA data_version begins to read, which in a rollback journal
        # mode is a lock that the app's commit can meet, and in WAL mode is one, for an instant,
        # when it meets the app's commit itself. Two commits within a tick of the file system's
        # clock leave one signature; so a recent one counts as another when it is no longer recent.
        found = self._current_signature()
        self._keep_current(found)
        self._signature = found
        settled = not opening.unsettled_seconds((found[3], found[-1]))
        return (self._epoch, found, settled)

    def rows_that_may_differ(self, older: Database, table: str) -> Selection | None:
        return None

    def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        found = table.column(column)
        if found is None or found.generated:
            return None, False
        if found.default is None:
            return None, True
        if found.default.upper().startswith("CURRENT_"):
            return None, False
        # Expressions come without the parentheses they were declared in; bare words need none.
        for expression in (found.default, f"({found.default})"):
            with closing(apsw.Connection(":memory:")) as scratch, suppress(apsw.Error, ValueError):
                # A table of its own, so that the column's affinity applies to the default.
                scratch.execute(f"CREATE TABLE t(c {found.declared_type} DEFAULT {expression})")
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
        self._keep_current()
        with translated(self._path), attached(self._connection, beside or {}):
            statement = single_reading_statement(self._connection, sql)
            try:
                return run_statement(self._connection, statement, limit)
            except apsw.ReadOnlyError as error:
                raise StatementRefused(
                    "the statement would write; Jondel only reads here"
                ) from error
            except UnicodeDecodeError as error:
                raise StatementFailed(
                    "the result holds text that is not valid UTF-8; "
                    "select CAST(column AS BLOB) to see its bytes"
                ) from error

    def capture(self, sink: PageSink) -> None:
        self._keep_current()
        self._stop_asked.clear()
        from jondel.core.engines.sqlite.capture import capture_pages  # needs numpy: slow to load

        with translated(self._path):
            capture_pages(self._connection, self._path, self._file.access, sink, self._stop_asked)

    def mark(self) -> CommitMark:
        self._keep_current()
        with translated(self._path):
            version = self._value("PRAGMA data_version")
        return (self._epoch, version, self._commits_in_header())

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
        self._keep_current()
        with translated(self._path, table=table.name):
            ordered: list[tuple[Any, ...]] = self._connection.execute(
                "SELECT DISTINCT x.coll FROM pragma_index_list(?) l, pragma_index_xinfo(l.name) x "
                "WHERE x.key",
                (table.name,),
            ).fetchall()
        alien = [n for (n,) in ordered if n and n.upper() not in opening.BUILT_IN_COLLATIONS]
        if alien:
            return (
                f"its keys or indexes are ordered by {alien[0]}, which only the app knows: "
                "writing would put them out of order"
            )
        return ""

    def write_statement(self, write: RowWrite) -> Statement:
        from jondel.core.engines.sqlite.writer import write_statement

        return write_statement(write)

    def apply(self, plan: WritePlan, since: CommitMark | None = None) -> None:
        self._keep_current()
        from jondel.core.engines.sqlite.writer import apply_plan  # not needed to look

        def current() -> bool:
            return since is None or self.mark() == since

        apply_plan(self._path, plan, current)

    def become(self, image: Database, since: CommitMark) -> None:
        self._keep_current()
        from jondel.core.engines.sqlite.writer import copy_over

        if not isinstance(image, SqliteDatabase):
            raise WriteRefused(f"{self.name}: the snapshot is of another engine")

        def current() -> bool:
            # While the whole file is locked for writing, only its header can be asked.
            in_log = opening.wal_path(self._path).exists()
            if in_log:
                return self.mark() == since
            epoch, _, commits = cast("tuple[int, object, bytes]", since)
            return (self._epoch, self._commits_in_header()) == (epoch, commits)

        copy_over(self._path, image._connection, current)

    def _commits_in_header(self) -> bytes:
        """What the file's header counts commits with; in WAL mode it does not."""
        return opening.read_header(self._path)[24:28]

    def interrupt(self) -> None:
        if not self._closed:
            self._stop_asked.set()
            self._connection.interrupt()

    def close(self) -> None:
        if not self._closed:
            self._closed = True
            self._connection.close()
