"""One sheet with the lines around it: what it shows, how it is filtered and sorted, its tally."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import aclosing
from functools import partial
from typing import TYPE_CHECKING

from rich.cells import cell_len
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message

from jondel.core.browse.display import grouped, safe_name
from jondel.core.browse.ghosts import Ghost
from jondel.core.browse.sheet_states import SheetState
from jondel.core.browse.windows import WindowCache
from jondel.core.draft.draft_marks import DraftMarks
from jondel.core.engines.protocol import ArrangingProgress
from jondel.core.errors import ConditionInvalid, JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, TableChanges
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.tui.frame.navigator import StartTask, Visit
from jondel.tui.frame.place import AtKey, AtPosition, RecordRef
from jondel.tui.services.moments import NOW, Moment, Now
from jondel.tui.services.workspace import Workspace
from jondel.tui.views.records.captions import (
    Parts,
    extent_words,
    progress_parts,
    rows_words,
    state_parts,
)
from jondel.tui.views.records.cell_field import CellField
from jondel.tui.views.records.opening import (
    Ordering,
    SheetOpener,
    SheetOpening,
    condition_problem,
)
from jondel.tui.views.records.table_rows import TableRows
from jondel.tui.views.records.tally import Tallied, TallyBand
from jondel.tui.widgets.bands import Band, show_band
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.sheet.headings import column_remark
from jondel.tui.widgets.sheet.row_marks import marks_of
from jondel.tui.widgets.sheet.sheet import Sheet

if TYPE_CHECKING:
    from jondel.core.browse.times import TimeKind

_LEAST_GAP = 2
_SHOW_PROGRESS_SECONDS = 0.15
_FRESH_SECONDS = 6.0
_NO_PROGRESS = ArrangingProgress(None, 0)


class SheetPane(PlainGround, Vertical):
    """The sheet of one table as of a moment, as its state wants it."""

    DEFAULT_CSS = "SheetPane { width: 1fr; layers: default editing; }"

    class OrderMade(Message):
        """The order of the sheet's rows is there, so that any of them can be shown."""

        def __init__(self, pane: SheetPane) -> None:
            super().__init__()
            self.pane = pane

        @property
        def control(self) -> SheetPane:
            return self.pane

    def __init__(
        self,
        workspace: Workspace,
        start: StartTask,
        *,
        rows_of: Callable[[TableId], int | None],
        on_counted: Callable[[TableId, int], None],
        id: str | None = None,
        sheet_id: str | None = None,
    ) -> None:
        """``rows_of`` tells how many rows a table has, where that is known elsewhere;
        ``on_counted`` is told when it is known here."""
        super().__init__(id=id)
        self._workspace = workspace
        self._start = start
        self._rows_of = rows_of
        self._on_counted = on_counted
        self._opener = SheetOpener(workspace.rows)
        self._visit = Visit(start)
        self.moment: Moment = NOW
        self.table: Table | None = None
        """The table that is shown, also where its rows cannot be."""
        self.state = SheetState()
        """How it is filtered, sorted and laid out."""
        self.sheet = Sheet(id=sheet_id)
        self.field = CellField(self, self.sheet)
        self._title = Band(classes="title")
        self._conditions = Band(classes="title")
        self._tally = TallyBand()
        self._progress: ArrangingProgress | None = None
        self._is_unreadable = False
        self._is_ordering = False
        self._order_again = False
        self._all_rows: int | None = None
        self._times: tuple[Table, dict[str, TimeKind]] | None = None

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.sheet

    def on_mount(self) -> None:
        self.show_title()

    @property
    def source(self) -> TableRows | None:
        """The rows shown; None where there is nothing to show."""
        source = self.sheet.source
        return source if isinstance(source, TableRows) else None

    # Opening a table

    async def prepare(
        self,
        moment: Moment,
        table: Table,
        record: RecordRef | None = None,
        column: str = "",
        state: SheetState | None = None,
        removed: TableChanges | None = None,
    ) -> SheetOpening:
        """Read what a table needs to be shown, and show nothing of it yet.

        ``state`` is how it is to be arranged, where otherwise than it was left; ``removed`` are
        the changes that list its removed records. A table that cannot be read is an opening with
        a problem; what concerns the database as a whole is raised as ``JondelError``.
        """
        shown = self.source.table if self.source is not None else None
        same = shown is not None and (
            (shown.id, shown.column_names) == (table.id, table.column_names)
        )
        known = self._state_of(table)
        wanted = _to_show(record, known if state is None else state)
        unchanged = (wanted.condition, wanted.order) == (known.condition, known.order)
        opening = SheetOpening(
            moment,
            table,
            wanted,
            keep_place=same and unchanged and wanted.natural,
            column=column,
        )
        if same and unchanged and not wanted.natural and record is None:
            opening.row, opening.position = self.sheet.current_row, self.sheet.current_position
            opening.column = self.sheet.column_name
        await self._opener.open(
            opening, record, self.sheet.rows_in_view, removed, self.sheet.anchors
        )
        return opening

    def _state_of(self, table: Table) -> SheetState:
        if self.table is not None and self.table.id == table.id:
            return self.state
        return self._workspace.sheets.of(table.id)

    def show(self, opening: SheetOpening) -> None:
        """Show what was prepared, in place of what is shown."""
        same = self.table is not None and self.table.id == opening.table.id
        if not same:
            self.leave()
            self._all_rows = None
        elif opening.state != self.state:
            self._workspace.sheets.keep(opening.table.id, opening.state)
        self._visit.end()
        self._visit = Visit(self._start)
        self._progress, self._is_ordering = None, False
        self.moment, self.table, self.state = opening.moment, opening.table, opening.state
        self._is_unreadable = opening.unreadable
        if opening.source is None:
            self.sheet.show_problem(opening.problem)
            self.show_title()
            return
        self._show_source(opening, opening.source)
        if opening.ghosts is not None:
            self.show_ghosts(opening.ghosts)
        if opening.ghost is not None:
            self.call_after_refresh(self.sheet.go_to_ghost, opening.ghost.key)
        if opening.ordering is not None:
            self._visit.start(partial(self._finish_order, opening, opening.ordering), "order")

    def show_missing(self) -> None:
        """Show that there is no such table at the moment."""
        if self.table is not None:
            self._visit.end()
            self._visit = Visit(self._start)
            self.sheet.show_problem(f"{safe_name(self.table.id)}: there is no such table here.")
            self.show_title()

    def arrival_of(self, cache: WindowCache) -> SheetOpening:
        """An opening of which the first rows have been read elsewhere."""
        source = TableRows(self._workspace.rows, NOW, cache)
        state = self._workspace.sheets.of(cache.table.id)
        return SheetOpening(NOW, cache.table, state, keep_place=False, source=source)

    def _show_source(self, opening: SheetOpening, source: TableRows) -> None:
        state, sheet = self.state, self.sheet
        if opening.keep_place:
            self._show_same(source, opening.shifts)
            if opening.row is not None:
                sheet.go_to(opening.row, opening.column or None)
        else:
            at_first = opening.row if opening.row is not None else state.row
            column = opening.column or state.column
            row = at_first if opening.ordering is None else None
            sheet.show(source, row=row, column=column, layout=state.layout)
            if self._tally.column not in opening.table.column_names:
                self._tally.close()
        if opening.new is not None:
            self.call_after_refresh(sheet.go_to_new, opening.new)
        self._shown_anew(source)

    def _show_same(self, source: TableRows, shifts: Sequence[int] = (0, 0)) -> None:
        """Show rows of the same columns, read anew, where one is among them.

        ``shifts`` says how many rows further down the current one and the topmost one are now.
        """
        fresh: dict[Position, frozenset[int]] = {}
        if self.source is not None and source.moment == self.source.moment:
            first, last = min(self.sheet.rows_in_view), max(self.sheet.rows_in_view)
            around = range(max(0, first - 1), last + 2)
            fresh = source.changed_since(self.sheet.rows_at_hand(), around)
        self.sheet.show_again(source, *shifts)
        if fresh:
            self.sheet.set_fresh(fresh)
            self.set_timer(_FRESH_SECONDS, lambda: self.sheet.set_fresh({}))

    def _shown_anew(self, source: TableRows) -> None:
        cache = source.cache
        if cache.arrangement is None:
            self._take_count(source)
        self.follow_tally()
        self.show_title()
        # A view's rows are found again only in an order that was made of them.
        if not cache.complete and cache.arrangement is None:
            self._visit.start(partial(self._measure, source), "measure")

    async def refresh_rows(self, moment: Moment, table: Table) -> None:
        """Read the same table anew, and stay where one is in it. Raises ``JondelError``."""
        if self._is_ordering:
            self._order_again = True  # once the order that is being made is there
            return
        if self.source is None or self.state.natural:
            self.show(await self.prepare(moment, table))
            return
        ordering = self._workspace.rows.arranged(
            moment, table, self.state.arrangement, first_rows=False
        )
        opening = SheetOpening(moment, table, self.state, keep_place=True)
        self._visit.start(partial(self._finish_order, opening, ordering), "order")

    async def _finish_order(self, opening: SheetOpening, ordering: Ordering) -> None:
        """Make the order, and again as long as rows were written meanwhile."""
        self._is_ordering, self._progress = True, _NO_PROGRESS
        timer = self.set_interval(_SHOW_PROGRESS_SECONDS, self.show_title)
        rows, moment = self._workspace.rows, opening.moment
        try:
            while True:
                self._order_again = False
                async with aclosing(ordering) as items:
                    async for item in items:
                        if isinstance(item, ArrangingProgress):
                            self._progress = item
                        else:
                            await self._show_order(opening, item)
                opening.keep_place = True
                if not self._order_again:
                    break
                ordering = rows.arranged(
                    moment, opening.table, self.state.arrangement, first_rows=False
                )
        except ConditionInvalid as error:
            self.sheet.show_problem(condition_problem(error))
        finally:
            timer.stop()
            self._is_ordering, self._progress = False, None
            if self.is_attached:
                self.show_title()

    async def _show_order(self, opening: SheetOpening, cache: WindowCache) -> None:
        """Show the rows in their order, at the row where one is or, at first, wants to be."""
        sheet, rows = self.sheet, self._workspace.rows
        wanted = self.state.row if opening.row is None else opening.row
        begins = not opening.keep_place and not sheet.cursor_row and bool(wanted)
        position = opening.position if begins else sheet.current_position
        at = sheet.rows_in_view[0]
        row = await rows.read_around(opening.moment, cache, sheet.rows_in_view, position)
        self._progress = None
        source = TableRows(rows, opening.moment, cache)
        shift = row - at if row is not None and not begins else 0
        self._show_same(source, (shift, shift))
        if begins:
            column = opening.column or self.state.column
            sheet.go_to(wanted if row is None else row, column or None)
        self._shown_anew(source)
        self.post_message(self.OrderMade(self))

    def _take_count(self, source: TableRows) -> None:
        extent = source.extent
        if extent.precision == "exact":
            self._all_rows = extent.rows
            self._on_counted(source.table.id, extent.rows)

    async def _measure(self, source: TableRows) -> None:
        """Count the rows exactly, once the first ones are shown."""
        try:
            extent = await self._workspace.rows.measured(source.moment, source.table)
        except JondelError:
            return  # the estimate stays; what is wrong with the database is reported elsewhere
        source.cache.take_extent(extent)
        self._take_count(source)
        if self.source is source:
            self.sheet.take_extent()
            self.show_title()

    def leave(self) -> None:
        """Remember how the sheet is left."""
        table = self.table
        if table is not None and self.source is not None and isinstance(self.moment, Now):
            row = self.sheet.current_row
            self.state = self.state._replace(row=row or 0, column=self.sheet.column_name)
            self._workspace.sheets.keep(table.id, self.state)

    def change_layout(self, state: SheetState) -> None:
        """Have the columns another way, or their times; the rows stay as they are."""
        self.state = state
        if self.table is not None:
            self._workspace.sheets.keep(self.table.id, state)
        self._times = None
        self.sheet.lay_out(state.layout)
        self.show_title()

    def stop(self) -> bool:
        """Stop making an order, if one is being made; the first rows stay."""
        return self._is_ordering and self._visit.stop("order")

    # What marks the rows

    def show_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records of the table in their places."""
        if self.source is not None:
            self.sheet.set_ghosts(ghosts)
            self.show_title()

    def mark(self, changes: Changes | None) -> None:
        """Mark the rows of the table shown that changed."""
        if self.source is None:
            return
        name = self.source.table.id
        changed = changes.table(name) if changes is not None else None
        marks = None
        if changed is not None:
            marks = marks_of(changed.key_columns, changed.key_is_row_id, changed.records)
        self.sheet.set_marks(marks)

    def mark_draft(self, marks: DraftMarks | None) -> None:
        """Show what a draft makes of the rows."""
        self.sheet.set_draft(marks)

    @property
    def time_kinds(self) -> dict[str, TimeKind]:
        """What the times of the table's columns are counted in, where they hold such."""
        table = self.table
        if table is None or self.source is None:
            return {}
        if self._times is None or self._times[0] != table:
            from jondel.core.browse.times import time_kinds

            kinds = time_kinds(table, self.sheet.sample_rows(), dict(self.state.times))
            self._times = (table, kinds)
        return self._times[1]

    # Adding up

    def toggle_tally(self) -> None:
        """Add up the current column, or close the tally where it is of this column."""
        name = self.sheet.column_name
        if self.source is None or not name or self._tally.column == name:
            self._tally.close()
            return
        if self._tally.parent is None:
            self.mount(self._tally)
        self._tally.begin(name)
        self.follow_tally()

    def follow_tally(self) -> None:
        """Add up anew, where a tally is open: other rows are chosen, or the rows are others."""
        table = self.table
        if table is not None and self._tally.column in table.column_names:
            tallied = Tallied(self.moment, table, self.state.arrangement, self.sheet.chosen)
            self._visit.start(partial(self._tally.add_up, self._workspace.rows, tallied), "tally")

    # What it says

    def on_sheet_rows_chosen(self, event: Sheet.RowsChosen) -> None:
        event.stop()
        self.show_title()
        self.follow_tally()

    def show_title(self) -> None:
        """Say which table is shown, how many rows it has and which is the current one."""
        table, source = self.table, self.source
        if table is None:
            self._title.show([(" records", "strong")])
        elif source is None:
            right = [("not readable ", "dim")] if self._is_unreadable else []
            self._title.show([(f" {safe_name(table.id)}", "strong")], right)
        else:
            self._title.show(*self._title_parts(table, source))
        sheets = self._workspace.sheets_if_used
        from_before = (
            table is not None and sheets is not None and sheets.is_arranged_from_before(table.id)
        )
        parts = state_parts(self.state, from_before=from_before) if source else ()
        show_band(self, self._conditions, parts, 1)

    def _title_parts(self, table: Table, source: TableRows) -> tuple[Parts, Parts]:
        kind = "" if table.kind == "table" else f"{table.kind}, "
        every = self._all_rows if self._all_rows is not None else self._rows_of(table.id)
        words = rows_words(source.extent, every if self.state.condition is not None else None)
        left = [
            (f" {safe_name(table.id)}", "strong"),
            (f"  {kind}{words}", "dim"),
            *progress_parts(self._progress, self.state),
        ]
        chosen = len(self.sheet.chosen)
        right = [(f"{grouped(chosen)} selected  ", "plain")] if chosen else []
        place = self._place_words(source)
        about = self._column_words(table)
        taken = sum(cell_len(words) for words, _ in (*left, *right, *about, (place, "")))
        if taken + _LEAST_GAP > self.size.width:
            about = []
        return left, [*right, *about, (place, "dim")]

    def _place_words(self, source: TableRows) -> str:
        row = self.sheet.current_row
        if row is None:
            return "a removed record " if self.sheet.current_new is None else "a new record "
        if not self.sheet.rows:
            return ""
        return f"row {grouped(row + 1)} of {extent_words(source.extent)} "

    def _column_words(self, table: Table) -> Parts:
        """What is declared of the current column, for which its heading may have no room."""
        column = table.column(self.sheet.column_name)
        if column is None:
            return []
        return [
            (safe_name(column.name), "plain"),
            (f" {column_remark(table, column)}   ", "dim"),
        ]


def _to_show(record: RecordRef | None, state: SheetState) -> SheetState:
    """How a sheet must be arranged to show a record: a filter may hide one that is asked for."""
    if isinstance(record, AtPosition | AtKey) and not state.natural:
        return state._replace(filter=state.filter and state.filter.all_off(), order=())
    return state
