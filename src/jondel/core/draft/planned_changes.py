"""What a plan will have changed, told as changes are: record by record, table by table."""

from __future__ import annotations

from jondel.core.diff.inside import with_inside
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    NO_VALUE,
    CellChange,
    ChangeCounts,
    ChangeKind,
    Changes,
    RecordChange,
    TableChanges,
)
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import RowWrite, WriteKind, WritePlan

_KINDS: dict[WriteKind, ChangeKind] = {
    "insert": "added",
    "update": "changed",
    "delete": "removed",
}


def planned_changes(plan: WritePlan, schema: Schema, most: int) -> Changes:
    """The changes that a plan makes, without what defaults and triggers add to them.

    Tables come in the order in which they are written first. The first ``most`` records are told
    by their cells, with what differs inside long values; of the others there are the counts. The
    cells of a record that comes or goes have no value before; those that are too large to be held
    are left out. A new record has the key that it is given, or none.
    """
    tables: dict[TableId, list[RowWrite]] = {}
    counts: dict[TableId, ChangeCounts] = {}
    for number, write in enumerate(plan.writes):
        told = tables.setdefault(write.table, [])
        if number < most:
            told.append(write)
        kind = _KINDS[write.kind]
        counts[write.table] = counts.get(write.table, ChangeCounts()).counted(kind)
    found = []
    for name, writes in tables.items():
        table = schema.find(name)
        if table is not None:
            found.append(_of_table(table, writes, counts[name]))
    return Changes(tuple(found))


def _of_table(table: Table, writes: list[RowWrite], counts: ChangeCounts) -> TableChanges:
    key = table.naming_columns or table.position_columns
    names = table.column_names
    records = tuple(_record(table, key, write) for write in writes)
    keyed_by_row = not table.primary_key
    return TableChanges(table.schema, table.id, key, keyed_by_row, names, names, records, counts)


def _record(table: Table, key: tuple[str, ...], write: RowWrite) -> RecordChange:
    before = _folded(write.expected)
    held = {**before, **_folded(write.values)} if write.kind == "insert" else before
    named = tuple(held[name.casefold()] for name in key if name.casefold() in held)
    if write.kind == "update":
        cells = [
            CellChange(name, before.get(name.casefold(), NO_VALUE), value)
            for name, value in write.values
        ]
        return RecordChange(
            "changed",
            named,
            None,
            None,
            tuple(with_inside(c, table.column(c.column)) for c in cells),
        )
    held_cells = write.values if write.kind == "insert" else write.expected
    columns = {name.casefold(): name for name in table.column_names}
    cells = [
        CellChange(columns[name.casefold()], NO_VALUE, value)
        for name, value in held_cells
        if name.casefold() in columns
    ]
    return RecordChange(_KINDS[write.kind], named, None, None, tuple(cells))


def _folded(cells: tuple[tuple[str, StoredValue], ...]) -> dict[str, StoredValue]:
    return {name.casefold(): value for name, value in cells}
