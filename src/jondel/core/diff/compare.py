"""Compares two open databases.

``compare`` is the one entrance for everybody who wants to know what changed. A table's differing
records are found by reading both sides in key order (``diff.merge``): all rows, or only those that
can differ where the engine can tell which these are. The result is the same.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import cast

from jondel.core.diff.cells import CellComparison, clipped_change
from jondel.core.diff.keys import Key, comparison_key
from jondel.core.diff.large_values import LargeValues
from jondel.core.diff.merge import Pair, merge
from jondel.core.diff.noise import NoiseRules
from jondel.core.diff.partitions import MovedPart, moved_part, records_apart
from jondel.core.diff.renames import find_renames
from jondel.core.diff.schema_changes import schema_changes
from jondel.core.engines.protocol import Database, Selection
from jondel.core.errors import Cancelled, ReadError, TableUnreadable
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    MARKS,
    ChangeCounts,
    Changes,
    Method,
    RecordChange,
    SchemaChange,
    TableChanges,
    Unread,
)
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Row, ShownRow

_log = logging.getLogger(__name__)
_NO_RULES = NoiseRules()


@dataclass(frozen=True)
class Scope:
    """What to compare: engine-internal tables or not, only some tables, how much to keep.

    ``keep_records`` bounds the records kept for each table, and ``keep_value_bytes`` the size of
    the values kept in them, which are clipped beyond it. Everything is compared and counted all
    the same, but for what ``noise`` hides: that is counted by itself. With ``inside`` it is told of
    the cells that are kept what differs inside their values. ``by_pages`` False has every row read,
    which gives the same and takes longer.
    """

    internal: bool = False
    tables: frozenset[TableId] | None = None
    keep_records: int | None = None
    keep_value_bytes: int | None = None
    noise: NoiseRules = _NO_RULES
    inside: bool = False
    by_pages: bool = True


_EVERYTHING = Scope()


@dataclass(frozen=True)
class TableDifference:
    """A table being compared: what its changes are about, and the records as they are found."""

    schema: str
    table: TableId
    key: Key
    columns_before: tuple[str, ...]
    columns_after: tuple[str, ...]
    records: Iterator[RecordChange]
    method: Method
    declared: Mapping[str, Column] = field(default_factory=dict)
    """The columns of the newer side by name."""
    nothing_to_read: bool = False
    named_by: tuple[str, ...] = ()
    internal: bool = False
    derived: bool = False
    """These three: see ``TableChanges``."""

    @property
    def computed(self) -> tuple[str, ...]:
        """Columns that the engine computes."""
        return tuple(name for name, column in self.declared.items() if column.generated)


def compare(before: Database, after: Database, scope: Scope = _EVERYTHING) -> Changes:
    """Find every difference between two databases and keep it in memory.

    A table that cannot be read is listed in ``unread`` with the reason; the others are compared
    all the same.

    Raises:
        Cancelled: one of the databases was interrupted.
        TargetError: one of the databases became unusable as a whole.
    """
    comparison = Comparison(before, after, scope)
    table_changes: list[TableChanges] = []
    unread: list[Unread] = []
    for name, difference in comparison.tables():
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
        if changes.counts.total or changes.hidden:
            table_changes.append(changes)
    return Changes(
        tuple(table_changes), comparison.schema_changes(), tuple(unread), comparison.method
    )


class Comparison:
    """Two databases being compared, table by table, in constant memory."""

    def __init__(self, before: Database, after: Database, scope: Scope = _EVERYTHING) -> None:
        self._before = before
        self._after = after
        self._scope = scope
        self._renames = find_renames(before, after)
        self._methods: set[Method] = set()

    @property
    def method(self) -> Method:
        """How the tables seen so far were compared."""
        if not self._methods:
            return "same"
        return next(iter(self._methods)) if len(self._methods) == 1 else "pages and rows"

    def schema_changes(self) -> tuple[SchemaChange, ...]:
        return schema_changes(
            self._before.schema(), self._after.schema(), self._renames, self._scope.internal
        )

    def tables(self) -> Iterator[tuple[TableId, TableDifference | Unread]]:
        """Compare table by table, giving records as they are found.

        Consume each table's records before going on; doing so may raise ``ReadError``.
        """
        old, new = self._before.schema(), self._after.schema()
        unread_tables = 0
        alike = (
            self._after.scanner.tables_alike(self._before) if self._scope.by_pages else frozenset()
        )
        for name in self._comparable(old, new):
            if name in alike:
                unread_tables += 1
                self._methods.add("pages")
                continue
            was = old.by_id.get(self._renames.old_table(name))
            try:
                difference = self._difference(was, new.by_id.get(name))
            except Cancelled:
                raise
            except ReadError as error:
                yield name, Unread(name, str(error))
                continue
            self._methods.add(difference.method)
            if difference.nothing_to_read:
                unread_tables += 1
            else:
                _log.info("%s: compared by %s", name, difference.method)
            yield name, difference
        if unread_tables:
            _log.info("%s tables have the same pages", unread_tables)

    def _comparable(self, old: Schema, new: Schema) -> list[TableId]:
        """The tables to compare, those of the new side first, in its order."""
        scope = self._scope
        renamed_away = set(self._renames.tables.values())
        found: dict[TableId, None] = {}
        for table in (*new.tables, *(t for t in old.tables if t.id not in renamed_away)):
            wanted = table.holds_rows and (scope.internal or not table.internal)
            if wanted and (scope.tables is None or table.id in scope.tables):
                found[table.id] = None
        return list(found)

    def _difference(self, old: Table | None, new: Table | None) -> TableDifference:
        before, after = self._before, self._after
        part = moved_part(old, new, before.schema(), after.schema())
        if part is not None:
            return self._difference_apart(part)
        old = old if old is not None and old.holds_rows else None
        new = new if new is not None and new.holds_rows else None
        shown = new or old
        assert shown is not None
        for table in (old, new):
            if table is not None and table.unreadable:
                raise TableUnreadable(f"{table.title}: cannot be read: {table.unreadable}")
        only = None
        if self._scope.by_pages and old is not None and new is not None and old.id == new.id:
            only = after.scanner.rows_that_may_differ(before, shown.id)
        method: Method = "rows" if only is None else "pages"
        if only is not None and only.empty:
            columns = shown.column_names
            nothing: Iterator[RecordChange] = iter(())
            key = Key(shown.primary_key, False, False)  # of no consequence
            return TableDifference(
                shown.schema,
                shown.id,
                key,
                columns,
                columns,
                nothing,
                method,
                nothing_to_read=True,
            )
        key = comparison_key(before, after, old, new)
        renamed = self._renames.columns.get(shown.id, {})
        cells = CellComparison(after, old, new, renamed) if old and new else None
        return TableDifference(
            shown.schema,
            shown.id,
            key,
            old.column_names if old else (),
            new.column_names if new else (),
            _differing_records(before, after, old, new, key, cells, only, self._scope),
            method,
            {column.name: column for column in new.columns} if new else {},
            named_by=shown.unique_key if key.is_row_id else (),
            internal=shown.internal,
            derived=shown.derived,
        )

    def _difference_apart(self, part: MovedPart) -> TableDifference:
        key, records = records_apart(self._before, self._after, part)
        alone, names = part.alone, part.alone.column_names
        return TableDifference(
            alone.schema,
            alone.id,
            key,
            () if part.detached else names,
            names if part.detached else (),
            records,
            "rows",
            {column.name: column for column in alone.columns} if part.detached else {},
        )


def all_is_noise(before: Database, after: Database, rules: NoiseRules) -> bool:
    """Whether records differ, and nothing but what noise rules hide; stops at the first that they
    do not hide.

    Raises:
        Cancelled: one of the databases was interrupted.
    """
    comparison = Comparison(before, after, Scope(noise=rules))
    hidden = False
    for _, difference in comparison.tables():
        if isinstance(difference, Unread):
            return False
        try:
            for record in difference.records:
                if rules.without_noise(difference.table, record) is not None:
                    return False
                hidden = True
        except Cancelled:
            raise
        except ReadError:
            return False
    return hidden and not comparison.schema_changes()


def with_insides(change: RecordChange, difference: TableDifference) -> RecordChange:
    """A change with what differs inside the values of its cells."""
    from jondel.core.diff.inside import with_inside  # not needed where nobody asks

    cells = tuple(with_inside(cell, difference.declared.get(cell.column)) for cell in change.cells)
    return change._replace(cells=cells)


def _collected(difference: TableDifference, scope: Scope) -> TableChanges:
    keep = scope.keep_records
    kept: list[RecordChange] = []
    counts = dict.fromkeys(MARKS, 0)
    hidden = 0
    for record in difference.records:
        change = scope.noise.without_noise(difference.table, record)
        if change is None:
            hidden += 1
            continue
        counts[change.kind] += 1
        if keep is None or len(kept) < keep:
            if scope.inside:
                change = with_insides(change, difference)
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
        hidden,
        difference.named_by,
        difference.internal,
        difference.derived,
        difference.computed,
    )


def _differing_records(
    before: Database,
    after: Database,
    old: Table | None,
    new: Table | None,
    key: Key,
    cells: CellComparison | None,
    only: Selection | None,
    scope: Scope,
) -> Iterator[RecordChange]:
    """Yield a table's differing records in key order."""
    large = LargeValues(before, after, old, new, key, keep_whole=scope.keep_value_bytes is None)
    same_columns = bool(old and new and old.column_names == new.column_names)
    for pair in merge(
        _keyed_rows(before, old, key, only, large.largest),
        _keyed_rows(after, new, key, only, large.largest),
        key.width,
        same_columns,
    ):
        change = _record_change(large.resolved(pair, cells), key, cells)
        if change is not None:
            yield change


def _keyed_rows(
    database: Database,
    table: Table | None,
    key: Key,
    only: Selection | None,
    largest: int | None,
) -> Iterator[list[ShownRow]]:
    """A side's rows: key values, the row number where there is one, then all columns."""
    if table is None:
        return iter(())
    columns = (*key.columns_in(table), *key.row_id_in(table), *table.column_names)
    return database.scanner.stream_rows(table, columns, key.columns_in(table), only, largest)


def _record_change(pair: Pair, key: Key, cells: CellComparison | None) -> RecordChange | None:
    before, after = pair
    present = after if after is not None else before
    assert present is not None
    record_key = cast(Row, present[: key.width])
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
