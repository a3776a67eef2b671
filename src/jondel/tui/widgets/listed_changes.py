"""Changes as a list to be read before they are made: table by table, record by record."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.table import Table as RichTable
from rich.text import Text
from textual.widget import Widget

from jondel.core.browse.display import CLIP_SIGN, grouped, line, safe_name
from jondel.core.formats.changes_text import record_name, schema_words
from jondel.core.model.changes import (
    MARKS,
    CellChange,
    Changes,
    NoValue,
    RecordChange,
    TableChanges,
)
from jondel.tui.widgets.changed_cell import append_changed_cell
from jondel.tui.widgets.styles import change_style, ink

MOST_LISTED = 500
"""So many records are listed; a person who reads on reads a file."""
_VALUE_CHARACTERS = 60
_KEY_CHARACTERS = 40
_ROW_CHARACTERS = 400


def listed_changes(widget: Widget, changes: Changes) -> RenderableType:
    """The changes as text: each table with its counts, then its records."""
    parts: list[RenderableType] = []
    left = MOST_LISTED
    for entry in changes.schema_changes:
        parts.append(Text.assemble(("schema  ", ink(widget, "brass")), schema_words(entry)))
    for table in changes.tables:
        if not table.counts.total:
            continue
        head = Text(safe_name(table.table), ink(widget, "brass", bold=True))
        parts.append(head.append(f"  {table.counts.marked()}", ink(widget, "sand-dim")))
        listed = table.records[:left]
        parts.append(_records(widget, table, listed))
        left -= len(listed)
        unlisted = table.counts.total - len(listed)
        if unlisted:
            words = f"  {CLIP_SIGN} {grouped(unlisted)} more"
            parts.append(Text(words, ink(widget, "sand-dim")))
    for unread in changes.unread:
        reason = unread.reason.removeprefix(f"{unread.table}: ")
        words = f"{safe_name(unread.table)}  not compared: {line(reason, _ROW_CHARACTERS)}"
        parts.append(Text(f"! {words}", ink(widget, "brass")))
    if changes.hidden:
        records = "record" if changes.hidden == 1 else "records"
        words = f"and {grouped(changes.hidden)} {records} that noise rules hide"
        parts.append(Text(words, ink(widget, "sand-dim")))
    return Group(*parts)


def _records(widget: Widget, table: TableChanges, records: Sequence[RecordChange]) -> RichTable:
    """One line a record or more, each under the others of its column."""
    grid = RichTable.grid(padding=(0, 1))
    grid.add_column(width=3)
    grid.add_column(overflow="fold")
    grid.add_column(overflow="fold", ratio=1)
    for record in records:
        mark = Text(f"  {MARKS[record.kind]}", change_style(widget, record.kind))
        changed = record.kind == "changed"
        cells = _cells(widget, record) if changed else _row(widget, table, record)
        grid.add_row(mark, Text(f"{record_name(table, record, _KEY_CHARACTERS) or 'new'} "), cells)
    return grid


def _cells(widget: Widget, record: RecordChange) -> Text:
    text = Text()
    for number, cell in enumerate(record.cells):
        text.append("\n" if number else "")
        text.append(f"{safe_name(cell.column)}  ", ink(widget, "sand-dim"))
        _append_cell(text, widget, cell)
    return text


def _append_cell(text: Text, widget: Widget, cell: CellChange) -> None:
    if isinstance(cell.before, NoValue):
        text.append(f"→ {line(cell.after, _VALUE_CHARACTERS)}")
    else:
        append_changed_cell(text, widget, cell, "", f"\n{' ' * len(safe_name(cell.column))}  ")


def _row(widget: Widget, table: TableChanges, record: RecordChange) -> Text:
    """The cells of a record that comes or goes, as many as fit."""
    text, dim = Text(), ink(widget, "sand-dim")
    row = record.after if record.kind == "added" else record.before
    columns = table.columns_after if record.kind == "added" else table.columns_before
    cells = [*zip(columns, row or (), strict=False), *((c.column, c.after) for c in record.cells)]
    shown = [(name, value) for name, value in cells if name not in table.key_columns]
    if not shown and not record.key:
        text.append("all defaults", dim)
    room = _ROW_CHARACTERS
    for number, (name, value) in enumerate(shown):
        words = line(value, _VALUE_CHARACTERS)
        room -= len(name) + len(words) + 4
        if number:
            text.append(" · ", dim)
        if room < 0:
            return text.append(f"{CLIP_SIGN} {len(shown) - number} more columns", dim)
        text.append(f"{safe_name(name)} ", dim)
        text.append(words)
    return text
