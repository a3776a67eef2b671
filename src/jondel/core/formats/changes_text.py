"""Changes as lines of plain text for reading in a terminal or a log."""

from __future__ import annotations

from collections.abc import Iterator

from jondel.core.browse.display import line, safe_name
from jondel.core.model.changes import (
    MARKS,
    CellChange,
    Changes,
    NoValue,
    RecordChange,
    TableChanges,
)

_VALUE_CHARACTERS = 60
_ROW_CHARACTERS = 160


def change_lines(changes: Changes) -> Iterator[str]:
    """Say what changed: a line a table, a line a record, a line a changed cell."""
    if changes.empty and not changes.unread:
        yield "no changes"
    for entry in changes.schema_changes:
        yield f"schema  {entry.kind}: {safe_name(entry.object)}"
    for table in changes.tables:
        if not table.counts.total:
            continue
        yield f"{safe_name(table.table)}  {table.counts.marked()}"
        for record in table.records:
            yield from _record_lines(table, record)
        hidden = table.counts.total - len(table.records)
        if hidden:
            yield f"  … {hidden} more records, not listed"


def key_text(record: RecordChange) -> str:
    """A record's key on one line."""
    return " · ".join(line(value, _VALUE_CHARACTERS) for value in record.key)


def cell_before(cell: CellChange) -> str:
    """The value before, or a sign for a column that was not there."""
    if isinstance(cell.before, NoValue):
        return "(new column)"
    return line(cell.before, _VALUE_CHARACTERS)


def cell_text(cell: CellChange) -> str:
    """A changed cell on one line."""
    after = line(cell.after, _VALUE_CHARACTERS)
    return f"{safe_name(cell.column)}  {cell_before(cell)} → {after}"


def _record_lines(table: TableChanges, record: RecordChange) -> Iterator[str]:
    head = f"  {MARKS[record.kind]} {key_text(record)}"
    if record.kind == "changed":
        width = max(len(safe_name(cell.column)) for cell in record.cells)
        for index, cell in enumerate(record.cells):
            name = safe_name(cell.column).ljust(width)
            start = head if index == 0 else " " * len(head)
            after = line(cell.after, _VALUE_CHARACTERS)
            yield f"{start}  {name}  {cell_before(cell)} → {after}"
        return
    columns = table.columns_after if record.kind == "added" else table.columns_before
    row = record.after if record.kind == "added" else record.before
    cells = [
        f"{safe_name(name)} {line(value, _VALUE_CHARACTERS)}"
        for name, value in zip(columns, row or (), strict=True)
        if name not in table.key_columns
    ]
    shown = " · ".join(cells)
    if len(shown) > _ROW_CHARACTERS:
        shown = shown[: _ROW_CHARACTERS - 1] + "…"
    yield f"{head}  {shown}".rstrip()
