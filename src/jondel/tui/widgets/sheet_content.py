"""What stands on the lines of a sheet: rows, removed and new records, and in which columns."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Awaitable, Callable, Mapping, Sequence

from textual.geometry import Size
from textual.reactive import reactive

from jondel.core.browse.ghosts import Ghost, Interleaving
from jondel.core.browse.layout import ColumnLayout
from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.engines.protocol import Extent
from jondel.core.model.changes import RecordChange
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.lines import LinesView
from jondel.tui.widgets.row_marks import (
    DraftMarks,
    RowMarks,
)
from jondel.tui.widgets.sheet_columns import SheetColumns

HEAD_LINES = 2
_NO_DRAFT = DraftMarks({}, frozenset())

Fetch = Callable[[WindowCache, int], Awaitable[Window]]


class SheetContent(LinesView):
    """Rows of one table with what marks them, and where each stands."""

    cursor_row = reactive(0)
    cursor_column = reactive(0)

    def __init__(self, fetch: Fetch, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.when_selected: Callable[[], None] = lambda: None
        """Called when the current record is another, or has just been read; not while it is not.

        A call and no message, so that what shows the record is painted together with the rows.
        """
        self._fetch = fetch
        self._cache: WindowCache | None = None
        self._lines = Interleaving(0)
        self._marks: RowMarks | None = None
        self._columns = SheetColumns()
        self._layout = ColumnLayout()
        self._draft = _NO_DRAFT
        self._fresh: Mapping[Position, frozenset[int]] = {}
        self._chosen: set[Position] = set()
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
        """The ordinal of the current row; None where that is a removed or a new record."""
        line = self.cursor_row
        if self._lines.ghost(line) or self._lines.new(line) is not None:
            return None
        return self._lines.ordinal(line)

    @property
    def current_new(self) -> int | None:
        """The number of the draft's new record that is the current row, if one is."""
        place = self._lines.new(self.cursor_row)
        return self._draft.added[place][0] if place is not None else None

    @property
    def draft(self) -> DraftMarks:
        """What a draft makes of the rows."""
        return self._draft

    @property
    def lines(self) -> int:
        """How many lines there are: rows, and removed and new records."""
        return self._lines.lines

    @property
    def cache(self) -> WindowCache | None:
        """The rows shown; None where there is nothing to show."""
        return self._cache

    @property
    def extent(self) -> Extent | None:
        """How many rows there are, as far as that is known."""
        return self._cache.extent if self._cache else None

    def shows(self, cache: WindowCache) -> bool:
        """Whether these are the rows shown."""
        return self._cache is cache

    @property
    def current_position(self) -> Position:
        """The position of the current row; empty where it is not known."""
        found = self.record_at(self.cursor_row)
        return found[0] if found is not None else ()

    @property
    def column_name(self) -> str:
        """The name of the current column; empty where none is shown."""
        field, table = self.current_field, self.table
        return table.column_names[field] if table is not None and field is not None else ""

    @property
    def current_value(self) -> Value:
        """The value of the current cell as read; None where there is none."""
        found, field = self.record_at(self.cursor_row), self.current_field
        return found[1][field] if found is not None and found[1] and field is not None else None

    def current_cell(self) -> tuple[int, int, int] | None:
        """Where the current cell is in the widget: x, y and width, in cells; None if nowhere."""
        columns, place = self._columns, self.cursor_column
        if self._cache is None or place >= len(columns):
            return None
        x = columns.edges[place] - (0 if place < columns.frozen else self.scroll_offset.x)
        y = self.cursor_row - self.scroll_offset.y + HEAD_LINES
        return x, y, columns.widths[place]

    def rows_at_hand(self) -> dict[Position, ShownRow]:
        """The rows around those in view, as last read, by their positions."""
        first, last = self._stretch_in_view
        lines = range(max(0, first - 1), last + 1)
        return dict(entry for entry in map(self.record_at, lines) if entry is not None)

    def rows_seen(self) -> list[ShownRow]:
        """Some of the rows at hand: the first ones, and those in view."""
        first, last = self._stretch_in_view
        lines = {*range(min(BLOCK_ROWS, self._lines.lines)), *range(first, last + 1)}
        found = [self.record_at(number) for number in sorted(lines)]
        return [entry[1] for entry in found if entry is not None and entry[1]]

    @property
    def rows_in_view(self) -> list[int]:
        """The ordinals of the current row and of those at the top and the bottom."""
        return [self._lines.ordinal(line) for line in (self.cursor_row, *self._stretch_in_view)]

    @property
    def _stretch_in_view(self) -> tuple[int, int]:
        top = int(self.scroll_target_y)
        return top, top + self._body_height

    def show(
        self, cache: WindowCache, *, keep_place: bool, row: int | None = None, column: str = ""
    ) -> None:
        """Show a table's rows; ``keep_place`` where it is the same table, read anew.

        Then ``row`` is the ordinal that the current row has now, where that is known; else that of
        the row to begin at, as ``column`` is the column.
        """
        wanted = row or 0
        if not keep_place:
            self._marks = None
            self._draft, self._fresh = _NO_DRAFT, {}
            self._chosen = set()
            self._fit_columns(cache)
        before = self._lines.ordinal(self.cursor_row)
        shift = row - before if keep_place and row is not None else 0
        row = before + shift
        self._cache = cache
        self._problem = ""
        self._lines = self._lines.with_rows(self.rows, ghosts=False)
        if not keep_place:
            self._lines = self._lines.with_new(0)
        self._resize()
        if keep_place:
            found = [cache.row(ordinal) for ordinal in range(*self._stretch_in_view)]
            self._widen([entry[1] for entry in found if entry is not None])
        if keep_place:
            if shift:
                self.scroll_to(None, self.scroll_target_y + shift, animate=False, force=True)
            self.cursor_row = max(0, min(row, self._lines.lines - 1))
        else:
            self.cursor_row = self.cursor_column = 0
            self.scroll_to(0, 0, animate=False)
            if wanted or column:
                self.go_to(wanted, column or None)
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
        self.redraw()

    def set_draft(self, draft: DraftMarks | None) -> None:
        """Show what a draft makes of the rows."""
        self._draft = draft or _NO_DRAFT
        if self._cache is not None:
            self._lines = self._lines.with_new(len(self._draft.added))
            names = self._cache.table.column_names
            edited = list(self._draft.edited.values())[:BLOCK_ROWS]
            self._columns.widen([tuple(cells.get(name) for name in names) for cells in edited])
            self._columns.widen([row for _, row in self._draft.added[:BLOCK_ROWS]])
            self._resize()
            self.cursor_row = max(0, min(self.cursor_row, self._lines.lines - 1))
        self.redraw()

    def go_to_new(self, number: int) -> None:
        """Make one of the draft's new records the current row."""
        places = [place for place, entry in enumerate(self._draft.added) if entry[0] == number]
        if places:
            self._go_to_line(self._lines.lines - len(self._draft.added) + places[0])

    def set_fresh(self, fresh: Mapping[Position, frozenset[int]]) -> None:
        """Mark cells, by their columns' indexes, that have just changed under one's eyes."""
        if fresh or self._fresh:
            self._fresh = fresh
            self.redraw()

    @property
    def layout(self) -> ColumnLayout:
        """How the columns are laid out."""
        return self._layout

    def lay_out_next(self, layout: ColumnLayout) -> None:
        """Lay out the table that is shown next in this way."""
        self._layout = layout

    def take_extent(self) -> None:
        """More is known of how many rows there are: make room for them."""
        row = self._lines.ordinal(self.cursor_row)
        self._lines = self._lines.with_rows(self.rows, ghosts=True)
        self._resize()
        self.cursor_row = max(0, min(self.cursor_row, self._lines.lines - 1))
        if row != self._lines.ordinal(self.cursor_row):
            self._move_to(self.cursor_row, self.cursor_column)
        self._read_visible()
        self.refresh()

    def lay_out(self, layout: ColumnLayout) -> None:
        """Lay the columns out in another way; the current column stays the current one."""
        field = self.current_field
        self._layout = layout
        if self._cache is None:
            return
        self._fit_columns(self._cache)
        place = self._columns.place_of(field) if field is not None else None
        self.cursor_column = min(self.cursor_column if place is None else place, self._last_place)
        self.forget_drawing(headings=True)
        self._resize()
        self.scroll_to(self._column_scroll(), None, animate=False, force=True)
        self.refresh()

    @property
    def current_field(self) -> int | None:
        """The index of the current column in the table; None where no column is shown."""
        fields = self._columns.fields
        return fields[self.cursor_column] if self.cursor_column < len(fields) else None

    @property
    def current_width(self) -> int:
        """How wide the current column is, in cells."""
        widths = self._columns.widths
        return widths[self.cursor_column] if self.cursor_column < len(widths) else 0

    @property
    def _last_place(self) -> int:
        return max(0, len(self._columns) - 1)

    @property
    def chosen(self) -> set[Position]:
        """The positions of the rows that a person has chosen."""
        return set(self._chosen)

    def choose_none(self) -> None:
        """Have no row chosen any more."""
        if self._chosen:
            self._chosen.clear()
            self.redraw()
            self.rows_chosen()

    def set_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records where they were; the current row stays the current one."""
        if self._cache is None:
            return
        row = self._lines.ordinal(self.cursor_row)
        was_first = self._lines.ordinal(int(self.scroll_target_y))
        self._lines = self._lines.with_ghosts(ghosts)
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
            place = self._columns.place_of(table.column_names.index(column))
            self.cursor_column = self.cursor_column if place is None else place
        self._go_to_line(self._lines.line(max(0, min(ordinal, self.rows - 1))))

    def _go_to_line(self, line: int) -> None:
        self.cursor_row = max(0, min(line, self._lines.lines - 1))
        top = max(0, self.cursor_row - self._body_height // 2)
        self.scroll_to(self._column_scroll(), top, animate=False, force=True)
        self._widen(list(self.rows_at_hand().values()))
        self._read_visible()

    def record_at(self, line: int) -> tuple[Position, ShownRow] | None:
        """The position and values of what is on a line, or None while it has not been read."""
        ghost = self._lines.ghost(line)
        if ghost is not None:
            return ghost.position, ghost.record.before or ()
        new = self._lines.new(line)
        if new is not None:
            return (), self._draft.added[new][1]
        return self._cache.row(self._lines.ordinal(line)) if self._cache else None

    def change_on(self, line: int) -> RecordChange | None:
        """How what is on a line changed, by the marks; a removed record by itself."""
        ghost = self._lines.ghost(line)
        if ghost is not None:
            return ghost.record
        found = self.record_at(line) if self._marks is not None else None
        return self._change_of(*found) if found else None

    def _change_of(self, position: Position, row: ShownRow) -> RecordChange | None:
        marks, table = self._marks, self.table
        if marks is None or table is None or not row or not position:
            return None
        if not marks.key_columns:
            return marks.records.get(tuple(position))
        places = [table.column_names.index(name) for name in marks.key_columns]
        return marks.records.get(tuple(row[place] for place in places))

    # Layout

    def _fit_columns(self, cache: WindowCache) -> None:
        """Fit the columns to the rows at hand."""
        found = [cache.row(ordinal) for ordinal in range(min(cache.extent.rows, BLOCK_ROWS))]
        rows = [entry[1] for entry in found if entry]
        self._columns = SheetColumns(cache.table, rows, self._layout)
        self._columns.fit_frozen(self.scrollable_content_region.width)

    def _widen(self, rows: Sequence[ShownRow]) -> None:
        """Make room for values; what is at the left edge stays there."""
        columns, x = self._columns, int(self.scroll_target_x)
        first = min(bisect_left(columns.edges, x + columns.frozen_edge), len(columns)) if x else 0
        from_edge = columns.edges[first] - columns.frozen_edge if x and len(columns) else 0
        if not columns.widen(rows):
            return
        self._resize()
        if x and first < len(columns):
            moved = columns.edges[first] - columns.frozen_edge - from_edge
            self.scroll_to(x + moved, None, animate=False, force=True)

    def _resize(self) -> None:
        size = Size(self._columns.total_width, self._lines.lines + HEAD_LINES)
        self.forget_drawing()
        if size != self.virtual_size:
            self.virtual_size = size

    @property
    def _body_height(self) -> int:
        return max(1, self.scrollable_content_region.height - HEAD_LINES)

    def _column_scroll(self) -> int:
        """The least change of the horizontal place that shows the current column."""
        x, columns = self.scroll_offset.x, self._columns
        if not columns or self.cursor_column < columns.frozen:
            return x
        left = columns.edges[self.cursor_column]
        right = left + columns.widths[self.cursor_column]
        room, frozen = self.scrollable_content_region.width, columns.frozen_edge
        if left < x + frozen:
            return max(0, left - frozen)
        if right > x + room:
            # As far as to the beginning of a column, so that none is cut on the left.
            first = next((e for e in columns.edges if e >= right - room + frozen), left)
            return max(0, min(first, left) - frozen)
        return x

    # What those do that draw it and move in it

    def redraw(self) -> None:
        """Draw all rows anew, for something about them is other than before."""
        self.forget_drawing()
        self.refresh()

    def forget_drawing(self, *, headings: bool = False) -> None:
        """The rows drawn already hold no more, or the headings neither."""

    def expect_no_more(self) -> None:
        """What was expected is there or does not come: make the moves that wait for it."""

    def rows_chosen(self) -> None:
        """Other rows than before are chosen."""

    def _read_visible(self) -> None:
        """Read what is in view and not at hand."""

    def _announce(self) -> None:
        """The current record is another, or has just been read."""
