"""The lines of a sheet, drawn; those that were drawn before are kept."""

from __future__ import annotations

from typing import NamedTuple

from rich.style import Style
from textual.strip import Strip
from textual.widget import Widget

from jondel.core.browse.display import pieces
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.sheet.columns import SheetColumns
from jondel.tui.widgets.sheet.content import SheetContent
from jondel.tui.widgets.sheet.painter import SheetPainter

HEAD_LINES = 2
_REMOVED = "removed since"


class Viewport(NamedTuple):
    """Where things are while lines are drawn; ``first_line`` is that of the view's top."""

    x: int
    first_line: int
    cursor_row: int
    cursor_column: int
    has_focus: bool


class SheetDrawing:
    """Draws the lines of a content in columns."""

    def __init__(self, widget: Widget) -> None:
        self._widget = widget
        self._painter: SheetPainter | None = None
        self._strips: dict[int, Strip] = {}
        self._headings: list[Strip] = []
        self._headings_for: tuple[int, int, int] | None = None
        self._strips_for: tuple[str, int, int] | None = None
        self._view = Viewport(0, 0, 0, 0, False)
        self._content = SheetContent()
        self._columns = SheetColumns()

    def forget(self) -> None:
        """What was drawn is out of date."""
        self._strips.clear()
        self._headings_for = None
        self._strips_for = None

    def forget_rows(self) -> None:
        """The rows that were drawn are out of date."""
        self._strips.clear()
        self._headings_for = None

    def begin(
        self,
        content: SheetContent,
        columns: SheetColumns,
        view: Viewport,
        theme: str,
        width: int,
        ground: Style,
    ) -> None:
        """Prepare to draw lines, which share all this."""
        self._content, self._columns, self._view = content, columns, view
        wanted = (theme, width, view.x)
        if wanted != self._strips_for:
            self._strips_for = wanted
            self.forget_rows()
            self._painter = SheetPainter(self._widget, ground)
            columns.fit(width)

    def line(self, y: int, width: int) -> Strip:
        """The line ``y`` of the view, from 0 at its top."""
        painter, view = self._painter, self._view
        assert painter is not None, "made before lines are drawn"
        if y < HEAD_LINES:
            return self._heading(painter, y, width)
        line = view.first_line + y
        strip = self._strips.get(line) if line != view.cursor_row else None
        if strip is not None:
            return strip
        if line >= self._content.lines.lines:
            return painter.blank(width)
        record = self._content.record_at(line)
        if record is None:
            return painter.words("  ⋯", width, current=line == view.cursor_row)
        strip = self._row(painter, line, record, width)
        if line != view.cursor_row:
            self._strips[line] = strip
        return strip

    def problem(self, text: str, y: int, width: int) -> Strip:
        """A line of a view that shows why there is nothing else to show."""
        painter = self._painter
        assert painter is not None, "made before lines are drawn"
        lines = _wrapped(text, max(10, width - 4))
        if 1 <= y <= len(lines):
            return painter.problem("  " + lines[y - 1], width)
        return painter.blank(width)

    def _heading(self, painter: SheetPainter, y: int, width: int) -> Strip:
        """The names of the columns, or what is declared of them."""
        view = self._view
        key = (view.cursor_column, view.x, width)
        if key != self._headings_for:
            self._headings_for = key
            self._headings = [
                draw(self._columns, view.cursor_column, view.x, width)
                for draw in (painter.head, painter.remarks)
            ]
        return self._headings[y]

    def _row(
        self, painter: SheetPainter, line: int, record: tuple[Position, ShownRow], width: int
    ) -> Strip:
        view, (position, row) = self._view, record
        current = line == view.cursor_row
        if not row and len(self._columns):
            return painter.words(f"  {_REMOVED}", width, current=current)
        return painter.row(
            self._columns,
            self._content.with_draft(position, row),
            self._content.look_of(line, position),
            current=current,
            current_place=view.cursor_column,
            focused=view.has_focus,
            x=view.x,
            width=width,
        )


def _wrapped(text: str, width: int) -> list[str]:
    import textwrap

    plain = "".join(piece.text for piece in pieces(text, 2000)) if text else ""
    return textwrap.wrap(plain, width)
