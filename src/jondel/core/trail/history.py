"""The history of one record: its versions over the trail."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass

from jondel.core.engines.protocol import Database
from jondel.core.errors import JondelError
from jondel.core.model.changes import NO_VALUE, CellChange, ChangeKind, NoValue
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, StoredValue, Value, identical
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import Trail


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
    table: str,
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
    reader = _Reader(table, tuple(key_columns), tuple(key), max_bytes)
    last: tuple[tuple[str, ...], ShownRow | None] | None = None
    image_read = ""
    for snapshot in (*trail.snapshots(), None):
        if snapshot is not None and snapshot.image == image_read:
            continue
        if snapshot is None and now is None:
            return
        try:
            if snapshot is None:
                assert now is not None
                found = reader.read(now)
            else:
                with closing(trail.open(snapshot)) as image:
                    if opened:
                        opened(image)
                    found = reader.read(image)
                image_read = snapshot.image
        except JondelError as error:
            yield Version(snapshot, None, (), None, (), str(error))
            continue
        version = _version(snapshot, last, found)
        last = found
        if version is not None:
            yield version


class _Reader:
    """Reads one record from one state after the other."""

    def __init__(
        self, table: str, key_columns: tuple[str, ...], key: tuple[StoredValue, ...], limit: int
    ) -> None:
        self._table = table
        self._key_columns = key_columns
        self._key = key
        self._limit = limit

    def read(self, database: Database) -> tuple[tuple[str, ...], ShownRow | None]:
        table = database.schema().find(self._table)
        if table is None:
            return (), None
        columns = self._columns_in(table)
        if columns is None:
            return table.column_names, None
        position = database.find_position(table, columns, self._key)
        if position is None:
            return table.column_names, None
        return table.column_names, database.read_record(table, position, self._limit)

    def _columns_in(self, table: Table) -> tuple[str, ...] | None:
        if self._key_columns == ("rowid",) and table.column("rowid") is None:
            return (table.row_id,) if table.row_id else None
        known = set(table.column_names)
        return self._key_columns if known.issuperset(self._key_columns) else None


def _version(
    snapshot: Snapshot | None,
    last: tuple[tuple[str, ...], ShownRow | None] | None,
    found: tuple[tuple[str, ...], ShownRow | None],
) -> Version | None:
    columns, row = found
    if last is None or last[1] is None:
        if row is None:
            return None
        return Version(snapshot, "added" if last is not None else None, columns, row)
    if row is None:
        return Version(snapshot, "removed", last[0], None)
    earlier = dict(zip(last[0], last[1], strict=True))
    cells = tuple(
        CellChange(name, _before(earlier, name), value)
        for name, value in zip(columns, row, strict=True)
        if name not in earlier or not identical(earlier[name], value)
    )
    return Version(snapshot, "changed", columns, row, cells) if cells else None


def _before(earlier: dict[str, Value], name: str) -> Value | NoValue:
    return earlier.get(name, NO_VALUE)
