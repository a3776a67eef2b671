"""The history of one record: its versions over the trail."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from jondel.core.diff.cells import clipped_cell
from jondel.core.diff.inside import with_inside
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import NO_VALUE, CellChange, ChangeKind
from jondel.core.model.schema import ROW_ID, Column, Table
from jondel.core.model.values import ShownRow, StoredValue, clipped, identical
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import Trail

_WHOLE_BYTES = 16 << 20
"""Values up to this size are compared whole."""


@dataclass(frozen=True)
class Version:
    """A record as a step left it.

    ``snapshot`` ends the step that wrote it; None stands for now. ``kind`` says what the step did
    to the record; ``start`` where it was there when the trail begins. ``row`` is None where the
    step removed it, and ``cells`` are those that the step changed. ``problem`` says why a state
    could not be read, with nothing else known then.
    """

    snapshot: Snapshot | None
    kind: ChangeKind | None
    columns: tuple[str, ...]
    row: ShownRow | None
    cells: tuple[CellChange, ...] = ()
    problem: str | None = None


def record_history(
    trail: Trail,
    table: TableId,
    key_columns: Sequence[str],
    key: Sequence[StoredValue],
    now: Database | None = None,
    *,
    max_bytes: int = 65536,
    opened: Callable[[Database], None] | None = None,
) -> Iterator[Version]:
    """Yield a record's versions, oldest first, those alone in which it changed.

    ``key_columns`` and ``key`` tell which record; the name ``rowid`` stands for the row number.
    Values over ``max_bytes`` bytes come clipped. ``opened`` is called with each state opened for
    it, so that the work can be interrupted.
    """
    reader = _Reader(table, tuple(key_columns), tuple(key))
    last: _Content | None = None
    with _Walk(trail, opened) as walk:
        for snapshot in (*trail.snapshots(), None):
            try:
                if snapshot is None:
                    if now is None:
                        return
                    found = reader.read(now)
                else:
                    state = walk.next_unlike(snapshot)
                    if state is None:
                        continue
                    found = reader.read(state)
            except Cancelled:
                raise
            except JondelError as error:
                yield Version(snapshot, None, (), None, (), str(error))
                continue
            version = _version(snapshot, last, found)
            last = found
            if version is not None:
                yield _clipped(version, max_bytes)


class _Content(NamedTuple):
    """A record as a state has it; no row where it is not there, no columns without its table."""

    columns: tuple[Column, ...]
    row: ShownRow | None

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns)


class _Walk:
    """Goes from state to state, past those in which all that was read of the last is the same."""

    def __init__(self, trail: Trail, opened: Callable[[Database], None] | None) -> None:
        self._trail = trail
        self._opened = opened
        self._image = ""
        self._state: Database | None = None

    def __enter__(self) -> _Walk:
        return self

    def __exit__(self, *_: object) -> None:
        self._leave()

    def next_unlike(self, snapshot: Snapshot) -> Database | None:
        """Open a snapshot; None where it is like the one before. Raises ``StoreUnavailable``."""
        if self._state is not None:
            if snapshot.image == self._image:
                return None
            peek = self._trail.peek(snapshot)
            if peek is not None and self._state.scanner.reads_alike(peek):
                return None
        self._leave()
        self._state = self._trail.open(snapshot)
        self._image = snapshot.image
        if self._opened:
            self._opened(self._state)
        return self._state

    def _leave(self) -> None:
        state, self._state = self._state, None
        if state is not None:
            state.close()


class _Reader:
    """Reads one record from one state after the other."""

    def __init__(
        self, table: TableId, key_columns: tuple[str, ...], key: tuple[StoredValue, ...]
    ) -> None:
        self._table = table
        self._key_columns = key_columns
        self._key = key

    def read(self, database: Database) -> _Content:
        table = database.schema().find(self._table)
        if table is None:
            return _Content((), None)
        columns = self._columns_in(table)
        position = database.rows.find_position(table, columns, self._key) if columns else None
        if position is None:
            return _Content(table.columns, None)
        return _Content(table.columns, database.rows.read_record(table, position, _WHOLE_BYTES))

    def _columns_in(self, table: Table) -> tuple[str, ...] | None:
        if self._key_columns == (ROW_ID,) and table.column(ROW_ID) is None:
            return (table.row_id,) if table.row_id else None
        known = set(table.column_names)
        return self._key_columns if known.issuperset(self._key_columns) else None


def _version(snapshot: Snapshot | None, last: _Content | None, content: _Content) -> Version | None:
    names, row = content.names, content.row
    if last is None or last.row is None:
        if row is None:
            return None
        return Version(snapshot, "added" if last is not None else None, names, row)
    if row is None:
        return Version(snapshot, "removed", last.names, None)
    earlier = dict(zip(last.names, last.row, strict=True))
    cells = tuple(
        with_inside(CellChange(column.name, earlier.get(column.name, NO_VALUE), value), column)
        for column, value in zip(content.columns, row, strict=True)
        if column.name not in earlier or not identical(earlier[column.name], value)
    )
    return Version(snapshot, "changed", names, row, cells) if cells else None


def _clipped(version: Version, max_bytes: int) -> Version:
    row = version.row and tuple(clipped(value, max_bytes) for value in version.row)
    cells = tuple(clipped_cell(cell, max_bytes) for cell in version.cells)
    return replace(version, row=row, cells=cells)
