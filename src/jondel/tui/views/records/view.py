"""Records: one sheet, or two side by side, under a line of the tables that are open."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from textual.app import ComposeResult
from textual.containers import Horizontal

from jondel.core.browse.display import safe_name
from jondel.core.browse.windows import WindowCache
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import TableChanges
from jondel.core.model.schema import Table
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.place import AtNew, AtRemoved, AtRow, Place, RecordRef
from jondel.tui.frame.view import Arrival, NothingShown, Shown, ShownRecord, View
from jondel.tui.views.records.opening import SheetOpening
from jondel.tui.views.records.pane import SheetPane
from jondel.tui.widgets.bands import Band, show_band
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.sheet.sheet import Sheet

_SHOW_TABLES_SECONDS = 0.4
_NO_TABLES = "There are no tables in this database yet."


class Sheets(PlainGround, Horizontal):
    """The sheets, side by side."""


class RecordsView(View):
    """The sheets; what is done to "the sheet" is done to the one that was last gone to."""

    NAME = "records"
    WIDGET_KEYS = (("Moving in the sheet", Sheet.BINDINGS),)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.pane = self._make_pane("sheet")
        self._first = self.pane
        self._second: SheetPane | None = None
        self._open = Band(id="open-tables", classes="title")
        self._path = Band(id="path", classes="title")
        self._sheets = Sheets(id="sheets")
        self.tables: list[TableId] = []
        """The tables that are open, in the order of their numbers."""

    def _make_pane(self, sheet_id: str) -> SheetPane:
        pane = SheetPane(
            self._desk.workspace,
            self._desk.start_task,
            rows_of=lambda name: self._desk.state.counts.get(name),
            on_counted=self._take_count,
            sheet_id=sheet_id,
        )
        pane.sheet.on_record = partial(self._record_changed, pane)
        pane.sheet.may_move = self._may_leave_cell
        pane.sheet.on_view_moved = partial(self._view_moved, pane)
        return pane

    def _may_leave_cell(self) -> bool:
        return self._desk.navigator.may_leave(False)

    def _view_moved(self, pane: SheetPane) -> None:
        """The rows in view are others, or in other places: a cell that is edited is there too."""
        if not pane.field.place():
            self.call_after_refresh(self._leave_if_out_of_view, pane)  # once all is in its place

    def _leave_if_out_of_view(self, pane: SheetPane) -> None:
        if not pane.field.place() and not self._may_leave_cell():
            pane.sheet.show_cursor()

    def compose(self) -> ComposeResult:
        with self._sheets:
            yield self._first

    def on_unmount(self) -> None:
        for pane in self.panes:
            pane.leave()

    @property
    def focus_target(self) -> Sheet:
        return self.pane.sheet

    @property
    def sheet(self) -> Sheet:
        """The sheet that was last gone to."""
        return self.pane.sheet

    @property
    def panes(self) -> list[SheetPane]:
        """The sheets shown, from left to right."""
        return [self._first, self._second] if self._second is not None else [self._first]

    # Going to a place

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        table = state.table(place.table)
        if table is None:
            if not state.tables:
                return Arrival(place._replace(table=None), partial(self._show_nothing, _NO_TABLES))
            table = self._desk.workspace.table_to_open_with(state.tables)
            place = Place(place.moment, place.compare_from, table.id)
        openings: list[tuple[SheetPane, SheetOpening]] = []
        without: list[SheetPane] = []
        try:
            opening = await self.pane.prepare(
                place.moment,
                table,
                place.record,
                place.column,
                place.sheet,
                self._removed(state, table),
            )
            openings.append((self.pane, opening))
            if not place.same_moment(self._desk.place):
                for pane in self._others:
                    other = state.table(pane.table.id) if pane.table is not None else None
                    if other is None:
                        without.append(pane)
                    else:
                        openings.append((pane, await pane.prepare(place.moment, other)))
        except BaseException:
            for _, opening in openings:
                opening.discard()
            raise
        return Arrival(place, partial(self._show, openings, without))

    @property
    def _others(self) -> list[SheetPane]:
        """The sheets beside the current one."""
        return [pane for pane in self.panes if pane is not self.pane]

    def _removed(self, state: MomentState, table: Table) -> TableChanges | None:
        return state.changes.table(table.id) if state.changes is not None else None

    def _show(
        self,
        openings: Sequence[tuple[SheetPane, SheetOpening]],
        without: Sequence[SheetPane] = (),
    ) -> None:
        """Show what was prepared; the sheets ``without`` have a table that is not there."""
        for pane, opening in openings:
            pane.show(opening)
            self._mark_draft(pane)
        for pane in without:
            pane.show_missing()
        self.show_open_tables()
        self.show_path()

    def arrival_of(self, cache: WindowCache) -> Arrival:
        """The arrival at a table of which the first rows have been read."""
        opening = self.pane.arrival_of(cache)
        return Arrival(Place(table=cache.table.id), partial(self._show, [(self.pane, opening)]))

    def _show_nothing(self, message: str) -> None:
        self._desk.navigator.may_leave(True)
        self.pane.table = None
        self.sheet.show_problem(message)
        self.pane.show_title()

    def show_problem(self, message: str) -> None:
        self._desk.navigator.may_leave(True)
        for pane in self.panes:
            pane.sheet.show_problem(message)
            pane.show_title()
        self._desk.show_card()

    def follow_table_list(self, table: Table) -> bool:
        return False

    async def refresh_rows(self, state: MomentState) -> None:
        desk = self._desk
        for pane in self.panes:
            table = state.table(pane.table.id) if pane.table is not None else None
            if table is not None:
                await pane.refresh_rows(desk.place.moment, table)
                self._mark_draft(pane)
            elif pane is not self.pane:
                pane.show_missing()
        if state.table(self.pane.table.id if self.pane.table is not None else None) is None:
            if state.tables:
                desk.navigator.go(Place(desk.place.moment, desk.place.compare_from), forced=True)
            else:
                self._show_nothing(_NO_TABLES)
        self.show_changes(state)

    # What marks the rows

    def show_changes(self, state: MomentState) -> None:
        for pane in self.panes:
            pane.mark(state.changes)
        if self._desk.navigator.view == self.NAME:
            self._desk.show_card()
        self._desk.start(partial(self._place_ghosts, state, self.pane), "ghosts", Reach.TABLE)

    async def _place_ghosts(self, state: MomentState, pane: SheetPane) -> None:
        """Show the removed records of the table among those that are there."""
        source = pane.source
        if source is None:
            return
        removed = self._removed(state, source.table)
        if removed is None or not removed.counts.removed:
            pane.show_ghosts(())
            return
        try:
            ghosts = await self._desk.workspace.rows.ghosts(
                source.moment, source.table, removed, source.cache
            )
        except (Cancelled, JondelError):
            return  # what is wrong with the database is reported elsewhere
        if pane.source is source:
            pane.show_ghosts(ghosts)
            self._desk.show_card()

    def on_sheet_pane_order_made(self, event: SheetPane.OrderMade) -> None:
        event.stop()
        self.show_changes(self._desk.state)

    def show_draft(self) -> None:
        for pane in self.panes:
            self._mark_draft(pane)

    def _mark_draft(self, pane: SheetPane) -> None:
        drafts = self._desk.workspace.drafts_if_used
        if drafts is None:
            return
        table = pane.table if pane.source is not None else None
        live = table is not None and self._desk.is_live(pane.moment)
        pane.mark_draft(drafts.marks(table) if live and table is not None else None)

    def _take_count(self, table: TableId, rows: int) -> None:
        self._desk.state.counts[table] = rows
        self._desk.show_surroundings()

    # The current record

    def _record_changed(self, pane: SheetPane) -> None:
        pane.show_title()
        pane.field.place()
        if pane is self.pane and self._desk.navigator.view == self.NAME:
            self._desk.navigator.move_to_record(self._record_ref(), pane.sheet.column_name)
            self._desk.show_card()

    def _record_ref(self) -> RecordRef | None:
        sheet = self.sheet
        row, new, record = sheet.current_row, sheet.current_new, sheet.current_record
        if new is not None:
            return AtNew(new)
        if row is not None:
            return AtRow(row, record[0] if record is not None else ())
        change = sheet.current_change
        return AtRemoved(change.key) if change is not None else None

    @property
    def shown(self) -> Shown:
        table, sheet = self.pane.table, self.sheet
        record = sheet.current_record
        if table is None or self.pane.source is None or record is None:
            return NothingShown("No records." if self.pane.source and not sheet.rows else "")
        position, row = record
        if not row and table.columns:
            return NothingShown("The record was removed since.")
        is_row = sheet.current_row is not None
        return ShownRecord(self.pane.moment, table, position, row, sheet.current_change, is_row)

    @property
    def has_record(self) -> bool:
        return self.pane.source is not None and self.sheet.lines > 0

    @property
    def rows(self) -> int:
        return self.sheet.rows

    @property
    def is_editing(self) -> bool:
        return any(pane.field.editor is not None for pane in self.panes)

    def stop(self) -> str:
        stopped = [pane for pane in self.panes if pane.stop()]
        return "stopped: only the first rows are sorted" if stopped else ""

    def on_sheet_heading_clicked(self, event: Sheet.HeadingClicked) -> None:
        event.stop()
        self._desk.run("order.sort")

    def on_sheet_edit_wanted(self, event: Sheet.EditWanted) -> None:
        event.stop()
        self._desk.run("cell.edit")

    def on_sheet_reading_failed(self, event: Sheet.ReadingFailed) -> None:
        event.stop()
        self.pane.show_title()
        self._desk.show_card()

    # Several tables

    @property
    def open_tables(self) -> int:
        return len(self.tables)

    def remember_table(self) -> None:
        """Count the table of the current sheet among those that are open."""
        self._add_table()
        self.show_open_tables()

    def _add_table(self) -> None:
        table = self.pane.table
        if table is not None and table.id not in self.tables:
            self.tables.append(table.id)

    def forget_table(self, table: TableId) -> None:
        """Take a table out of those that are open."""
        if table in self.tables:
            self.tables.remove(table)
        self.show_open_tables()

    def show_counts(self) -> None:
        for pane in self.panes:
            pane.show_title()

    def show_open_tables(self) -> None:
        """List the open tables with their numbers, where there are several."""
        current = self.pane.table
        parts = []
        for number, table in enumerate(self.tables, 1):
            chosen = current is not None and current.id == table
            parts.append((f" {number} ", "dim"))
            parts.append((f"{safe_name(table)} ", "strong" if chosen else "plain"))
        show_band(self, self._open, parts if len(self.tables) > 1 else (), 0)

    def on_band_part_clicked(self, event: Band.PartClicked) -> None:
        """Open tables go by their numbers, and the way one has walked leads back."""
        event.stop()
        if event.band is self._open and event.part // 2 < len(self.tables):
            self._desk.run(f"tables.{event.part // 2 + 1}")
        elif event.band is self._path:
            self._desk.run("back")

    def show_path(self) -> None:
        """Show the way one has walked along links."""
        titles = [stop.title for stop in self._desk.navigator.way_back if stop.title]
        parts = [(" ", "dim")]
        for title in titles:
            parts += [(title, "plain"), (" › ", "dim")]
        parts += [("here  ", "strong"), ("Backspace goes back", "dim")]
        show_band(self, self._path, parts if titles else (), "#sheets")

    # Two sheets

    def on_sheet_entered(self, event: Sheet.Entered) -> None:
        """Things are done to the sheet that has the focus."""
        event.stop()
        pane = next((p for p in self.panes if p.sheet is event.sheet), None)
        if pane is not None and pane is not self.pane:
            if not self._may_leave_cell():
                return
            self._follow_pane(pane)
        self._add_table()
        # Not at once: the sheet would slide under the mouse between its press and its release.
        self.set_timer(_SHOW_TABLES_SECONDS, self.show_open_tables)

    def _follow_pane(self, pane: SheetPane) -> None:
        self.pane = pane
        self.show_open_tables()
        if pane.table is not None:
            self._desk.navigator.move_to_table(pane.table.id)
            self._desk.highlight_table(pane.table.id)
        self._record_changed(pane)
        self._desk.loader.refresh_if_due()

    async def put_beside(self, table: Table) -> None:
        """Open a second sheet on the right, with a table, and go to it. Raises ``JondelError``."""
        if self._second is not None:
            return
        pane = self._make_pane("sheet-beside")
        pane.add_class("-beside")
        opening = await pane.prepare(self._desk.place.moment, table)
        self._second = pane
        await self._sheets.mount(pane)
        pane.show(opening)
        pane.mark(self._desk.state.changes)
        self._mark_draft(pane)
        self._follow_pane(pane)

    async def close_beside(self) -> None:
        """Show one sheet only: the one last gone to stays."""
        second = self._second
        if second is None:
            return
        gone = self._first if self.pane is second else second
        self._second = None
        if gone is self._first:
            self._first = second
        gone.leave()
        self.pane = self._first
        self._first.remove_class("-beside")
        await gone.remove()
        self._follow_pane(self._first)
