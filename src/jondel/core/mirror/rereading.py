"""Tells what changed by reading every row: for engines that know no better, and as a second
opinion on those that do."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import cast

from jondel.core.diff.keys import Key
from jondel.core.diff.merge import merge
from jondel.core.engines.delta import Delta, Known, PutRow, TableDelta
from jondel.core.engines.protocol import Database
from jondel.core.mirror.layout import Layout, MirrorTable
from jondel.core.mirror.state import open_mirrored
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row, ShownRow


class Rereading:
    """What changed in a database since its mirror was last brought up to date."""

    def __init__(self, database: Database, mirror: Path) -> None:
        """``mirror`` is the mirror's file."""
        self._database = database
        self._mirror = mirror

    @contextmanager
    def delta(self, known: Known) -> Iterator[Delta]:
        """See ``DeltaSource``."""
        now = self._database.schema()
        if known.schema is None:
            yield Delta(now, self._tables(now, None))
            return
        with closing(open_mirrored(self._mirror)) as mirrored:
            yield Delta(now, self._tables(now, mirrored))

    def _tables(self, now: Schema, mirrored: Database | None) -> Iterator[TableDelta]:
        before = Layout(mirrored.schema()) if mirrored is not None else Layout(Schema(()))
        for address, kept in Layout(now).tables.items():
            if mirrored is None or before.tables.get(address) != kept:
                put = (PutRow(_position(kept, row), row[_lead(kept) :]) for row in self._rows(kept))
                yield TableDelta(address, True, put=put)
            else:
                yield self._changed(kept, mirrored)

    def _rows(self, kept: MirrorTable) -> Iterator[Row]:
        for batch in self._stream(self._database, kept):
            yield from cast("list[Row]", batch)

    @staticmethod
    def _stream(database: Database, kept: MirrorTable) -> Iterator[list[ShownRow]]:
        table = kept.table
        key = _key(table)
        columns = (*key.columns_in(table), *table.column_names)
        return database.scanner.stream_rows(table, columns, key.columns_in(table))

    def _changed(self, kept: MirrorTable, mirrored: Database) -> TableDelta:
        """Both are read now: the one must not be read while it is written."""
        gone: list[Row] = []
        put: list[PutRow] = []
        width, lead = _key(kept.table).width, _lead(kept)
        sides = (self._stream(mirrored, kept), self._stream(self._database, kept))
        for before, after in merge(*sides, width, same_columns=True):
            was, now = cast("tuple[Row | None, Row | None]", (before, after))
            addressed = bool(kept.address)
            if was is not None and (now is None or not addressed):
                gone.append(_position(kept, was) if addressed else was[lead:])
            if now is not None:
                put.append(PutRow(_position(kept, now), now[lead:]))
        return TableDelta(kept.table.id, False, gone, put)


def _key(table: Table) -> Key:
    """What addresses a table's rows, else all of their columns."""
    columns = table.position_columns or table.column_names
    return Key(columns, False, False)


def _lead(kept: MirrorTable) -> int:
    return _key(kept.table).width


def _position(kept: MirrorTable, row: Row) -> Row:
    return row[: _lead(kept)] if kept.address else ()
