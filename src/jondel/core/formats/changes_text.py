"""Changes as lines of plain text for reading in a terminal or a log."""

from __future__ import annotations

from collections.abc import Iterator

from jondel.core.browse.display import CLIP_SIGN, line, safe_name
from jondel.core.formats.inside_text import Part, inside_lines, plain
from jondel.core.model.changes import (
    MARKS,
    CellChange,
    Changes,
    NoValue,
    RecordChange,
    SchemaChange,
    TableChanges,
)
from jondel.core.model.differences import Difference, TextDifference, TimeDifference
from jondel.core.model.values import kind_of

WHOLE = 1 << 40
"""More characters than any value has."""
_VALUE_CHARACTERS = 60
_ROW_CHARACTERS = 160
_MOST_INSIDE = 12


def change_lines(changes: Changes, *, whole: bool = False) -> Iterator[str]:
    """Say what changed: a line a table, a line a record, a line a changed cell.

    Long values and rows are cut with a sign, except where they are wanted ``whole``.
    """
    if changes.empty and not changes.unread:
        yield "no changes"
    for entry in changes.schema_changes:
        yield f"schema  {schema_words(entry)}"
    for table in changes.tables:
        if not table.counts.total:
            continue
        yield f"{safe_name(table.table)}  {table.counts.marked()}"
        for record in table.records:
            yield from _record_lines(table, record, whole=whole)
        hidden = table.counts.total - len(table.records)
        if hidden:
            yield f"  … {hidden} more records, not listed"


def record_name(table: TableChanges, record: RecordChange, limit: int = _VALUE_CHARACTERS) -> str:
    """What a record is called, on one line: its key, or what else no two records share."""
    return " · ".join(line(value, limit) for value in table.name_of(record))


def schema_words(entry: SchemaChange) -> str:
    """A change of the schema on one line: of what, and from what to what where that is short."""
    words = f"{entry.kind}: {safe_name(entry.object)}"
    if entry.before is None or entry.after is None:
        return words
    if entry.kind.endswith("renamed"):
        return f"{words}, which was {safe_name(entry.before)}"
    if entry.kind.startswith("column"):
        return f"{words}, from {safe_name(entry.before)} to {safe_name(entry.after)}"
    return words


def _cell_before(cell: CellChange, limit: int) -> str:
    """The value before, or a sign for a column that was not there."""
    if isinstance(cell.before, NoValue):
        return "(new column)"
    return line(cell.before, limit)


def cell_lines(cell: CellChange, *, whole: bool = False) -> Iterator[str]:
    """What became of a cell: a line, or one for each part of its value that differs."""
    lines = [plain(parts) for parts in cell_parts(cell, whole=whole)]
    most = _MOST_INSIDE if len(lines) > _MOST_INSIDE + 1 and not whole else len(lines)
    yield from lines[:most]
    if lines[most:]:
        yield f"{CLIP_SIGN} {len(lines) - most} more parts of it differ"


def cell_parts(cell: CellChange, *, whole: bool = False) -> Iterator[list[Part]]:
    """What became of a cell: a line, or one for each part of its value that differs."""
    limit = WHOLE if whole else _VALUE_CHARACTERS
    before, after = _cell_before(cell, limit), line(cell.after, limit)
    both = [Part(before, "before"), Part(" → ", "mark"), Part(after, "after")]
    if cell.inside is None:
        if before == after and not isinstance(cell.before, NoValue):
            classes = kind_of(cell.before), kind_of(cell.after)
            both.append(Part(f"  {classes[0]} → {classes[1]}", "mark"))
        yield both
    elif isinstance(cell.inside, TimeDifference):
        (read,) = inside_lines(cell.inside)
        yield [*both, Part("  ", "same"), *read]
    elif _is_all_of_it(cell.inside) and before != after:
        yield both
    else:
        yield from inside_lines(cell.inside)


def _is_all_of_it(inside: Difference) -> bool:
    """Whether there is nothing that both values have in common."""
    if not isinstance(inside, TextDifference) or len(inside.edits) != 1:
        return False
    (edit,) = inside.edits
    return not (edit.lead or edit.trail or edit.at_before)


def _record_lines(table: TableChanges, record: RecordChange, *, whole: bool) -> Iterator[str]:
    head = f"  {MARKS[record.kind]} {record_name(table, record)}"
    if record.kind == "changed":
        width = max(len(safe_name(cell.column)) for cell in record.cells)
        start = head
        for cell in record.cells:
            name = safe_name(cell.column).ljust(width)
            for text in cell_lines(cell, whole=whole):
                yield f"{start}  {name}  {text}"
                start, name = " " * len(head), " " * width
        return
    columns = table.columns_after if record.kind == "added" else table.columns_before
    row = record.after if record.kind == "added" else record.before
    cells = [
        f"{safe_name(name)} {line(value, WHOLE if whole else _VALUE_CHARACTERS)}"
        for name, value in zip(columns, row or (), strict=True)
        if name not in table.key_columns
    ]
    shown = " · ".join(cells)
    if len(shown) > _ROW_CHARACTERS and not whole:
        shown = shown[: _ROW_CHARACTERS - 1] + "…"
    yield f"{head}  {shown}".rstrip()
