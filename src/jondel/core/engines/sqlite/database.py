"""The ``Database`` protocol for SQLite files."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, cast

import apsw

from jondel.core.engines.protocol import Capabilities, CommitMark, Database, Extent, Selection
from jondel.core.engines.sqlite import connection as opening
from jondel.core.engines.sqlite.beside import attached
from jondel.core.engines.sqlite.connection import Access, OpenFile
from jondel.core.engines.sqlite.failures import translated
from jondel.core.engines.sqlite.schema_reader import read_schema
from jondel.core.engines.sqlite.selecting import order_by_code_point, selected, stream
from jondel.core.engines.sqlite.sql_text import (
    quoted,
    quoted_list,
    row_comparison,
    select,
    unwrapped,
    wrapped,
)
from jondel.core.engines.sqlite.statements import run_statement, single_reading_statement
from jondel.core.errors import (
    StatementFailed,
    StatementRefused,
    TableUnreadable,
    TargetNotFound,
    WriteRefused,
)
from jondel.core.model.rows import Position, ResultRows, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row, ShownRow, StoredValue

if TYPE_CHECKING:
    from jondel.core.engines.pages import PageSink
    from jondel.core.model.writes import WritePlan

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


class SqliteDatabase:
    """One SQLite file, open for reading."""

    capabilities = Capabilities(snapshots=True, change_token=True, writing=True)

    def __init__(self, path: Path, opener: Callable[[Path], OpenFile], location: str) -> None:
        self._path = path
        self._opener = opener
        self._location = location
        self._epoch = 0
        self._closed = False
        self._stop_asked = threading.Event()
        self._open()

    def _open(self) -> None:
        self._signature = self._current_signature()
        with translated(self._path):
            self._file = self._opener(self._path)
        self._connection = self._file.connection
        self._schema: tuple[int, Schema] | None = None
        with translated(self._path):
            name = str(self._value("PRAGMA encoding"))
        self._encoding = _ENCODINGS.get(name, "utf-8")
        if self._encoding != "utf-8":
            order_by_code_point(self._connection)

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

    def schema(self) -> Schema:
        self._keep_current()
        with translated(self._path):
            version = cast(int, self._value("PRAGMA schema_version"))
            if self._schema is None or self._schema[0] != version:
                self._schema = (version, read_schema(self._connection))
        return self._schema[1]

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

    def measure(self, table: Table) -> Extent:
        self._require(table)
        name = quoted(table.name)
        with translated(self._path, table=table.name):
            rows = cast(int, self._value(f"SELECT count(*) FROM {name}"))
            if table.row_id is None or table.kind != "table" or not rows:
                return Extent(rows)
            row_id = quoted(table.row_id)
            first = cast(int, self._value(f"SELECT min({row_id}) FROM {name}"))
            last = cast(int, self._value(f"SELECT max({row_id}) FROM {name}"))
        return Extent(rows, first if last - first + 1 == rows else None)

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
    ) -> Window:
        self._require(table)
        order = table.position_columns
        ascending = quoted_list(order)
        descending = ", ".join(f"{quoted(name)} DESC" for name in order)
        backwards = False
        where, clause = "", f"{limit} OFFSET {offset}"
        parameters: Position = ()
        if not order:
            pass
        elif after is not None:
            where, parameters, clause = row_comparison(order, ">"), after, str(limit)
        elif extent is not None and extent.dense_from is not None:
            where, parameters = row_comparison(order, ">="), (extent.dense_from + offset,)
            clause = str(limit)
        elif before is not None:
            where, parameters, clause = row_comparison(order, "<"), before, str(limit)
            backwards = True
        elif extent is not None and offset > extent.rows // 2:
            limit = max(0, min(limit, extent.rows - offset))
            clause = f"{limit} OFFSET {max(0, extent.rows - offset - limit)}"
            backwards = True
        found = self._read(
            table,
            where=where,
            parameters=parameters,
            order=descending if backwards else ascending,
            limit=clause,
            max_bytes=_WINDOW_VALUE_BYTES,
        )
        if backwards:
            found.reverse()
        width = len(order)
        return Window(
            offset,
            tuple(cast(Position, row[:width]) for row in found),
            tuple(row[width:] for row in found),
        )

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        found = self._read(
            table,
            where=row_comparison(order, "="),
            parameters=position,
            limit="1",
            max_bytes=max_bytes,
        )
        return found[0][len(order) :] if found else None

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        self._require(table)
        columns = table.position_columns
        if not columns:
            return 0
        where, parameters = row_comparison(columns, "<"), position
        counted = 0
        if last is not None:
            where += f" AND {row_comparison(columns, '>=')}"
            parameters, counted = (*position, *last[0]), last[1]
        with translated(self._path, table=table.name):
            sql = select(table.name, ["count(*)"], where=where)
            return counted + cast(int, self._value(sql, parameters))

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        # "IS" for NULL in keys; BINARY because keys equal under a collation are different keys.
        where = " AND ".join(f"{quoted(name)} IS ? COLLATE BINARY" for name in key_columns)
        found = self._read(table, columns=(), where=where, parameters=tuple(key), limit="1")
        return cast(Position, found[0]) if found else None

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        self._require(table)
        where = " OR ".join(f"{quoted(name)} IS NULL" for name in key_columns)
        with translated(self._path, table=table.name):
            rows = self._connection.execute(select(table.name, ["1"], where=where, limit="2"))
            return len(rows.fetchall()) > 1

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
    ) -> Iterator[list[Row]]:
        self._require(table)
        self._keep_current()
        with translated(self._path, table=table.name):
            yield from stream(self._connection, self._encoding, table, columns, order, only)

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

    # Staying on the right file

    def _current_signature(self) -> opening.Signature:
        try:
            return opening.signature(self._path)
        except OSError as error:
            raise TargetNotFound(
                f"{self._path}: the file is gone; put it back or open another"
            ) from error

    def _keep_current(self, found: opening.Signature | None = None) -> None:
        """Open the file anew where the connection would show something else than what is there.

        That is so after the file was replaced, and for an immutable file after any change.
        """
        found = found or self._current_signature()
        replaced = found[:2] != self._signature[:2]
        unwatched = self._file.access is Access.IMMUTABLE and found != self._signature
        if not (replaced or unwatched):
            return
        old = self._connection
        opening.check_path(self._path)
        self._open()
        old.close()
        self._epoch += 1

    # Reading

    def _value(self, sql: str, parameters: Sequence[StoredValue] = ()) -> object:
        return self._connection.execute(sql, cast("tuple[apsw.SQLiteValue]", parameters)).get

    def _require(self, table: Table) -> None:
        if table.unreadable:
            raise TableUnreadable(f"{self._path}: {table.name}: cannot be read: {table.unreadable}")

    def _read(
        self,
        table: Table,
        *,
        columns: Sequence[str] | None = None,
        where: str,
        parameters: Position,
        order: str = "",
        limit: str,
        max_bytes: int = _WINDOW_VALUE_BYTES,
    ) -> list[ShownRow]:
        """Read position columns and columns (all by default) of some rows."""
        self._keep_current()
        names = table.column_names if columns is None else columns
        for text_as_bytes in (False, True):
            expressions = [quoted(name) for name in table.position_columns]
            expressions += [
                wrapped(name, max_bytes=max_bytes, text_as_bytes=text_as_bytes) for name in names
            ]
            with translated(self._path, table=table.name):
                try:
                    with selected(
                        self._connection,
                        table.name,
                        expressions,
                        parameters,
                        where=where,
                        order=order,
                        limit=limit,
                    ) as rows:
                        return [unwrapped(row, self._encoding) for row in rows]
                except UnicodeDecodeError:
                    continue
        raise TableUnreadable(
            f"{self._path}: {table.name}: its key holds text that is not valid UTF-8; "
            "it can be compared, but not shown as a sheet"
        )
