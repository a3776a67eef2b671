"""The sheet: a grid over any number of rows, of which only the visible ones are at hand."""

from __future__ import annotations

from collections.abc import Callable

from textual import events, work
from textual.binding import Binding
from textual.message import Message

from jondel.core.errors import JondelError
from jondel.tui.widgets.sheet_content import HEAD_LINES
from jondel.tui.widgets.sheet_lines import SheetLines

_AHEAD_ROWS = 100
"""So many rows before and behind those in view are read before they are asked for."""


class _OfSheet(Message):
    """A message of one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        super().__init__()
        self.sheet = sheet

    @property
    def control(self) -> Sheet:
        return self.sheet


class Sheet(SheetLines, can_focus=True):
    """Rows of one table. Reads them through ``fetch`` as they come into view."""

    BINDINGS = [
        Binding("up", "move(-1, 0)", "row up", show=False),
        Binding("down", "move(1, 0)", "row down", show=False),
        Binding("left", "move(0, -1)", "column left", show=False),
        Binding("right", "move(0, 1)", "column right", show=False),
        Binding("pageup", "page(-1)", "a screen up", show=False),
        Binding("pagedown", "page(1)", "a screen down", show=False),
        Binding("home", "first_row", "first row", show=False),
        Binding("end", "last_row", "last row", show=False),
        Binding("space", "choose", "choose the row, or not", show=False),
        Binding("shift+up", "choose_on(-1)", "choose on, upwards", show=False),
        Binding("shift+down", "choose_on(1)", "choose on, downwards", show=False),
        Binding("ctrl+home", "first_column", "first column", show=False),
        Binding("ctrl+end", "last_column", "last column", show=False),
        Binding("enter", "card", "the record's card", show=False),
    ]
    DEFAULT_CSS = "Sheet { background: $background; }"

    class CardWanted(_OfSheet):
        """The person wants to see the current record in full."""

    class HeadingClicked(_OfSheet):
        """The heading of the column that is now the current one was clicked."""

    class EditWanted(_OfSheet):
        """The person wants to change the current cell."""

    class ReadingFailed(_OfSheet):
        """Rows could not be read; the sheet shows why."""

        def __init__(self, sheet: Sheet, error: JondelError) -> None:
            super().__init__(sheet)
            self.error = error

    class Entered(_OfSheet):
        """The sheet has got the focus."""

    class RowsChosen(_OfSheet):
        """Other rows than before are chosen."""

    # Keys typed ahead

    def expect(self) -> None:
        """Another table is about to be shown: moves are meant for that one from now on."""
        self._expecting = True
        self._typed_ahead.clear()

    def expect_no_more(self) -> None:
        """What was expected is there or does not come: make the moves that wait for it."""
        self._expecting = False
        moves, self._typed_ahead = self._typed_ahead, []
        for move in moves:
            move()

    def rows_chosen(self) -> None:
        self.post_message(self.RowsChosen(self))

    # Reading

    def _read_visible(self) -> None:
        if self._cache is not None and not self._reading and self.is_attached:
            self._reading = True
            self._read()

    @work(group="sheet-rows")
    async def _read(self) -> None:
        """Read until everything visible is at hand, however the view moves meanwhile."""
        try:
            while (cache := self._cache) is not None:
                first, last = (self._lines.ordinal(line) for line in self._stretch_in_view)
                missing = cache.missing(first, last)
                row = self._lines.ordinal(self.cursor_row)
                current = cache.missing(row, row)
                ahead = cache.missing(first - _AHEAD_ROWS, last + _AHEAD_ROWS)
                if not (missing or current or ahead):
                    break
                unseen = not (missing or current)
                window = await self._fetch(cache, (missing or current or ahead)[0])
                if not window.rows and window.offset < cache.extent.rows:
                    break  # rows went away since they were counted; a fresh count is under way
                cache.add(window)
                if unseen:
                    continue
                if cache is self._cache:
                    self._widen(window.rows)
                    self.redraw()
                    self._announce()
        except JondelError as error:
            self.show_problem(str(error))
            self.post_message(self.ReadingFailed(self, error))
        finally:
            self._reading = False

    def _announce(self) -> None:
        if self.record_at(self.cursor_row) is not None or not self._lines.lines:
            self.when_selected()

    # Moving

    def watch_cursor_row(self, old: int, new: int) -> None:
        self._announce()
        for line in (old, new):
            self.refresh_lines(line + HEAD_LINES, 1)

    def watch_cursor_column(self) -> None:
        self.refresh()
        self._announce()

    def watch_scroll_y(self, old: float, new: float) -> None:
        super().watch_scroll_y(old, new)
        self._read_visible()

    def on_resize(self) -> None:
        self._read_visible()

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self.refresh()
        if value:
            self.post_message(self.Entered(self))

    def action_move(self, rows: int, columns: int) -> None:
        self._move(lambda: (self.cursor_row + rows, self.cursor_column + columns))

    def action_page(self, screens: int) -> None:
        """Go a screen on; the current row stays where it is on the screen, if it can."""

        def go() -> None:
            rows = screens * self._body_height
            top = max(0, min(int(self.scroll_target_y) + rows, self.max_scroll_y))
            self.scroll_to(None, top, animate=False, force=True)
            self._move_to(self.cursor_row + rows, self.cursor_column)

        self._when_there(go)

    def action_first_row(self) -> None:
        self._move(lambda: (0, self.cursor_column))

    def action_last_row(self) -> None:
        self._move(lambda: (self._lines.lines - 1, self.cursor_column))

    def action_first_column(self) -> None:
        self._move(lambda: (self.cursor_row, 0))

    def action_last_column(self) -> None:
        self._move(lambda: (self.cursor_row, len(self._columns) - 1))

    def _move(self, target: Callable[[], tuple[int, int]]) -> None:
        """Go to a row and column, or do so once the expected table is there."""

        self._when_there(lambda: self._move_to(*target()))

    def _when_there(self, go: Callable[[], None]) -> None:
        if self._expecting:
            self._typed_ahead.append(go)
        else:
            go()

    def action_choose(self) -> None:
        """Choose the current row, or take it out again, and go on to the next."""
        found = self.record_at(self.cursor_row)
        if found is None or not found[0] or self._lines.ghost(self.cursor_row):
            return
        self._chosen ^= {found[0]}
        self.forget_drawing()
        self.post_message(self.RowsChosen(self))
        self._move_to(self.cursor_row + 1, self.cursor_column)
        self.refresh()

    def action_choose_on(self, rows: int) -> None:
        """Choose the current row and go on."""
        found = self.record_at(self.cursor_row)
        if found is not None and found[0] in self._chosen:
            self._chosen.discard(found[0])
        self.action_choose()
        if rows < 0:
            self._move_to(self.cursor_row - 1 + rows, self.cursor_column)

    def action_card(self) -> None:
        self.post_message(self.CardWanted(self))

    def _move_to(self, row: int, column: int) -> None:
        if self._cache is None:
            return
        self.cursor_row = max(0, min(row, self._lines.lines - 1))
        self.cursor_column = max(0, min(column, len(self._columns) - 1))
        top = int(self.scroll_target_y)
        if self.cursor_row < top:
            top = self.cursor_row
        elif self.cursor_row >= top + self._body_height:
            top = self.cursor_row - self._body_height + 1
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._read_visible()

    def on_click(self, event: events.Click) -> None:
        if self._cache is None or not self._columns:
            return
        column = self._columns.at(event.x, self.scroll_offset.x)
        if event.y < HEAD_LINES:
            self._move_to(self.cursor_row, column)
            self.post_message(self.HeadingClicked(self))
            return
        self._move_to(self.scroll_offset.y + event.y - HEAD_LINES, column)
        if event.chain == 2:
            self.post_message(self.EditWanted(self))
