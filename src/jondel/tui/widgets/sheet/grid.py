"""Rows in a grid with a current cell: drawn, marked, laid out, and read as they come into view."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from textual import work
from textual.geometry import Size
from textual.message import Message
from textual.reactive import reactive
from textual.strip import Strip

from jondel.core.browse.ghosts import Ghost
from jondel.core.browse.layout import ColumnLayout
from jondel.core.browse.windows import BLOCK_ROWS
from jondel.core.draft.draft_marks import DraftMarks
from jondel.core.errors import JondelError
from jondel.core.model.changes import RecordChange
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.lines import LinesView
from jondel.tui.widgets.sheet.columns import SheetColumns
from jondel.tui.widgets.sheet.content import SheetContent
from jondel.tui.widgets.sheet.drawing import HEAD_LINES, SheetDrawing, Viewport
from jondel.tui.widgets.sheet.row_marks import RowMarks
from jondel.tui.widgets.sheet.source import RowSource


class Grid(LinesView):
    """Draws a row source, which it has read as its rows come into view.

    It moves where it is told to; what a person does with it is the ``Sheet``'s.
    """

    cursor_row = reactive(0)
    """The line of the current row, removed and new records counted too."""
    cursor_column = reactive(0)
    """The place of the current column among those shown."""

    class ReadingFailed(Message, namespace="sheet"):
        """Rows could not be read; the grid shows why."""

        def __init__(self, grid: Grid, error: JondelError) -> None:
            super().__init__()
            self.sheet = grid
            self.error = error

        @property
        def control(self) -> Grid:
            return self.sheet

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.on_record: Callable[[], None] = lambda: None
        """Called when the current record is another, or has just been read.

        A call and no message, so that what shows the record is painted together with the rows.
        """
        self.on_view_moved: Callable[[], None] = lambda: None
        """Called when cells are seen in other places than before."""
        self._content = SheetContent()
        self._columns = SheetColumns()
        self._column_layout = ColumnLayout()
        self._drawing = SheetDrawing(self)
        self._problem = ""
        self._reading = False
        self._height_before = 1

    # What is shown

    @property
    def source(self) -> RowSource | None:
        """The rows shown; None where there is nothing to show."""
        return self._content.source

    @property
    def problem(self) -> str:
        """Why there is nothing to show; empty where there is."""
        return self._problem

    @property
    def rows(self) -> int:
        """How many rows the source has."""
        return self._content.rows

    @property
    def draft(self) -> DraftMarks:
        """What a draft makes of the rows."""
        return self._content.draft

    def show(
        self,
        source: RowSource,
        *,
        row: int | None = None,
        column: str = "",
        layout: ColumnLayout | None = None,
    ) -> None:
        """Show rows; ``row`` and ``column`` say where to begin, ``layout`` how the columns are laid
        out."""
        self._content = SheetContent(source)
        if layout is not None:
            self._column_layout = layout
        self._fit_columns()
        self._problem = ""
        self._resize()
        self.cursor_row = self.cursor_column = 0
        self.scroll_to(0, 0, animate=False)
        if row or column:
            self.go_to(row or 0, column or None)
        self._shown_anew()

    def show_again(self, source: RowSource, shift: int = 0, top_shift: int = 0) -> None:
        """Show rows of the same columns, read anew, and stay where one is among them.

        ``shift`` is how many rows further down the current row is now, ``top_shift`` the one at the
        top, which counts where the current one is not in view.
        """
        before, first = self._content.lines.ordinal(self.cursor_row), int(self.scroll_target_y)
        in_view = first <= self.cursor_row <= first + self._body_height - 1
        self._content.take_source(source)
        self._problem = ""
        self._resize()
        around = [source.row(ordinal) for ordinal in range(*self._lines_in_view)]
        self._widen([entry[1] for entry in around if entry is not None])
        scrolled = shift if in_view else top_shift
        if scrolled:
            self.scroll_to(None, self.scroll_target_y + scrolled, animate=False, force=True)
        self.cursor_row = max(0, min(before + shift, self._last_line))
        self._shown_anew()

    def _shown_anew(self) -> None:
        self._read_visible()
        self._announce()
        self.refresh()

    def show_problem(self, message: str) -> None:
        """Show why there is nothing to show, in place of rows."""
        self._content = SheetContent()
        self._columns = SheetColumns()
        self._problem = message
        self._drawing.forget()
        self.virtual_size = Size(0, 0)
        self.refresh()

    def take_extent(self) -> None:
        """More is known of how many rows there are: make room for them."""
        row = self._content.lines.ordinal(self.cursor_row)
        self._content.take_extent()
        self._resize()
        self.cursor_row = max(0, min(self.cursor_row, self._last_line))
        if row != self._content.lines.ordinal(self.cursor_row):
            self.show_cursor()
        self._read_visible()
        self.refresh()

    # What marks the rows

    def set_marks(self, marks: RowMarks | None) -> None:
        """Mark the rows that changed."""
        self._content.marks = marks
        self._redraw()

    def set_draft(self, draft: DraftMarks | None) -> None:
        """Show what a draft makes of the rows."""
        content = self._content
        content.set_draft(draft)
        if content.source is not None:
            edited = list(content.draft.edited.values())[:BLOCK_ROWS]
            self._columns.widen([tuple(map(cells.get, content.names)) for cells in edited])
            self._columns.widen([row for _, row in content.draft.added[:BLOCK_ROWS]])
            self._resize()
            self.cursor_row = max(0, min(self.cursor_row, self._last_line))
        self._redraw()

    def set_fresh(self, fresh: Mapping[Position, frozenset[int]]) -> None:
        """Mark cells, by their columns' indexes, that have just changed under one's eyes."""
        if fresh or self._content.fresh:
            self._content.fresh = fresh
            self._redraw()

    def set_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records where they were; the current row stays the current one."""
        content = self._content
        if content.source is None:
            return
        row = content.lines.ordinal(self.cursor_row)
        ghost = content.lines.ghost(self.cursor_row)
        was_first = content.lines.ordinal(int(self.scroll_target_y))
        content.set_ghosts(ghosts)
        self._widen([ghost.record.before for ghost in ghosts if ghost.record.before])
        self._resize()
        top = content.lines.line(was_first) if was_first else 0
        line = content.lines.line_of_ghost(ghost.record.key) if ghost is not None else None
        if line is None and self.rows:
            line = content.lines.line(row)
        if line is not None:
            self.cursor_row = line
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._read_visible()
        self._announce()
        self.refresh()

    # The current record and cell

    @property
    def current_row(self) -> int | None:
        """The ordinal of the current row; None where that is a removed or a new record."""
        return self._content.row_at(self.cursor_row)

    @property
    def current_new(self) -> int | None:
        """The number of the draft's new record that is the current row, if one is."""
        return self._content.new_at(self.cursor_row)

    @property
    def current_record(self) -> tuple[Position, ShownRow] | None:
        """The position and values of the current row; None while it has not been read."""
        return self._content.record_at(self.cursor_row)

    @property
    def current_change(self) -> RecordChange | None:
        """How the current row changed, by the marks."""
        return self._content.change_on(self.cursor_row)

    @property
    def current_position(self) -> Position:
        """The position of the current row; empty where it is not known."""
        record = self.current_record
        return record[0] if record is not None else ()

    @property
    def current_field(self) -> int | None:
        """The index of the current column in the source; None where no column is shown."""
        fields = self._columns.fields
        return fields[self.cursor_column] if self.cursor_column < len(fields) else None

    @property
    def column_name(self) -> str:
        """The name of the current column; empty where none is shown."""
        field = self.current_field
        return self._content.names[field] if field is not None else ""

    @property
    def current_value(self) -> Value:
        """The value of the current cell as read; None where there is none."""
        record, field = self.current_record, self.current_field
        return record[1][field] if record is not None and record[1] and field is not None else None

    @property
    def current_width(self) -> int:
        """How wide the current column is, in cells."""
        widths = self._columns.widths
        return widths[self.cursor_column] if self.cursor_column < len(widths) else 0

    @property
    def current_cell(self) -> tuple[int, int, int] | None:
        """Where the current cell is in the widget: x, y and width, in cells; None if nowhere."""
        columns, place = self._columns, self.cursor_column
        if self.source is None or place >= len(columns):
            return None
        x = columns.edges[place] - (0 if place < columns.frozen else self.scroll_offset.x)
        y = self.cursor_row - self.scroll_offset.y + HEAD_LINES
        return x, y, columns.widths[place]

    def record_at(self, line: int) -> tuple[Position, ShownRow] | None:
        """The position and values of what is on a line, or None while it has not been read."""
        return self._content.record_at(line)

    # The rows around

    @property
    def lines(self) -> int:
        """How many lines there are: rows, and removed and new records."""
        return self._content.lines.lines

    @property
    def shown_columns(self) -> list[str]:
        """The names of the columns that are shown, in their order."""
        return [self._content.names[field] for field in self._columns.fields]

    @property
    def rows_in_view(self) -> list[int]:
        """The ordinals of the current row and of those at the top and the bottom."""
        lines = (self.cursor_row, *self._lines_in_view)
        return [self._content.lines.ordinal(line) for line in lines]

    @property
    def anchors(self) -> list[tuple[int, Position]]:
        """The current row and the topmost one in view: their ordinals and positions.

        Empty where the current line is no row, or has not been read.
        """
        record, row = self.current_record, self.current_row
        if record is None or row is None or not record[0]:
            return []
        top = self._content.row_at(self._lines_in_view[0])
        at_top = self._content.record_at(self._lines_in_view[0])
        if top is None or at_top is None or not at_top[0]:
            top, at_top = row, record
        return [(row, record[0]), (top, at_top[0])]

    def rows_at_hand(self) -> dict[Position, ShownRow]:
        """The rows around those in view, as last read, by their positions."""
        first, last = self._lines_in_view
        records = map(self.record_at, range(max(0, first - 1), last + 1))
        return dict(record for record in records if record is not None)

    def sample_rows(self) -> list[ShownRow]:
        """Some of the rows at hand: the first ones, and those in view."""
        first, last = self._lines_in_view
        lines = {*range(min(BLOCK_ROWS, self.lines)), *range(first, last + 1)}
        records = map(self.record_at, sorted(lines))
        return [record[1] for record in records if record is not None and record[1]]

    @property
    def _lines_in_view(self) -> tuple[int, int]:
        top = int(self.scroll_target_y)
        return top, top + self._body_height

    @property
    def _body_height(self) -> int:
        return max(1, self.scrollable_content_region.height - HEAD_LINES)

    @property
    def _last_line(self) -> int:
        return self._content.lines.lines - 1

    # Layout

    def lay_out(self, layout: ColumnLayout) -> None:
        """Lay the columns out in another way; the current column stays the current one."""
        field = self.current_field
        self._column_layout = layout
        if self.source is None:
            return
        self._fit_columns()
        place = self._columns.place_of(field) if field is not None else None
        last = max(0, len(self._columns) - 1)
        self.cursor_column = min(self.cursor_column if place is None else place, last)
        self._drawing.forget()
        self._resize()
        self.scroll_to(self._column_scroll(), None, animate=False, force=True)
        self.refresh()

    def _fit_columns(self) -> None:
        """Fit the columns to the rows at hand."""
        source = self.source
        assert source is not None, "columns are those of a source"
        first = [source.row(ordinal) for ordinal in range(min(self.rows, BLOCK_ROWS))]
        rows = [entry[1] for entry in first if entry]
        self._columns = SheetColumns(source.columns, rows, self._column_layout)
        self._columns.fit(self.scrollable_content_region.width, rows)

    def _widen(self, rows: Sequence[ShownRow]) -> None:
        """Make room for values; what is at the left edge stays there."""
        columns, x = self._columns, int(self.scroll_target_x)
        first = columns.first_whole(x)
        from_edge = columns.edges[first] - columns.frozen_edge if x and len(columns) else 0
        if not columns.widen(rows):
            return
        self._resize()
        if x and first < len(columns):
            moved = columns.edges[first] - columns.frozen_edge - from_edge
            self.scroll_to(x + moved, None, animate=False, force=True)

    def _resize(self) -> None:
        size = Size(self._columns.total_width, self.lines + HEAD_LINES)
        self._drawing.forget_rows()
        if size != self.virtual_size:
            self.virtual_size = size

    def _column_scroll(self) -> int:
        """How far to scroll sideways so that the current column is seen."""
        room = self.scrollable_content_region.width
        return self._columns.scroll_to_show(self.cursor_column, self.scroll_offset.x, room)

    # Drawing

    def about_to_draw(self, width: int) -> None:
        x, y = self.scroll_offset
        view = Viewport(x, y - HEAD_LINES, self.cursor_row, self.cursor_column, self.has_focus)
        self._drawing.begin(
            self._content,
            self._columns,
            view,
            self.app.current_theme.name,
            width,
            self.rich_style,
        )

    def line_strip(self, y: int, width: int) -> Strip:
        if self.source is None:
            return self._drawing.problem(self._problem, y, width)
        return self._drawing.line(y, width)

    def _redraw(self) -> None:
        """Draw all rows anew, for something about them is other than before."""
        self._drawing.forget_rows()
        self.refresh()

    # Reading

    def _read_visible(self) -> None:
        if self.source is not None and not self._reading and self.is_attached:
            self._reading = True
            self._read()

    @work(group="sheet-rows")
    async def _read(self) -> None:
        """Read until everything visible is at hand, however the view moves meanwhile."""
        try:
            while (source := self.source) is not None:
                wanted = self._content.wanted_block(self._lines_in_view, self.cursor_row)
                if wanted is None:
                    break
                block, is_visible = wanted
                if not await source.fetch(block):
                    break  # rows went away since they were counted; a fresh count is under way
                if is_visible and source is self.source:
                    records = [source.row(block * BLOCK_ROWS + n) for n in range(BLOCK_ROWS)]
                    self._widen([record[1] for record in records if record is not None])
                    self._redraw()
                    self._announce()
        except JondelError as error:
            self.show_problem(str(error))
            self.post_message(self.ReadingFailed(self, error))
        finally:
            self._reading = False

    def _announce(self) -> None:
        if self.current_record is not None or not self.lines:
            self.on_record()

    # Going to a cell

    def go_to(self, ordinal: int, column: str | None = None) -> None:
        """Make a row the current one and bring it to the middle of the sheet."""
        if self.source is None:
            return
        if column in self._content.names:
            place = self._columns.place_of(self._content.names.index(column))
            self.cursor_column = self.cursor_column if place is None else place
        self._go_to_line(self._content.lines.line(max(0, min(ordinal, self.rows - 1))))

    def go_to_new(self, number: int) -> bool:
        """Make one of the draft's new records the current row; False where it is not shown."""
        line = self._content.line_of_new(number)
        if line is not None:
            self._go_to_line(line)
        return line is not None

    def go_to_ghost(self, key: Sequence[Value]) -> bool:
        """Make a removed record the current row; False where it is not shown."""
        line = self._content.lines.line_of_ghost(key)
        if line is not None:
            self._go_to_line(line)
        return line is not None

    def _go_to_line(self, line: int) -> None:
        self.cursor_row = max(0, min(line, self._last_line))
        top = max(0, self.cursor_row - self._body_height // 2)
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._widen(list(self.rows_at_hand().values()))
        self._read_visible()

    @property
    def sees_cursor(self) -> bool:
        """Whether the beginning of the current cell is in view."""
        top, columns, place = int(self.scroll_target_y), self._columns, self.cursor_column
        if not top <= self.cursor_row < top + self._body_height or place >= len(columns):
            return False
        x = columns.edges[place] - (0 if place < columns.frozen else self.scroll_offset.x)
        begins = 0 if place < columns.frozen else columns.frozen_edge
        return begins <= x < self.scrollable_content_region.width

    def show_cursor(self) -> None:
        """Scroll as little as it takes to have the current cell in view."""
        top = int(self.scroll_target_y)
        if self.cursor_row < top:
            top = self.cursor_row
        elif self.cursor_row >= top + self._body_height:
            top = self.cursor_row - self._body_height + 1
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._read_visible()

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
        self.on_view_moved()

    def watch_scroll_x(self, old: float, new: float) -> None:
        super().watch_scroll_x(old, new)
        self.on_view_moved()

    def on_resize(self) -> None:
        if self.source is not None:
            self._columns.fit(self.scrollable_content_region.width, self.sample_rows())
            self._resize()
        self._keep_cursor_in_view()
        self._read_visible()
        self.call_after_refresh(self.on_view_moved)

    def _keep_cursor_in_view(self) -> None:
        """Show the current row again where the view got smaller, or is there only now."""
        before, self._height_before = self._height_before, self._body_height
        top = int(self.scroll_target_y)
        was_seen = before <= 1 or top <= self.cursor_row < top + before
        if was_seen and not top <= self.cursor_row < top + self._body_height:
            above = self._body_height // 2 if before <= 1 else self._body_height - 1
            wanted = max(0, self.cursor_row - above)
            self.scroll_to(None, wanted, animate=False, force=True)
