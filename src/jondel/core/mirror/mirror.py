"""Keeps the mirror of a database, and brings it up to date.

An update is one transaction: whoever is killed in it leaves the mirror as it was before, and so
does an error. Processes take turns.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import apsw

from jondel.core.engines.sqlite.connection import register_functions
from jondel.core.engines.sqlite.sql_text import mark_of, parameter_of, quoted, quoted_list
from jondel.core.errors import StoreUnavailable
from jondel.core.files.claims import held
from jondel.core.files.home import private_folder
from jondel.core.mirror.delta import Delta, DeltaSource, Mark, PutRow, TableDelta
from jondel.core.mirror.document import as_document, from_document
from jondel.core.mirror.layout import Layout, MirrorTable, changed_tables, encoded
from jondel.core.model.schema import Schema

if TYPE_CHECKING:
    from jondel.core.model.values import StoredValue

FILE_NAME = "mirror.db"
_AT_ONCE = 500
_DOCUMENT = "jondel_mirror"
"""The table with the schema and the mark, one row; its name is no table's that is mirrored, since
these are spelled with the levels they have, or as ``Layout`` makes them different."""


class Kept(NamedTuple):
    """What a mirror says of itself."""

    schema: Schema
    mark: Mark


class Mirror:
    """The mirror in a folder; made when it is first updated."""

    def __init__(self, folder: Path) -> None:
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

    def update(self, source: DeltaSource, go_on: Callable[[], None] = lambda: None) -> Kept:
        """Bring it up to date with its database; returns what it holds then.

        ``go_on`` is called now and then, and raises where the update is to be stopped.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        private_folder(self.path.parent)
        with held(self._lock), self._explained(), closing(self._opened()) as connection:
            with connection:
                before = _kept(connection)
                known = (before.mark, before.schema) if before is not None else (None, None)
                with source.delta(*known) as delta:
                    after = self._take_in(connection, before, delta, go_on)
            return after

    def _opened(self) -> apsw.Connection:
        connection = apsw.Connection(str(self.path))
        register_functions(connection)
        connection.pragma("journal_mode", "wal")
        connection.pragma("synchronous", "full")
        return connection

    @staticmethod
    def _take_in(
        connection: apsw.Connection, before: Kept | None, delta: Delta, go_on: Callable[[], None]
    ) -> Kept:
        layout = Layout(delta.schema)
        gone, new = changed_tables(Layout(before.schema if before else Schema(())), layout)
        for kept in gone:
            connection.execute(f"DROP TABLE {quoted(kept.name)}")
        for kept in new:
            connection.execute(kept.statement())
        for told in delta.tables:
            kept_table = layout.tables.get(told.table)
            if kept_table is not None:
                _apply(connection, kept_table, told, go_on)
        after = Kept(delta.schema, delta.mark)
        connection.execute(f"CREATE TABLE IF NOT EXISTS {_DOCUMENT}(schema TEXT, mark TEXT)")
        document = as_document(after.schema).decode()
        if before is None or before.schema != after.schema:
            connection.execute(f"DELETE FROM {_DOCUMENT}")
            connection.execute(f"INSERT INTO {_DOCUMENT}(schema) VALUES (?)", (document,))
        mark = json.dumps(after.mark, sort_keys=True)
        connection.execute(f"UPDATE {_DOCUMENT} SET mark = ?1 WHERE mark IS NOT ?1", (mark,))
        return after

    @contextmanager
    def _explained(self) -> Iterator[None]:
        try:
            yield
        except apsw.Error as error:
            raise StoreUnavailable(f"{self.path}: the mirror cannot be used ({error})") from error


def document_in(rows: tuple[tuple[Any, ...], ...]) -> Kept | None:
    """What a mirror says of itself, from the rows of its table for that."""
    if not rows:
        return None
    schema, mark = rows[0]
    return Kept(from_document(str(schema).encode()), json.loads(mark or "{}"))


DOCUMENT_STATEMENT = f"SELECT schema, mark FROM {_DOCUMENT}"


def _kept(connection: apsw.Connection) -> Kept | None:
    there = connection.execute(
        "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", (_DOCUMENT,)
    ).get
    return document_in(tuple(connection.execute(DOCUMENT_STATEMENT))) if there else None


def _apply(
    connection: apsw.Connection, kept: MirrorTable, told: TableDelta, go_on: Callable[[], None]
) -> None:
    name = quoted(kept.name)
    if told.whole:
        connection.execute(f"DELETE FROM {name}")
    for number, gone in enumerate(told.gone):
        if number % _AT_ONCE == 0:
            go_on()
        _remove(connection, kept, gone)
    put = iter(told.put)
    while batch := list(islice(put, _AT_ONCE)):
        go_on()
        for row in batch:
            _put(connection, kept, row)


def _put(connection: apsw.Connection, kept: MirrorTable, put: PutRow) -> None:
    values = kept.stored_row(put.position, put.row)
    marks = ", ".join(map(mark_of, values))
    names = quoted_list(kept.stored_names)
    sql = f"INSERT OR REPLACE INTO {quoted(kept.name)}({names}) VALUES ({marks})"
    connection.execute(sql, [parameter_of(value) for value in values])


def _remove(connection: apsw.Connection, kept: MirrorTable, gone: tuple[StoredValue, ...]) -> None:
    if kept.address:
        names, values = kept.address, kept.stored_position(gone)
        which = ""
    else:
        names, values = kept.columns, tuple(map(encoded, gone))
        which = "LIMIT 1"
    where = " AND ".join(f"{quoted(n)} IS {mark_of(v)}" for n, v in zip(names, values, strict=True))
    sql = f"DELETE FROM {quoted(kept.name)} WHERE {where}"
    if which:
        sql = (
            f"DELETE FROM {quoted(kept.name)} WHERE rowid = "
            f"(SELECT rowid FROM {quoted(kept.name)} WHERE {where} {which})"
        )
    connection.execute(sql, [parameter_of(value) for value in values])
