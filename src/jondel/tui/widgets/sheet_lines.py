"""The lines of a sheet, drawn; those that were drawn before are kept."""

from __future__ import annotations

from typing import NamedTuple

from textual.strip import Strip

from jondel.core.browse.display import pieces
from jondel.core.model.changes import MARKS
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.row_marks import DRAFT_MARK, FRESH_MARK, PLAIN_LOOK, RowLook
from jondel.tui.widgets.sheet_content import HEAD_LINES, Fetch, SheetContent
from jondel.tui.widgets.sheet_paint import SheetPainter

_GONE = "removed since"


class _Drawn(NamedTuple):
    """Where things are while lines are drawn."""

    x: int
    first_line: int
    cursor_row: int
    cursor_column: int
    has_focus: bool


class SheetLines(SheetContent):
    """Draws what stands on the lines. What a person does with them is in ``Sheet``."""

    def __init__(self, fetch: Fetch, *, id: str | None = None) -> None:
        super().__init__(fetch, id=id)
        self._painter: SheetPainter | None = None
        self._strips: dict[int, Strip] = {}
        self._headings: list[Strip] = []
        self._headings_for: tuple[int, int, int] | None = None
        self._strips_for: tuple[object, ...] = ()
        self._drawn = _Drawn(0, 0, 0, 0, False)

    def forget_drawing(self, *, headings: bool = False) -> None:
        self._strips.clear()
        self._headings_for = None
        if headings:
            self._strips_for = ()

    def about_to_draw(self, width: int) -> None:
        x, y = self.scroll_offset
        wanted = (self.app.current_theme.name, width, x)
        if wanted != self._strips_for:
            self._strips_for = wanted
            self.forget_drawing()
            self._painter = SheetPainter(self, self.rich_style)
            self._columns.fit_frozen(width)
        # Looked up once, not for every line.
        self._drawn = _Drawn(x, y - HEAD_LINES, self.cursor_row, self.cursor_column, self.has_focus)

    def line_strip(self, y: int, width: int) -> Strip:
        painter, drawn = self._painter, self._drawn
        assert painter is not None, "made before lines are drawn"
        if self._cache is None:
            lines = _wrapped(self._problem, max(10, width - 4))
            if 1 <= y <= len(lines):
                return painter.problem("  " + lines[y - 1], width)
            return painter.blank(width)
        if y < HEAD_LINES:
            return self._heading(painter, y, width)
        line = drawn.first_line + y
        strip = self._strips.get(line) if line != drawn.cursor_row else None
        if strip is not None:
            return strip
        if line >= self._lines.lines:
            return painter.blank(width)
        found = self.record_at(line)
        if found is None:
            return painter.words("  ⋯", width, current=line == drawn.cursor_row)
        strip = self._row_strip(painter, line, found, width)
        if line != drawn.cursor_row:
            self._strips[line] = strip
        return strip

    def _heading(self, painter: SheetPainter, y: int, width: int) -> Strip:
        """The names of the columns, or what is declared of them."""
        drawn = self._drawn
        key = (drawn.cursor_column, drawn.x, width)
        if key != self._headings_for:
            self._headings_for = key
            self._headings = [
                draw(self._columns, drawn.cursor_column, drawn.x, width)
                for draw in (painter.head, painter.remarks)
            ]
        return self._headings[y]

    def _row_strip(
        self, painter: SheetPainter, line: int, found: tuple[Position, ShownRow], width: int
    ) -> Strip:
        drawn, (position, row) = self._drawn, found
        current = line == drawn.cursor_row
        if not row and len(self._columns):
            return painter.words(f"  {_GONE}", width, current=current)
        edited = self._draft.edited.get(position) if self._draft.edited else None
        if edited and self.table is not None:
            names = self.table.column_names
            row = tuple(edited.get(n, v) for n, v in zip(names, row, strict=True))
        return painter.row(
            self._columns,
            row,
            self._look_of(line, position),
            current=current,
            current_place=drawn.cursor_column,
            focused=drawn.has_focus,
            x=drawn.x,
            width=width,
        )

    def _look_of(self, line: int, position: Position) -> RowLook:
        look = PLAIN_LOOK
        change = self.change_on(line)
        table = self.table
        if table is None or not (change or self._fresh or self._chosen or any(self._draft)):
            return look
        if self._lines.new(line) is not None:
            look = RowLook(DRAFT_MARK, "draft", None)
        elif position in self._draft.deleted:
            look = RowLook(DRAFT_MARK, "draft", None, struck=True)
        elif position in self._draft.edited:
            edited = self._draft.edited[position]
            cells = frozenset(i for i, n in enumerate(table.column_names) if n in edited)
            look = RowLook(DRAFT_MARK, "draft", cells)
        elif change is not None:
            changed = {cell.column for cell in change.cells}
            cells = frozenset(i for i, n in enumerate(table.column_names) if n in changed)
            every = change.kind != "changed"
            struck = change.kind == "removed"
            look = RowLook(MARKS[change.kind], change.kind, None if every else cells, struck)
        elif position in self._fresh:
            look = RowLook(FRESH_MARK, "sea", self._fresh[position])
        return look._replace(chosen=position in self._chosen) if self._chosen else look


def _wrapped(text: str, width: int) -> list[str]:
    import textwrap

    return textwrap.wrap(pieces_text(text), width)


def pieces_text(text: str) -> str:
    """A message as safe plain text."""
    return "".join(piece.text for piece in pieces(text, 2000)) if text else ""
