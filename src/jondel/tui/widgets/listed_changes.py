"""Changes as a list to be read before they are made: table by table, record by record."""

from __future__ import annotations

from rich.text import Text
from textual.widget import Widget

from jondel.core.browse.display import CLIP_SIGN, grouped, line, safe_name
from jondel.core.formats.changes_text import key_text, schema_words
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
_ROW_CHARACTERS = 400


def listed_changes(widget: Widget, changes: Changes) -> Text:
    """The changes as text: each table with its counts, then its records."""
    text, left = Text(), MOST_LISTED
    for entry in changes.schema_changes:
        text.append("schema  ", ink(widget, "brass"))
        text.append(f"{schema_words(entry)}\n")
    for table in changes.tables:
        if not table.counts.total:
            continue
        text.append(safe_name(table.table), ink(widget, "brass", bold=True))
        text.append(f"  {table.counts.marked()}\n", ink(widget, "sand-dim"))
        listed = table.records[:left]
        for record in listed:
            _append_record(text, widget, table, record)
        left -= len(listed)
        unlisted = table.counts.total - len(listed)
        if unlisted:
            text.append(f"  {CLIP_SIGN} {grouped(unlisted)} more\n", ink(widget, "sand-dim"))
    if changes.hidden:
        records = "record" if changes.hidden == 1 else "records"
        words = f"and {grouped(changes.hidden)} {records} that noise rules hide\n"
        text.append(words, ink(widget, "sand-dim"))
    text.rstrip()
    return text


def _append_record(text: Text, widget: Widget, table: TableChanges, record: RecordChange) -> None:
    name = key_text(record) or "new"
    text.append(f"  {MARKS[record.kind]} ", change_style(widget, record.kind))
    text.append(f"{name}  ")
    if record.kind == "changed":
        indent = " " * (len(name) + 6)
        for number, cell in enumerate(record.cells):
            if number:
                text.append(f"\n{indent}")
            text.append(f"{safe_name(cell.column)}  ", ink(widget, "sand-dim"))
            _append_cell(text, widget, cell, indent)
    else:
        _append_row(text, widget, table, record)
    text.append("\n")


def _append_cell(text: Text, widget: Widget, cell: CellChange, indent: str) -> None:
    if isinstance(cell.before, NoValue):
        text.append(f"→ {line(cell.after, _VALUE_CHARACTERS)}")
    else:
        further = f"\n{indent}{' ' * (len(safe_name(cell.column)) + 2)}"
        append_changed_cell(text, widget, cell, "", further)


def _append_row(text: Text, widget: Widget, table: TableChanges, record: RecordChange) -> None:
    """The cells of a record that comes or goes, as many as fit."""
    row = record.after if record.kind == "added" else record.before
    columns = table.columns_after if record.kind == "added" else table.columns_before
    cells = list(zip(columns, row or (), strict=False)) or [
        (c.column, c.after) for c in record.cells
    ]
    shown = [(name, value) for name, value in cells if name not in table.key_columns]
    if not shown and not record.key:
        text.append("all defaults", ink(widget, "sand-dim"))
    room = _ROW_CHARACTERS
    for number, (name, value) in enumerate(shown):
        words = line(value, _VALUE_CHARACTERS)
        room -= len(name) + len(words) + 4
        if number:
            text.append(" · ", ink(widget, "sand-dim"))
        if room < 0:
            text.append(f"{CLIP_SIGN} {len(shown) - number} more columns", ink(widget, "sand-dim"))
            return
        text.append(f"{safe_name(name)} ", ink(widget, "sand-dim"))
        text.append(words)
