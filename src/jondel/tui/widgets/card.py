"""The card: one record, shown vertically, every value in full."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text
from textual.containers import VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import full_lines, safe_name
from jondel.core.model.changes import MARKS, NoValue, RecordChange, TableChanges
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import ShownRow, Value, identical
from jondel.tui.widgets.styles import VALUE_CLASSES, VALUE_CSS, change_style, value_style


class Card(VerticalScroll, can_focus=True):
    """The current record, or what happened to a record."""

    COMPONENT_CLASSES = VALUE_CLASSES | {"card--name", "card--type"}
    DEFAULT_CSS = (
        "Card { background: $surface; padding: 0 1; scrollbar-size-vertical: 1;"
        + VALUE_CSS
        + """
        & > .card--name { color: $sand-dim; }
        & > .card--type { color: $sea; }
        & > Static { width: 1fr; height: auto; }
    }
    """
    )

    def compose(self):  # type: ignore[no-untyped-def]
        yield Static(id="card-text", markup=False)

    def show_record(self, table: Table, row: ShownRow, change: RecordChange | None = None) -> None:
        """Show a record's values, marking the cells by which it changed."""
        text = Text()
        before = {cell.column: cell.before for cell in change.cells} if change else {}
        for column, value in zip(table.columns, row, strict=False):
            self._append_name(text, column.name, _remark(table, column))
            if column.name in before:
                text.append(f" {MARKS['changed']}", change_style(self, "changed"))
            text.append("\n")
            if column.name in before:
                self._earlier(text, before[column.name])
            self._value(text, value)
        self._show(text)

    def show_change(self, changes: TableChanges, record: RecordChange) -> None:
        """Show what happened to a record: all its values, before and after where they differ."""
        text = Text()
        columns = changes.columns_before if record.kind == "removed" else changes.columns_after
        row = record.before if record.kind == "removed" else record.after
        differing = {cell.column: cell for cell in record.cells}
        for name, value in zip(columns, row or (), strict=True):
            self._append_name(text, name, "")
            cell = differing.get(name)
            if cell is not None:
                text.append(f" {MARKS['changed']}", change_style(self, "changed"))
            text.append("\n")
            if cell is not None and not _same(cell.before, value):
                self._earlier(text, cell.before)
            self._value(text, value)
        self._show(text)

    def clear(self, words: str = "") -> None:
        """Show a sentence in place of a record."""
        self._show(Text(words, self._style("card--name")))

    def _show(self, text: Text) -> None:
        self.query_one("#card-text", Static).update(text)

    def _style(self, name: str) -> Style:
        style = self.get_component_rich_style(name, partial=True)
        return Style(color=style.color, bold=style.bold)

    def _append_name(self, text: Text, name: str, remark: str) -> None:
        text.append(safe_name(name), self._style("card--name"))
        if remark:
            text.append(f"  {remark}", self._style("card--type"))

    def _earlier(self, text: Text, value: object) -> None:
        style = Style(color=self._style("card--name").color)
        text.append("  was ", style)
        if isinstance(value, NoValue):
            text.append("not there: the column is new\n", style)
            return
        for piece in full_lines(value)[0]:  # type: ignore[arg-type]
            text.append(piece.text, style)
        text.append("\n")

    def _value(self, text: Text, value: Value) -> None:
        for line in full_lines(value):
            text.append("  ")
            for piece in line:
                text.append(piece.text, value_style(self, piece.role))
            text.append("\n")


def _same(before: object, after: Value) -> bool:
    return not isinstance(before, NoValue) and identical(before, after)  # type: ignore[arg-type]


def _remark(table: Table, column: Column) -> str:
    parts = []
    if column.key_position:
        parts.append("◆ key")
    for link in table.links_from(column.name):
        targets = ", ".join(link.target_columns)
        target = f"{link.target_table}.{targets}" if targets else link.target_table
        parts.append(f"→ {safe_name(target)}")
    if column.declared_type:
        parts.append(safe_name(column.declared_type.lower()))
    return " · ".join(parts)
