"""The sheet: a grid over any number of rows, of which only the visible ones are at hand."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from rich.segment import Segment
from rich.style import Style
from textual import events, work
from textual.binding import Binding
from textual.geometry import Size
from textual.message import Message
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip

from jondel.core.browse.display import Piece, pieces
from jondel.core.browse.ghosts import Ghost, Interleaving
from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.errors import JondelError
from jondel.core.model.changes import MARKS, RecordChange
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow
from jondel.tui.widgets.cell_text import fitted, fitted_text
from jondel.tui.widgets.row_marks import RowMarks
from jondel.tui.widgets.sheet_columns import GAP, GUTTER, SheetColumns
from jondel.tui.widgets.styles import change_style, ink, value_style

Fetch = Callable[[WindowCache, int], Awaitable[Window]]


class Sheet(ScrollView, can_focus=True):
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
        Binding("ctrl+home", "first_column", "first column", show=False),
        Binding("ctrl+end", "last_column", "last column", show=False),
        Binding("enter", "card", "the record's card", show=False),
    ]
    DEFAULT_CSS = "Sheet { background: $background; }"

    cursor_row = reactive(0)
    cursor_column = reactive(0)

    class RecordSelected(Message):
        """The current record is another, or has just been read. Not sent while it is not."""

        def __init__(self, sheet: Sheet, ordinal: int) -> None:
            super().__init__()
            self.sheet = sheet
            self.ordinal = ordinal

        @property
        def control(self) -> Sheet:
            return self.sheet

    class CardWanted(Message):
        """The person wants to see the current record in full."""

        def __init__(self, sheet: Sheet) -> None:
            super().__init__()
            self.sheet = sheet

        @property
        def control(self) -> Sheet:
            return self.sheet

    class ReadingFailed(Message):
        """Rows could not be read; the sheet shows why."""

        def __init__(self, sheet: Sheet, error: JondelError) -> None:
            super().__init__()
            self.sheet = sheet
            self.error = error

        @property
        def control(self) -> Sheet:
            return self.sheet

    def __init__(self, fetch: Fetch, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._fetch = fetch
        self._cache: WindowCache | None = None
        self._lines = Interleaving(0)
        self._marks: RowMarks | None = None
        self._columns = SheetColumns()
        self._problem = ""
        self._reading = False
        self._expecting = False
        self._typed_ahead: list[Callable[[], None]] = []

    # What is shown

    @property
    def table(self) -> Table | None:
        return self._cache.table if self._cache else None

    @property
    def problem(self) -> str:
        """Why there is nothing to show; empty where there is."""
        return self._problem

    @property
    def rows(self) -> int:
        """How many rows the table has."""
        return self._cache.extent.rows if self._cache else 0

    @property
    def current_row(self) -> int | None:
        """The ordinal of the current row; None where that is a removed record."""
        ghost = self._lines.ghost(self.cursor_row)
        return None if ghost else self._lines.ordinal(self.cursor_row)

    @property
    def rows_in_view(self) -> list[int]:
        """The ordinals of the current row and of those at the top and the bottom."""
        return [self._lines.ordinal(line) for line in (self.cursor_row, *self._stretch_in_view)]

    @property
    def _stretch_in_view(self) -> tuple[int, int]:
        top = int(self.scroll_target_y)
        return top, top + self._body_height

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

    def show(self, cache: WindowCache, *, keep_place: bool) -> None:
        """Show a table's rows; ``keep_place`` where it is the same table, read anew."""
        if not keep_place:
            self._marks = None
            self._lay_out(cache)
        row = self._lines.ordinal(self.cursor_row)
        self._cache = cache
        self._problem = ""
        self._lines = Interleaving(self.rows)
        self._resize()
        if keep_place:
            found = [cache.row(ordinal) for ordinal in range(*self._stretch_in_view)]
            self._widen([entry[1] for entry in found if entry is not None])
        if keep_place:
            self.cursor_row = max(0, min(row, self.rows - 1))
        else:
            self.cursor_row = self.cursor_column = 0
            self.scroll_to(0, 0, animate=False)
        self.expect_no_more()
        self._read_visible()
        self._announce()
        self.refresh()

    def show_problem(self, message: str) -> None:
        """Show why there is nothing to show, in place of rows."""
        self._cache = None
        self._lines = Interleaving(0)
        self._problem = message
        self.expect_no_more()
        self._columns = SheetColumns()
        self.virtual_size = Size(0, 0)
        self.refresh()

    def set_marks(self, marks: RowMarks | None) -> None:
        """Mark the rows that changed."""
        self._marks = marks
        self.refresh()

    def set_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records where they were; the current row stays the current one."""
        if self._cache is None:
            return
        row = self._lines.ordinal(self.cursor_row)
        was_first = self._lines.ordinal(int(self.scroll_target_y))
        self._lines = Interleaving(self.rows, ghosts)
        self._widen([ghost.record.before for ghost in ghosts if ghost.record.before])
        self._resize()
        top = self._lines.line(was_first) if was_first else 0
        if self.rows:
            self.cursor_row = self._lines.line(row)
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._read_visible()
        self._announce()
        self.refresh()

    def go_to_ghost(self, key: Sequence[object]) -> bool:
        """Make a removed record the current one; False where it is not shown."""
        line = self._lines.line_of_ghost(key)
        if line is not None:
            self._go_to_line(line)
        return line is not None

    def go_to(self, ordinal: int, column: str | None = None) -> None:
        """Make a row the current one and bring it to the middle of the sheet."""
        table = self.table
        if table is None:
            return
        if column in table.column_names:
            self.cursor_column = table.column_names.index(column)
        self._go_to_line(self._lines.line(max(0, min(ordinal, self.rows - 1))))

    def _go_to_line(self, line: int) -> None:
        self.cursor_row = max(0, min(line, self._lines.lines - 1))
        top = max(0, self.cursor_row - self._body_height // 2)
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._read_visible()

    def record_at(self, line: int) -> tuple[Position, ShownRow] | None:
        """The position and values of what is on a line, or None while it has not been read."""
        ghost = self._lines.ghost(line)
        if ghost is not None:
            return ghost.position, ghost.record.before or ()
        return self._cache.row(self._lines.ordinal(line)) if self._cache else None

    def change_on(self, line: int) -> RecordChange | None:
        """How what is on a line changed, by the marks; a removed record by itself."""
        ghost = self._lines.ghost(line)
        if ghost is not None:
            return ghost.record
        found = self.record_at(line)
        return self._change_of(*found) if found else None

    def _change_of(self, position: Position, row: ShownRow) -> RecordChange | None:
        marks, table = self._marks, self.table
        if marks is None or table is None:
            return None
        if not marks.key_columns:
            return marks.records.get(tuple(position))
        places = [table.column_names.index(name) for name in marks.key_columns]
        return marks.records.get(tuple(row[place] for place in places))

    # Layout

    def _lay_out(self, cache: WindowCache) -> None:
        """Fit the columns to the rows at hand."""
        found = [cache.row(ordinal) for ordinal in range(min(cache.extent.rows, BLOCK_ROWS))]
        self._columns = SheetColumns(cache.table, [entry[1] for entry in found if entry])

    def _widen(self, rows: Sequence[ShownRow]) -> None:
        if self._columns.widen(rows):
            self._resize()

    def _resize(self) -> None:
        self.virtual_size = Size(self._columns.total_width, self._lines.lines + 1)

    @property
    def _body_height(self) -> int:
        return max(1, self.scrollable_content_region.height - 1)

    def _column_scroll(self) -> int:
        """The least change of the horizontal place that shows the current column."""
        if not self._columns:
            return 0
        left = self._columns.edges[self.cursor_column]
        right = left + self._columns.widths[self.cursor_column]
        room = self.scrollable_content_region.width
        x = self.scroll_offset.x
        if left - GUTTER < x:
            return max(0, left - GUTTER)
        if right > x + room:
            return max(0, min(right - room, left - GUTTER))
        return x

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
                if not missing and not current:
                    break
                window = await self._fetch(cache, (missing or current)[0])
                if not window.rows and window.offset < cache.extent.rows:
                    break  # rows went away since they were counted; a fresh count is under way
                cache.add(window)
                if cache is self._cache:
                    self._widen(window.rows)
                    self.refresh()
                    self._announce()
        except JondelError as error:
            self.show_problem(str(error))
            self.post_message(self.ReadingFailed(self, error))
        finally:
            self._reading = False

    def _announce(self) -> None:
        if self.record_at(self.cursor_row) is not None or not self.rows:
            self.post_message(self.RecordSelected(self, self.cursor_row))

    # Drawing

    def render_line(self, y: int) -> Strip:
        width = self.scrollable_content_region.width
        background = self.rich_style
        if self._cache is None:
            return self._problem_line(y, width, background)
        if y == 0:
            return self._head_line(width)
        line = self.scroll_offset.y + y - 1
        if line >= self._lines.lines:
            return Strip.blank(width, background)
        return self._row_line(line, width, background)

    def _problem_line(self, y: int, width: int, background: Style) -> Strip:
        lines = _wrapped(self._problem, max(10, width - 4))
        if 1 <= y <= len(lines):
            style = background + ink(self, "removed")
            text = fitted_text("  " + lines[y - 1], width)
            return Strip([Segment(text, style)], width)
        return Strip.blank(width, background)

    def _head_line(self, width: int) -> Strip:
        plain = ink(self, "sand-dim", on="surface")
        current = ink(self, "brass", on="surface", bold=True)
        columns = self._columns.between(self.scroll_offset.x, width)
        segments = []
        for index in columns:
            style = current if index == self.cursor_column else plain
            text = fitted(
                [Piece(self._columns.names[index], "text")],
                self._columns.widths[index],
                right=self._columns.right[index],
            )
            segments.append(Segment("".join(piece.text for piece in text), style))
            segments.append(Segment(" " * GAP, plain))
        strip = self._placed(segments, columns, width, Segment(" " * GUTTER, plain), plain)
        total = self._columns.total_width
        hidden_left, hidden_right = self.scroll_offset.x > 0, self.scroll_offset.x + width < total
        if hidden_left:
            strip = Strip.join([Strip([Segment("‹ ", current)], GUTTER), strip.crop(GUTTER)])
        if hidden_right:
            strip = Strip.join([strip.crop(0, width - 1), Strip([Segment("›", current)], 1)])
        return strip

    def _row_line(self, line: int, width: int, background: Style) -> Strip:
        is_current = line == self.cursor_row
        base = background
        if is_current:
            base = background + ink(self, on="row-current")
        found = self.record_at(line)
        if found is None:
            dim = base + value_style(self, "clip")
            return Strip([Segment(fitted_text("  ⋯", width), dim)], width)
        _, row = found
        change = self.change_on(line)
        removed = change is not None and change.kind == "removed"
        struck = Style(strike=True) if removed else Style()
        changed = {cell.column for cell in change.cells} if change else set()
        columns = self._columns.between(self.scroll_offset.x, width)
        segments: list[Segment] = []
        table = self._cache.table if self._cache else None
        for index in columns:
            style = base
            if is_current and index == self.cursor_column:
                focused = ink(self, "ink", on="brass")
                style = base + (focused if self.has_focus else ink(self, on="rail"))
            marked = (
                change is not None
                and table is not None
                and (change.kind != "changed" or table.columns[index].name in changed)
            )
            cells = self._columns.widths[index]
            shown = fitted(pieces(row[index], cells + 1), cells, right=self._columns.right[index])
            for piece in shown:
                colour = value_style(self, piece.role)
                if marked and change is not None:
                    colour = change_style(self, change.kind)
                if is_current and index == self.cursor_column and self.has_focus:
                    colour = Style(bold=marked)
                segments.append(Segment(piece.text, style + colour + struck))
            segments.append(Segment(" " * GAP, base))
        gutter = Segment(" " * GUTTER, base)
        if change is not None:
            mark = f"{MARKS[change.kind]} "
            gutter = Segment(mark, base + change_style(self, change.kind))
        return self._placed(segments, columns, width, gutter, base)

    def _placed(
        self, segments: list[Segment], columns: range, width: int, gutter: Segment, base: Style
    ) -> Strip:
        """Cut the columns to the visible stretch; the gutter stays in place."""
        start = self._columns.edges[columns.start] if self._columns else GUTTER
        shift = self.scroll_offset.x + GUTTER - start
        if shift <= 0:
            return Strip([gutter, *segments]).adjust_cell_length(width, base)
        body = Strip(segments).crop(shift, shift + width - GUTTER)
        return Strip.join([Strip([gutter], GUTTER), body]).adjust_cell_length(width, base)

    # Moving

    def watch_cursor_row(self) -> None:
        self._announce()
        self.refresh()

    def watch_cursor_column(self) -> None:
        self.refresh()

    def watch_scroll_y(self, old: float, new: float) -> None:
        super().watch_scroll_y(old, new)
        self._read_visible()

    def on_resize(self) -> None:
        self._read_visible()

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self.refresh()

    def action_move(self, rows: int, columns: int) -> None:
        self._move(lambda: (self.cursor_row + rows, self.cursor_column + columns))

    def action_page(self, screens: int) -> None:
        self._move(lambda: (self.cursor_row + screens * self._body_height, self.cursor_column))

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

        def go() -> None:
            self._move_to(*target())

        if self._expecting:
            self._typed_ahead.append(go)
        else:
            go()

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
        if self._cache is None or event.y == 0 or not self._columns:
            return
        column = self._columns.at(self.scroll_offset.x + event.x)
        self._move_to(self.scroll_offset.y + event.y - 1, column)


def _wrapped(text: str, width: int) -> list[str]:
    import textwrap

    return textwrap.wrap(pieces_text(text), width)


def pieces_text(text: str) -> str:
    """A message as safe plain text."""
    return "".join(piece.text for piece in pieces(text, 2000)) if text else ""
