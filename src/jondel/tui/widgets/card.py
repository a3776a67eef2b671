"""The card: one record, shown vertically, every value in full."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TypeAlias, cast

from rich.cells import cell_len, chop_cells
from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.geometry import Size
from textual.strip import Strip

from jondel.core.browse.display import Piece, Role, full_lines, safe_name
from jondel.core.model.changes import MARKS, CellChange, NoValue, RecordChange, TableChanges
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.lines import LinesView
from jondel.tui.widgets.styles import change_style, ink, value_style

_INDENT, _MARGIN = 2, 1
_NARROWEST = 8
"""Cells to wrap into at least; a card that is folded away has none."""
_NAME, _TYPE, _CHANGED = "name", "type", "changed"

Run: TypeAlias = tuple[str, str]
"""Characters, and how they are shown: one of the words above, or a value's role."""


class Card(LinesView, can_focus=True):
    """The current record, or what happened to a record. Long lines wrap, at any character."""

    DEFAULT_CSS = "Card { background: $surface; scrollbar-size: 1 1; }"

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._content: list[tuple[int, list[Run]]] = []
        self._wrapped: list[tuple[int, list[Run]]] = []
        self._wrapped_for = 0
        self._strips: dict[int, Strip] = {}
        self._styles: dict[str, Style] = {}
        self._theme = ""
        self._base = Style()

    def show_record(self, table: Table, row: ShownRow, change: RecordChange | None = None) -> None:
        """Show a record's values, marking the cells by which it changed."""
        cells = {cell.column: cell for cell in change.cells} if change else {}
        content: list[tuple[int, list[Run]]] = []
        for column, value in zip(table.columns, row, strict=False):
            content += _field(column.name, _remark(table, column), value, cells.get(column.name))
        self._take(content)

    def show_change(self, changes: TableChanges, record: RecordChange) -> None:
        """Show what happened to a record: all its values, before and after where they differ."""
        columns = changes.columns_before if record.kind == "removed" else changes.columns_after
        row = record.before if record.kind == "removed" else record.after
        cells = {cell.column: cell for cell in record.cells}
        content: list[tuple[int, list[Run]]] = []
        for name, value in zip(columns, row or (), strict=True):
            content += _field(name, "", value, cells.get(name))
        self._take(content)

    def clear(self, words: str = "") -> None:
        """Show a sentence in place of a record."""
        self._take([(0, [(words, _NAME)])])

    @property
    def text(self) -> str:
        """All of the card as plain text, a line a field's name or line of a value."""
        return "\n".join(
            " " * indent + "".join(characters for characters, _ in runs)
            for indent, runs in self._content
        )

    def _take(self, content: list[tuple[int, list[Run]]]) -> None:
        if content != self._content:
            self._content = content
            self._wrap()
            self.scroll_to(0, 0, animate=False)

    def _wrap(self) -> None:
        width = self.scrollable_content_region.width
        self._wrapped_for = width
        self._strips.clear()
        self._wrapped = [
            (indent, line)
            for indent, runs in self._content
            for line in wrapped_runs(runs, max(_NARROWEST, width - indent - 2 * _MARGIN))
        ]
        size = Size(width, len(self._wrapped))
        if size != self.virtual_size:
            self.virtual_size = size
        self.refresh()

    def on_resize(self, event: events.Resize) -> None:
        if self.scrollable_content_region.width != self._wrapped_for:
            self._wrap()

    def about_to_draw(self, width: int) -> None:
        theme = self.app.current_theme.name
        if theme != self._theme:
            self._theme, self._base = theme, self.rich_style
            self._styles.clear()
            self._strips.clear()

    def line_strip(self, y: int, width: int) -> Strip:
        index = y + self.scroll_offset.y
        if index >= len(self._wrapped):
            return Strip.blank(width, self._base)
        strip = self._strips.get(index)
        if strip is None or strip.cell_length != width:
            indent, runs = self._wrapped[index]
            segments = [Segment(" " * (indent + _MARGIN), self._base)]
            segments += [Segment(characters, self._style(name)) for characters, name in runs]
            strip = Strip(segments).adjust_cell_length(width, self._base)
            self._strips[index] = strip
        return strip

    def _style(self, name: str) -> Style:
        found = self._styles.get(name)
        if found is None:
            match name:
                case "name":
                    own = ink(self, "sand-dim")
                case "type":
                    own = ink(self, "sea")
                case "changed":
                    own = change_style(self, "changed")
                case _:
                    own = value_style(self, cast(Role, name))
            found = self._styles[name] = self._base + own
        return found


def _field(
    name: str, remark: str, value: Value, cell: CellChange | None
) -> Iterator[tuple[int, list[Run]]]:
    title = [(safe_name(name), _NAME)]
    if remark:
        title.append((f"  {remark}", _TYPE))
    if cell is not None:
        title.append((f" {MARKS['changed']}", _CHANGED))
    yield 0, title
    if cell is not None:
        yield from ((_INDENT, runs) for runs in _earlier(cell.before))
    for line in full_lines(value):
        yield _INDENT, [_run(piece) for piece in line]


def _earlier(value: Value | NoValue) -> list[list[Run]]:
    if isinstance(value, NoValue):
        return [[("was not there: the column is new", _NAME)]]
    lines = [[(piece.text, _NAME) for piece in line] for line in full_lines(value)]
    lines[0].insert(0, ("was ", _NAME))
    return lines


def _run(piece: Piece) -> Run:
    return piece.text, piece.role


def wrapped_runs(runs: Sequence[Run], width: int) -> Iterator[list[Run]]:
    """Break a line into lines of at most ``width`` cells, which must be 2 or more."""
    line: list[Run] = []
    room = width
    for characters, name in runs:
        rest = characters
        while cell_len(rest) > room:
            first = chop_cells(rest, room)[0] if room else ""
            if cell_len(first) > room:
                first = ""  # a wide character does not fit any more
            if not first and room == width:
                first = rest[:1]  # whatever it is, go on
            if first:
                line.append((first, name))
                rest = rest[len(first) :]
            yield line
            line, room = [], width
            if cell_len(rest) > width:
                *whole, rest = chop_cells(rest, width)
                yield from ([(part, name)] for part in whole)
        if rest:
            line.append((rest, name))
            room -= cell_len(rest)
    yield line


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
