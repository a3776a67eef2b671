"""Keeps the mirror of a database, and brings it up to date.

An update is one transaction: whoever is killed in it leaves the mirror as it was before, and so
does an error. Processes take turns.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple, cast

import apsw

from jondel.core.engines.delta import Delta, DeltaSource, Hints, Known, Mark
from jondel.core.engines.sqlite.connection import register_functions
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.errors import StoreUnavailable, TableUnreadable
from jondel.core.files.claims import held
from jondel.core.files.home import private_folder
from jondel.core.files.replacement import replace_text
from jondel.core.mirror.document import as_document, from_document
from jondel.core.mirror.layout import Layout, MirrorTable, changed_tables
from jondel.core.mirror.taking_in import GoOn, TakingIn
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema

FILE_NAME = "mirror.db"
_LATER = "later.json"
_HINTS = "hints.json"
_UNFINISHED = "mirror.making"
_CACHE_KIB = 64 << 10
_LONGEST_LOG_PAGES = 16_000
_DOCUMENT = "jondel_mirror"
"""The table with the schema, one row; its name is no table's that is mirrored, since these are
spelled with the levels they have, or as ``Layout`` makes them different."""
_MARK = "jondel_mark"
"""The table with the mark, one row: apart from the schema, so that what reads this need not look at
what changes all the time."""


class Kept(NamedTuple):
    """What a mirror says of itself."""

    schema: Schema
    mark: Mark


class Mirror:
    """The mirror in a folder; made when it is first updated."""

    def __init__(self, folder: Path, *, largest_table: int | None = None) -> None:
        """``largest_table``: see ``Known``."""
        self._largest_table = largest_table
        self.path = folder / FILE_NAME
        self._lock = folder / "lock"

    def kept(self) -> Kept | None:
        """What it holds, None before the first update.

        Raises:
            StoreUnavailable: it cannot be read.
        """
        if not self.path.exists():
            return None
        with self._explained(), closing(apsw.Connection(str(self.path))) as connection:
            return _kept(connection)

    def update(self, source: DeltaSource, go_on: GoOn = lambda: None) -> Kept:
        """Bring it up to date with its database; returns what it holds then.

        ``go_on`` is called now and then, and raises where the update is to be stopped.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        private_folder(self.path.parent)
        with held(self._lock), self._explained():
            if self.path.exists():
                try:
                    return self._updated(source, go_on)
                except (apsw.CorruptError, apsw.NotADBError):
                    self._remove()  # nothing is lost: the database has it all
            return self._made(source, go_on)

    def _updated(self, source: DeltaSource, go_on: GoOn) -> Kept:
        with closing(self._opened(self.path)) as connection:
            connection.pragma("journal_mode", "wal")
            connection.pragma("synchronous", "normal")
            connection.pragma("wal_autocheckpoint", _LONGEST_LOG_PAGES)
            with connection:
                before = self._with_later_mark(_kept(connection))
                schema, mark = before or (None, None)
                known = Known(mark, schema, self._hints_for(mark), self._largest_table)
                with source.delta(known) as delta:
                    after, changed = self._take_in(connection, before, delta, go_on)
                in_it = _mark_in(connection)
            if not changed and after.mark == mark and known.hints is not None:
                return after  # all that is kept beside it is as it was
            if not changed:
                later = json.dumps({"after": in_it, "mark": after.mark}, sort_keys=True)
                replace_text(self._later, later)
            self._keep_hints(delta)
            return after

    def _made(self, source: DeltaSource, go_on: GoOn) -> Kept:
        """Make it under another name, without a journal, and give it its name in the end."""
        unfinished = self.path.with_name(_UNFINISHED)
        unfinished.unlink(missing_ok=True)
        try:
            with closing(self._opened(unfinished)) as connection:
                connection.pragma("journal_mode", "memory")  # for savepoints; it stays small
                connection.pragma("synchronous", "off")
                connection.pragma("locking_mode", "exclusive")
                with connection, source.delta(Known(largest_table=self._largest_table)) as delta:
                    after, _ = self._take_in(connection, None, delta, go_on)
            with unfinished.open("rb") as file:
                os.fsync(file.fileno())
            unfinished.replace(self.path)
            with closing(self._opened(self.path)) as connection:
                connection.pragma("journal_mode", "wal")
        finally:
            unfinished.unlink(missing_ok=True)
        self._keep_hints(delta)
        return after

    def _remove(self) -> None:
        for ending in ("", "-wal", "-shm"):
            self.path.with_name(f"{FILE_NAME}{ending}").unlink(missing_ok=True)

    # Hints are kept beside the mirror: they are no part of any snapshot, and may be lost.

    def _hints_for(self, mark: Mark | None) -> Hints | None:
        """The hints that were kept with a mark."""
        try:
            kept = json.loads(self._hints.read_text("utf-8"))
            hints = kept["hints"] if kept["mark"] == mark else None
            return hints if isinstance(hints, dict) else None
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def _keep_hints(self, delta: Delta) -> None:
        if delta.hints or self._hints.exists():
            kept = {"mark": delta.mark, "hints": delta.hints}
            replace_text(self._hints, json.dumps(kept, separators=(",", ":")))

    @property
    def _hints(self) -> Path:
        return self.path.with_name(_HINTS)

    @property
    def _later(self) -> Path:
        """Keeps the mark of an update in which nothing had changed: then the mirror itself is not
        touched, and a snapshot of it is the same as the one before."""
        return self.path.with_name(_LATER)

    def _with_later_mark(self, kept: Kept | None) -> Kept | None:
        try:
            later = json.loads(self._later.read_text("utf-8"))
            if kept is not None and later["after"] == kept.mark:
                return Kept(kept.schema, later["mark"])
        except (OSError, ValueError, KeyError, TypeError):
            pass  # none, or it was not written to its end
        return kept

    @staticmethod
    def _opened(path: Path) -> apsw.Connection:
        connection = apsw.Connection(str(path))
        register_functions(connection)
        connection.pragma("cache_size", -_CACHE_KIB)
        # What is in the log is what a capture need look at.
        connection.config(apsw.SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, 1)
        return connection

    @staticmethod
    def take_in(connection: apsw.Connection, source: DeltaSource, go_on: GoOn) -> None:
        """Bring a state of a mirror up to date with what a source tells, in one transaction."""
        with connection:
            before = _kept(connection)
            schema, mark = before or (None, None)
            largest = (mark or {}).get("largest_table")
            with source.delta(Known(mark, schema, None, largest)) as delta:
                Mirror._take_in(connection, before, delta, go_on)

    @staticmethod
    def _take_in(
        connection: apsw.Connection, before: Kept | None, delta: Delta, go_on: GoOn
    ) -> tuple[Kept, bool]:
        """Returns what it holds now, and whether that is anything else than before."""
        layout = Layout(delta.schema)
        gone, new = changed_tables(Layout(before.schema if before else Schema(())), layout)
        for kept in gone:
            connection.execute(f"DROP TABLE {quoted(kept.name)}")
        changed = bool(gone)
        to_make = {kept.table.id for kept in new}
        left_out: dict[TableId, str] = {}
        for told in delta.tables:
            kept_table = layout.tables.get(told.table)
            if kept_table is None:
                continue
            is_new = told.table in to_make
            taking_in = TakingIn(connection, kept_table, go_on)
            try:
                with connection:  # a savepoint: one table that cannot be kept stops no other
                    if is_new:
                        connection.execute(kept_table.statement())
                    taking_in.apply(told, is_new=is_new)
                    _compute(connection, kept_table if is_new else None)
            except (TableUnreadable, apsw.SQLError, apsw.TooBigError) as error:
                left_out[told.table] = str(error)
                if not is_new:
                    connection.execute(f"DROP TABLE {quoted(kept_table.name)}")
                    changed = True
            else:
                to_make.discard(told.table)
                changed |= is_new or taking_in.changed
        for kept in new:
            if kept.table.id in to_make - left_out.keys():  # one without rows need not be told of
                connection.execute(kept.statement())
                _compute(connection, kept)
                changed = True
        schema = _leaving_out(delta.schema, left_out)
        document = as_document(schema)
        if before is None or as_document(before.schema) != document:
            changed = True
            write_document(connection, schema)
        if changed:
            connection.execute(f"DELETE FROM {_MARK}")
            mark = json.dumps(delta.mark, sort_keys=True)
            connection.execute(f"INSERT INTO {_MARK} VALUES (?)", (mark,))
        return Kept(schema, delta.mark), changed

    @contextmanager
    def _explained(self) -> Iterator[None]:
        try:
            yield
        except apsw.Error as error:
            raise StoreUnavailable(f"{self.path}: the mirror cannot be used ({error})") from error


def _compute(connection: apsw.Connection, kept: MirrorTable | None) -> None:
    """Add the columns that are computed, to a table that was just filled."""
    for statement in kept.computing_statements() if kept is not None else ():
        connection.execute(statement)


def _leaving_out(schema: Schema, left_out: Mapping[TableId, str]) -> Schema:
    """The schema with some tables as ones that cannot be read, each with its reason."""
    if not left_out:
        return schema
    tables = (
        replace(table, unreadable=left_out[table.id]) if table.id in left_out else table
        for table in schema.tables
    )
    return Schema(tuple(tables), schema.objects)


def schema_in(rows: tuple[tuple[Any, ...], ...]) -> Schema | None:
    """The schema that a mirror holds, from the rows of its table for that."""
    return from_document(str(rows[0][0]).encode()) if rows else None


def write_document(connection: apsw.Connection, schema: Schema) -> None:
    """Have a mirror say what it holds."""
    connection.execute(f"CREATE TABLE IF NOT EXISTS {_DOCUMENT}(schema TEXT)")
    connection.execute(f"CREATE TABLE IF NOT EXISTS {_MARK}(mark TEXT)")
    connection.execute(f"DELETE FROM {_DOCUMENT}")
    document = as_document(schema).decode()
    connection.execute(f"INSERT INTO {_DOCUMENT} VALUES (?)", (document,))


DOCUMENT_STATEMENT = f"SELECT schema FROM {_DOCUMENT}"


def _kept(connection: apsw.Connection) -> Kept | None:
    there = connection.execute(
        "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", (_MARK,)
    ).get
    schema = schema_in(tuple(connection.execute(DOCUMENT_STATEMENT))) if there else None
    return Kept(schema, _mark_in(connection)) if schema is not None else None


def mark_in(rows: tuple[tuple[Any, ...], ...]) -> Mark:
    """The mark that a mirror holds, from the rows of its table for that."""
    return cast(Mark, json.loads(rows[0][0])) if rows else {}


MARK_STATEMENT = f"SELECT mark FROM {_MARK}"


def _mark_in(connection: apsw.Connection) -> Mark:
    return mark_in(tuple(connection.execute(MARK_STATEMENT)))
