"""The sheet: a grid over any number of rows, and what a person does in it."""

from __future__ import annotations

from collections.abc import Callable

from textual import events
from textual.binding import Binding
from textual.message import Message

from jondel.core.model.rows import Position
from jondel.tui.widgets.sheet.drawing import HEAD_LINES
from jondel.tui.widgets.sheet.grid import Grid


class _OfSheet(Message):
    """A message of one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        super().__init__()
        self.sheet = sheet

    @property
    def control(self) -> Sheet:
        return self.sheet


class Sheet(Grid, can_focus=True):
    """A grid in which keys and the mouse move the current cell, and choose rows."""

    BINDINGS = [
        Binding("up", "move(-1, 0)", "row up", show=False),
        Binding("down", "move(1, 0)", "row down", show=False),
        Binding("left", "move(0, -1)", "column left", show=False),
        Binding("right", "move(0, 1)", "column right", show=False),
        Binding("pageup", "page(-1)", "a screen up", show=False),
        Binding("pagedown", "page(1)", "a screen down", show=False),
        Binding("home", "first_row", "first row", show=False),
        Binding("end", "last_row", "last row", show=False),
        Binding("space", "choose", "select the row", show=False),
        Binding("shift+up", "choose_on(-1)", "select upwards", show=False),
        Binding("shift+down", "choose_on(1)", "select downwards", show=False),
        Binding("ctrl+home", "first_column", "first column", show=False),
        Binding("ctrl+end", "last_column", "last column", show=False),
    ]
    DEFAULT_CSS = "Sheet { background: $background; }"

    class HeadingClicked(_OfSheet):
        """The heading of the column that is now the current one was clicked."""

    class EditWanted(_OfSheet):
        """The person wants to change the current cell."""

    class Entered(_OfSheet):
        """The sheet has got the focus."""

    class RowsChosen(_OfSheet):
        """Other rows than before are chosen."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.may_move: Callable[[], bool] = lambda: True
        """Asked before a person moves to another cell."""

    # Moving

    def _move_to(self, row: int, column: int) -> bool:
        """Go to a cell; False where one has to stay."""
        if self.source is None:
            return False
        row = max(0, min(row, self._last_line))
        column = max(0, min(column, len(self._columns) - 1))
        if (row, column) != (self.cursor_row, self.cursor_column) and not self.may_move():
            return False
        self.cursor_row, self.cursor_column = row, column
        self.show_cursor()
        return True

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self.refresh()
        if value:
            self.post_message(self.Entered(self))

    def on_click(self, event: events.Click) -> None:
        if self.source is None or not self._columns:
            return
        column = self._columns.at(event.x, self.scroll_offset.x)
        if event.y < HEAD_LINES:
            if self._move_to(self.cursor_row, column) and event.button == 1:
                self.post_message(self.HeadingClicked(self))
            return
        if not self._move_to(self.scroll_offset.y + event.y - HEAD_LINES, column):
            return
        if event.chain == 2 and event.button == 1:
            self.post_message(self.EditWanted(self))

    def action_move(self, rows: int, columns: int) -> None:
        self._move_to(self.cursor_row + rows, self.cursor_column + columns)

    def action_page(self, screens: int) -> None:
        """Go a screen on; the current row stays where it is on the screen, if it can."""
        rows = screens * self._body_height
        top = max(0, min(int(self.scroll_target_y) + rows, self.max_scroll_y))
        self.scroll_to(None, top, animate=False, force=True)
        self._move_to(self.cursor_row + rows, self.cursor_column)

    def action_first_row(self) -> None:
        self._move_to(0, self.cursor_column)

    def action_last_row(self) -> None:
        self._move_to(self._last_line, self.cursor_column)

    def action_first_column(self) -> None:
        self._move_to(self.cursor_row, 0)

    def action_last_column(self) -> None:
        self._move_to(self.cursor_row, len(self._columns) - 1)

    # Choosing rows

    @property
    def chosen(self) -> set[Position]:
        """The positions of the rows that a person has chosen."""
        return set(self._content.chosen)

    def choose_none(self) -> None:
        """Have no row chosen any more."""
        if self._content.chosen:
            self._content.chosen.clear()
            self._redraw()
            self.post_message(self.RowsChosen(self))

    def action_choose(self) -> None:
        """Choose the current row, or take it out again, and go on to the next."""
        record = self.current_record
        if record is None or not record[0] or self.current_row is None:
            return
        self._content.chosen ^= {record[0]}
        self._drawing.forget_rows()
        self.post_message(self.RowsChosen(self))
        self._move_to(self.cursor_row + 1, self.cursor_column)
        self.refresh()

    def action_choose_on(self, rows: int) -> None:
        """Choose the current row and go on."""
        self._content.chosen.discard(self.current_position)
        self.action_choose()
        if rows < 0:
            self._move_to(self.cursor_row - 1 + rows, self.cursor_column)
