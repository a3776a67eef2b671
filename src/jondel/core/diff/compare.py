"""Compares two open databases.

``compare`` is the one entrance for everybody who wants to know what changed. How the differing
records of a table are found is its own business: today by reading both sides in key order
(``diff.merge``); a faster way belongs behind ``_differing_records`` and must give the same.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from jondel.core.diff.cells import CellComparison, clipped_change
from jondel.core.diff.keys import Key, comparison_key
from jondel.core.diff.merge import Pair, merge
from jondel.core.diff.schema_changes import schema_changes
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, ReadError, TableUnreadable
from jondel.core.model.changes import (
    MARKS,
    ChangeCounts,
    Changes,
    RecordChange,
    TableChanges,
    Unread,
)
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row


@dataclass(frozen=True)
class Scope:
    """What to compare: engine-internal tables or not, only some tables, how much to keep.

    ``keep_records`` bounds the records kept for each table, and ``keep_value_bytes`` the size of
    the values kept in them, which are clipped beyond it. Everything is compared and counted all
    the same.
    """

    internal: bool = False
    tables: frozenset[str] | None = None
    keep_records: int | None = None
    keep_value_bytes: int | None = None


_EVERYTHING = Scope()


@dataclass(frozen=True)
class TableDifference:
    """A table being compared: what its changes are about, and the records as they are found."""

    schema: str
    table: str
    key: Key
    columns_before: tuple[str, ...]
    columns_after: tuple[str, ...]
    records: Iterator[RecordChange]


def compare(before: Database, after: Database, scope: Scope = _EVERYTHING) -> Changes:
    """Find every difference between two databases and keep it in memory.

    A table that cannot be read is listed in ``unread`` with the reason; the others are compared
    all the same.

    Raises:
        Cancelled: one of the databases was interrupted.
        TargetError: one of the databases became unusable as a whole.
    """
    found: list[TableChanges] = []
    unread: list[Unread] = []
    for name, difference in differences(before, after, scope):
        if isinstance(difference, Unread):
            unread.append(difference)
            continue
        try:
            changes = _collected(difference, scope)
        except Cancelled:
            raise
        except ReadError as error:
            unread.append(Unread(name, str(error)))
            continue
        if changes.counts.total:
            found.append(changes)
    return Changes(
        tuple(found),
        schema_changes(before.schema(), after.schema(), scope.internal),
        tuple(unread),
    )


def differences(
    before: Database, after: Database, scope: Scope = _EVERYTHING
) -> Iterator[tuple[str, TableDifference | Unread]]:
    """Compare table by table in constant memory, giving records as they are found.

    Consume each table's records before going on; doing so may raise ``ReadError``.
    """
    old, new = before.schema(), after.schema()
    old_tables, new_tables = ({t.name: t for t in side.tables} for side in (old, new))
    for name in _comparable(old, new, scope):
        try:
            yield (
                name,
                _difference(before, after, old_tables.get(name), new_tables.get(name)),
            )
        except Cancelled:
            raise
        except ReadError as error:
            yield name, Unread(name, str(error))


def _comparable(old: Schema, new: Schema, scope: Scope) -> list[str]:
    """Names of the tables to compare, those of the new side first, in its order."""
    names: dict[str, None] = {}
    for table in (*new.tables, *old.tables):
        wanted = table.kind != "view" and (scope.internal or not table.internal)
        if wanted and (scope.tables is None or table.name in scope.tables):
            names[table.name] = None
    return list(names)


def _difference(
    before: Database, after: Database, old: Table | None, new: Table | None
) -> TableDifference:
    old = old if old is not None and old.kind != "view" else None
    new = new if new is not None and new.kind != "view" else None
    shown = new or old
    assert shown is not None
    for table in (old, new):
        if table is not None and table.unreadable:
            raise TableUnreadable(f"{table.name}: cannot be read: {table.unreadable}")
    key = comparison_key(before, after, old, new)
    cells = CellComparison(after, old, new) if old and new else None
    return TableDifference(
        shown.schema,
        shown.name,
        key,
        old.column_names if old else (),
        new.column_names if new else (),
        _differing_records(before, after, old, new, key, cells),
    )


def _collected(difference: TableDifference, scope: Scope) -> TableChanges:
    keep = scope.keep_records
    kept: list[RecordChange] = []
    counts = dict.fromkeys(MARKS, 0)
    for change in difference.records:
        counts[change.kind] += 1
        if keep is None or len(kept) < keep:
            kept.append(clipped_change(change, scope.keep_value_bytes))
    return TableChanges(
        difference.schema,
        difference.table,
        difference.key.columns,
        difference.key.is_row_id,
        difference.columns_before,
        difference.columns_after,
        tuple(kept),
        ChangeCounts(**counts),
    )


def _differing_records(
    before: Database,
    after: Database,
    old: Table | None,
    new: Table | None,
    key: Key,
    cells: CellComparison | None,
) -> Iterator[RecordChange]:
    """Yield a table's differing records in key order."""
    same_columns = bool(old and new and old.column_names == new.column_names)
    for pair in merge(
        _keyed_rows(before, old, key), _keyed_rows(after, new, key), key.width, same_columns
    ):
        change = _record_change(pair, key, cells)
        if change is not None:
            yield change


def _keyed_rows(database: Database, table: Table | None, key: Key) -> Iterator[list[Row]]:
    """A side's rows: key values, the row number where there is one, then all columns."""
    if table is None:
        return iter(())
    columns = (*key.columns_in(table), *key.row_id_in(table), *table.column_names)
    return database.stream_rows(table, columns, key.columns_in(table))


def _record_change(pair: Pair, key: Key, cells: CellComparison | None) -> RecordChange | None:
    before, after = pair
    present = after if after is not None else before
    assert present is not None
    record_key = present[: key.width]
    row_id = present[key.width] if key.with_row_id else None
    number = row_id if isinstance(row_id, int) else None
    start = key.width + key.with_row_id
    if before is None:
        return RecordChange("added", record_key, None, present[start:], (), number)
    if after is None:
        return RecordChange("removed", record_key, present[start:], None, (), number)
    assert cells is not None
    differing = cells.differing(before[start:], after[start:])
    if not differing:
        return None
    return RecordChange("changed", record_key, before[start:], after[start:], differing, number)
