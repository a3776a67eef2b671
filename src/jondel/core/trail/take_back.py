"""Turns changes around: what to write so that a database is again as it was before them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from jondel.core.browse.display import line
from jondel.core.engines.protocol import Database
from jondel.core.errors import WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, NoValue, RecordChange, TableChanges
from jondel.core.model.schema import ForeignKey, Schema, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue, Value
from jondel.core.model.writes import Cells, LinkCheck, RowWrite, WriteKind, WritePlan

_LISTED = 3
_LOOKED_FOR_SINGLY = 3
"""More values than this are looked for in one pass over their table, which need not be indexed."""


def plan_to_take_back(
    changes: Changes,
    before: Database,
    now: Schema,
    *,
    replacing: bool = False,
    triggers: bool = False,
) -> WritePlan:
    """The writes that undo changes, each only where the row still is as the changes left it.

    Rows go first, then cells change, then rows come back, so that a key or a unique value is free
    when it is needed; ``replacing`` has whole rows go and come back instead of cells changing, for
    values that changed places. ``before`` is the state before the changes: a link that led nowhere
    there may do so again. Rows of virtual tables are kept in tables of their own and come back
    with these. What could not be compared is left alone.

    Raises:
        WriteRefused: the changes cannot be undone row by row.
    """
    if changes.schema_changes:
        named = ", ".join(f"{c.kind}: {c.object}" for c in changes.schema_changes[:_LISTED])
        raise WriteRefused(
            f"the schema changed too ({named}); restore the whole database to before it instead"
        )
    deletes: list[RowWrite] = []
    updates: list[RowWrite] = []
    inserts: list[RowWrite] = []
    links = _Links(now, before)
    for entry in changes.tables:
        table = now.find(entry.table)
        if table is None or table.column_names != entry.columns_after:
            raise WriteRefused(
                f"{entry.table}: its columns have changed; restore the whole database instead"
            )
        if table.kind not in ("table", "partitioned table"):
            continue
        rows = _Rows(table, entry)
        for record in entry.records:
            if record.kind == "added":
                deletes.append(rows.delete(record))
            elif record.kind == "removed":
                inserts.append(rows.insert(record))
            elif replacing and table.row_id is not None:
                deletes.append(rows.delete(record))
                inserts.append(rows.insert(record))
            else:
                updates.append(rows.update(record))
            links.add(table, record)
    return WritePlan((*deletes, *updates, *inserts), tuple(links.checks()), triggers)


class _Rows:
    """Writes that undo changes of one table's records."""

    def __init__(self, table: Table, entry: TableChanges) -> None:
        self._table = table
        self._entry = entry
        self._writable = [i for i, c in enumerate(table.columns) if not c.generated]

    def delete(self, record: RecordChange) -> RowWrite:
        assert record.after is not None
        expected = (*self._row_id(record), *self._cells(record.after))
        return self._write("delete", expected, (), record)

    def insert(self, record: RecordChange) -> RowWrite:
        assert record.before is not None
        values = self._cells(record.before)
        row_id = self._row_id(record)
        # A column that is the row number under another name has it already.
        if row_id and row_id[0][0] not in dict(values):
            values = (*row_id, *values)
        return self._write("insert", (), values, record)

    def update(self, record: RecordChange) -> RowWrite:
        assert record.before is not None
        assert record.after is not None
        expected: list[tuple[str, StoredValue]] = [*self._row_id(record)]
        if not expected:
            expected += zip(self._entry.key_columns, record.key, strict=True)
        values: list[tuple[str, StoredValue]] = []
        generated = {column.name for column in self._table.columns if column.generated}
        for cell in record.cells:
            if cell.column in generated:
                continue
            if isinstance(cell.before, NoValue):
                raise WriteRefused(f"{self._table.name}.{cell.column}: the column was not there")
            expected.append((cell.column, _whole(cell.after)))
            values.append((cell.column, _whole(cell.before)))
        return self._write("update", tuple(expected), tuple(values), record)

    def _write(
        self, kind: WriteKind, expected: Cells, values: Cells, record: RecordChange
    ) -> RowWrite:
        table, words = self._table, _words(record)
        return RowWrite(kind, table.id, expected, values, words, table.position_columns)

    def _row_id(self, record: RecordChange) -> Cells:
        if self._table.row_id is None or record.row_id is None:
            return ()
        return ((self._table.row_id, record.row_id),)

    def _cells(self, row: ShownRow) -> Cells:
        names = self._table.column_names
        return tuple((names[i], _whole(row[i])) for i in self._writable)


class _Links:
    """Collects what must hold between records when the changes are undone."""

    def __init__(self, now: Schema, before: Database) -> None:
        self._now = now
        self._before = before
        self._checks: dict[LinkCheck, None] = {}
        self._incoming: dict[TableId, list[tuple[Table, ForeignKey]]] = {}
        for child in now.tables:
            # What cannot be read cannot be checked here; the engine itself sees to its links.
            for key in child.foreign_keys if not child.unreadable else ():
                parent = now.find(key.target_table)
                if parent is not None:
                    self._incoming.setdefault(parent.id, []).append((child, key))

    def add(self, table: Table, record: RecordChange) -> None:
        if record.before is not None:
            for key in table.foreign_keys:
                parent = self._now.find(key.target_table)
                if parent is not None and not parent.unreadable:
                    self._check(table, key, parent, _values(table, key.columns, record.before))
        if record.after is not None:
            for child, key in self._incoming.get(table.id, ()):
                columns = key.target_columns or table.primary_key
                values = _values(table, columns, record.after)
                if record.before is None or _values(table, columns, record.before) != values:
                    self._check(child, key, table, values)

    def _check(
        self, child: Table, key: ForeignKey, parent: Table, values: tuple[StoredValue, ...]
    ) -> None:
        columns = key.target_columns or parent.primary_key
        if None in values or len(columns) != len(values):
            return
        ends = child.id, key.columns, parent.id, columns
        self._checks[LinkCheck(*ends, values, child.position_columns)] = None

    def checks(self) -> list[LinkCheck]:
        """What must hold; not what did not hold in the state before the changes already."""
        broken: set[LinkCheck] = set()
        relations: dict[tuple[TableId | tuple[str, ...], ...], list[LinkCheck]] = {}
        for check in self._checks:
            ends = (check.child, check.child_columns, check.parent, check.parent_columns)
            relations.setdefault(ends, []).append(check)
        schema = self._before.schema()
        for checks in relations.values():
            child, parent = schema.find(checks[0].child), schema.find(checks[0].parent)
            if child is None or parent is None or child.unreadable or parent.unreadable:
                continue
            led_to = self._held(parent, checks[0].parent_columns, checks)
            nowhere = [check for place, check in enumerate(checks) if place not in led_to]
            held = self._held(child, checks[0].child_columns, nowhere)
            broken |= {check for place, check in enumerate(nowhere) if place in held}
        return [check for check in self._checks if check not in broken]

    def _held(
        self, table: Table, columns: tuple[str, ...], checks: Sequence[LinkCheck]
    ) -> set[int]:
        """Which of the checks' values some row held, by their places."""
        keys = [check.values for check in checks]
        if len(keys) > _LOOKED_FOR_SINGLY and not table.unknown_order:
            return self._before.rows.which_occur(table, columns, keys)
        find = self._before.rows.find_position
        return {n for n, key in enumerate(keys) if find(table, columns, key) is not None}


def only_record(changes: Changes, table: TableId, is_it: Callable[[RecordChange], bool]) -> Changes:
    """The changes of one record alone, of those given."""
    entry = changes.table(table)
    records = tuple(record for record in (entry.records if entry else ()) if is_it(record))
    if entry is None or not records:
        return Changes()
    kept = TableChanges(
        entry.schema,
        entry.table,
        entry.key_columns,
        entry.key_is_row_id,
        entry.columns_before,
        entry.columns_after,
        records,
        entry.counts,
        named_by=entry.named_by,
    )
    return Changes((kept,), method=changes.method)


def _values(table: Table, columns: tuple[str, ...], row: ShownRow) -> tuple[StoredValue, ...]:
    places = {name.casefold(): i for i, name in enumerate(table.column_names)}
    values = [row[places[c.casefold()]] for c in columns if c.casefold() in places]
    return tuple(_whole(value) for value in values)


def _whole(value: Value | NoValue) -> StoredValue:
    if isinstance(value, Clipped):
        raise WriteRefused("a value was not kept whole, so it cannot be put back")
    return value  # type: ignore[return-value]


def _words(record: RecordChange) -> str:
    return " · ".join(line(value, 60) for value in record.key)
