"""One sheet with the lines around it: what it shows, how it is filtered and sorted, its tally."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from rich.cells import cell_len
from textual import work
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message

from jondel.core.browse.display import grouped, safe_name
from jondel.core.browse.ghosts import Ghost
from jondel.core.browse.sheet_states import SheetState
from jondel.core.browse.windows import WindowCache
from jondel.core.engines.protocol import ArrangingProgress
from jondel.core.errors import Cancelled, ConditionInvalid, JondelError, TableUnreadable
from jondel.core.model.changes import Changes
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.tui.moments import Moment
from jondel.tui.views.sheet_words import (
    extent_words,
    progress_parts,
    state_parts,
    tally_parts,
)
from jondel.tui.widgets.bands import Band, show_band
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.row_marks import marks_of
from jondel.tui.widgets.sheet import Sheet
from jondel.tui.widgets.sheet_columns import remark
from jondel.tui.workspace import Workspace

if TYPE_CHECKING:
    from jondel.core.browse.times import TimeKind

_LEAST_GAP = 2
_SHOW_PROGRESS_SECONDS = 0.15
_FRESH_SECONDS = 6.0
_NO_PROGRESS = ArrangingProgress(None, 0)


class SheetPane(PlainGround, Vertical):
    """The sheet of one table as of a moment, as its state wants it."""

    DEFAULT_CSS = "SheetPane { width: 1fr; layers: default editing; }"

    class Counted(Message):
        """It is known how many rows the table has, whatever of them is shown."""

        def __init__(self, pane: SheetPane, table: Table, rows: int) -> None:
            super().__init__()
            self.pane = pane
            self.table = table
            self.rows = rows

        @property
        def control(self) -> SheetPane:
            return self.pane

    class Troubled(Message):
        """Something that was asked of the sheet could not be done; it shows what it can."""

        def __init__(self, pane: SheetPane, error: JondelError) -> None:
            super().__init__()
            self.pane = pane
            self.error = error

        @property
        def control(self) -> SheetPane:
            return self.pane

    def __init__(
        self, workspace: Workspace, *, id: str | None = None, sheet_id: str | None = None
    ) -> None:
        super().__init__(id=id)
        self._workspace = workspace
        self._moment: Moment = None
        self.state = SheetState()
        self.sheet = Sheet(self._fetch, id=sheet_id)
        self._title = Band(classes="title")
        self._conditions = Band(classes="title")
        self._tally = Band(classes="title")
        self._progress: ArrangingProgress | None = None
        self._arranging: tuple[Moment, str] | None = None
        self._again = False
        self._all_rows: int | None = None
        self._tallied = ""
        self.rows_of: Callable[[str], int | None] = lambda _: None
        """Tells how many rows a table has, where that is known elsewhere."""
        self._wanted: Table | None = None
        """The table that ``state`` is of; it may not be shown yet."""
        self._opening = object()
        self._sought: Position | None = None
        self._times: tuple[Table, dict[str, TimeKind]] | None = None

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.sheet

    @property
    def table(self) -> Table | None:
        return self.sheet.table

    @property
    def moment(self) -> Moment:
        return self._moment

    # Opening

    async def open_table(
        self, moment: Moment, table: Table, *, keep_place: bool, place: int | None = None
    ) -> None:
        """Show a table as of a moment, as it was left.

        ``keep_place``: stay where one is if the table is the one shown. ``place``: the ordinal of
        a row of the plain table that will be looked at; a filter or an order is put off for it. A
        table that cannot be read is shown as a problem; what concerns the database as a whole is
        raised as ``JondelError``.
        """
        shown = self.sheet.table
        same = shown is not None and (shown.name, shown.column_names) == (
            table.name,
            table.column_names,
        )
        keep_place = keep_place and same
        if not same:
            self.leave()
            self.workers.cancel_group(self, "order")
            self._all_rows = None
        # What is wanted may be another table than the one still shown.
        wanted = self._wanted is not None and self._wanted.name == table.name
        known = self.state if wanted else self._workspace.sheets.of(table.name)
        state = known if place is None else _put_off(known)
        changed = (state.condition, state.order) != (known.condition, known.order)
        self._wanted, self.state = table, state
        opening = self._opening = object()
        try:
            if state.natural:
                await self._open_plain(moment, table, keep_place and not changed, place)
            else:
                await self._open_arranged(moment, table, keep_place=keep_place and not changed)
        except TableUnreadable as error:
            self.sheet.show_problem(str(error))
            self._title.show([(f" {safe_name(table.name)}", "strong")], [("not readable ", "dim")])
        except BaseException:
            if self._opening is opening:
                self._want_what_is_shown()
            raise

    def _want_what_is_shown(self) -> None:
        """The table that was to be opened does not come: go on with the one that is shown."""
        shown = self.sheet.table
        if shown is not None and self._wanted is not None and self._wanted.name != shown.name:
            self._wanted, self.state = shown, self._workspace.sheets.of(shown.name)

    async def _open_plain(
        self, moment: Moment, table: Table, keep_place: bool, place: int | None
    ) -> None:
        self.workers.cancel_group(self, "order")
        sought, found = self._sought, None
        if sought is not None:
            found = await self._workspace.ask(moment, lambda base: base.ordinal_of(table, sought))
        around = self.sheet.rows_in_view if keep_place else [self.state.row]
        if place is not None or found is not None:
            around = [found if place is None else place]
        before = self.sheet.table
        cache = await self._workspace.first_rows(moment, table, around)
        if self._wanted is not None and self._wanted.name != table.name:
            return  # another one was asked for meanwhile
        now = self.sheet.table
        if place is None and now is not before and now == table and moment == self._moment:
            keep_place = True  # it has been shown meanwhile, and one may have moved in it
        state = self.state
        if keep_place:
            self.show_cache(moment, cache, keep_place=True)
            if found is not None:
                self._sought = None
                self.sheet.go_to(found)
        else:
            row = state.row if place is None else place
            self.show_cache(moment, cache, keep_place=False, row=row, column=state.column)

    async def _open_arranged(self, moment: Moment, table: Table, *, keep_place: bool) -> None:
        """Show the first rows of an arrangement; its order is made meanwhile."""
        if keep_place and self._arranging == (moment, table.name):
            self._again = True  # once the order that is being made is there
            return
        first = asyncio.get_running_loop().create_future()
        self._arrange(moment, table, first, keep_place)
        try:
            await asyncio.shield(first)
        except asyncio.CancelledError:
            self.workers.cancel_group(self, "order")
            raise

    @work(group="order", exclusive=True)
    async def _arrange(
        self, moment: Moment, table: Table, first: asyncio.Future[None], keep_place: bool
    ) -> None:
        """Make the order, and again as long as rows were written meanwhile."""

        def show_first(cache: WindowCache) -> None:
            if not first.done():
                column = self.state.column
                self.show_cache(moment, cache, keep_place=False, column=column)
                first.set_result(None)

        def told(progress: ArrangingProgress) -> None:
            self._progress = progress

        self._arranging = (moment, table.name)
        self._progress = _NO_PROGRESS
        timer = self.set_interval(_SHOW_PROGRESS_SECONDS, self.show_title)
        try:
            while True:
                self._again = False
                cache = await self._workspace.arranged(
                    moment, table, self.state.arrangement, None if keep_place else show_first, told
                )
                sought = self._sought
                position = sought or self.sheet.current_position
                view = self.sheet.rows_in_view
                row = await self._workspace.read_around(moment, cache, view, position)
                same = self.sheet.table is not None and self.sheet.table.name == table.name
                self._progress = None
                self.show_cache(moment, cache, keep_place=same, row=row)
                if sought:
                    self._sought = None
                if sought and row is not None:
                    self.sheet.go_to(row)
                if not keep_place and not self.sheet.cursor_row:
                    self.sheet.go_to(self.state.row, self.state.column or None)
                keep_place = True
                if not first.done():
                    first.set_result(None)
                if not self._again:
                    break
        except Cancelled as error:
            self._fail(first, error)
        except JondelError as error:
            self._fail(first, error)
        finally:
            timer.stop()
            self._arranging = self._progress = None
            if not first.done():
                first.cancel()
            if self.is_attached:
                self.show_title()

    def _fail(self, first: asyncio.Future[None], error: JondelError) -> None:
        """Show what can be shown, and why not more."""
        if isinstance(error, ConditionInvalid):
            self.sheet.show_problem(f"{error}. Press f to change the filter, F to put it off.")
            first_error: JondelError | None = None
        else:
            first_error = error
        if first.done():
            if not isinstance(error, Cancelled):
                self.post_message(self.Troubled(self, error))
        elif first_error is not None:
            first.set_exception(first_error)
        else:
            first.set_result(None)

    def show_cache(
        self,
        moment: Moment,
        cache: WindowCache,
        *,
        keep_place: bool,
        row: int | None = None,
        column: str = "",
    ) -> None:
        """Show a table's rows, of which the first ones to be seen have been read."""
        fresh = self._changed_under_eyes(cache) if keep_place and moment == self._moment else {}
        self._moment, self._wanted = moment, cache.table
        if not keep_place:
            self.sheet.lay_out_next(self.state.layout)
        self.sheet.show(cache, keep_place=keep_place, row=row, column=column)
        if fresh:
            self.sheet.set_fresh(fresh)
            self.set_timer(_FRESH_SECONDS, lambda: self.sheet.set_fresh({}))
        if cache.arrangement is None:
            self._know_rows(cache)
        if not keep_place and self._tallied not in cache.table.column_names:
            self._tallied = ""
            show_band(self, self._tally, ())
        self.follow_tally()
        self.show_title()
        # A view's rows are found again only in an order that was made of them.
        if not cache.complete and cache.arrangement is None and self.is_attached:
            self._measure(moment, cache)

    def _know_rows(self, cache: WindowCache) -> None:
        if cache.extent.precision == "exact":
            self._all_rows = cache.extent.rows
            self.post_message(self.Counted(self, cache.table, cache.extent.rows))

    @work(group="order", exclusive=True)
    async def _measure(self, moment: Moment, cache: WindowCache) -> None:
        """Count the rows exactly, once the first ones are shown."""
        try:
            extent = await self._workspace.measured(moment, cache.table)
        except JondelError:
            return  # the estimate stays; what is wrong with the database is reported elsewhere
        cache.take_extent(extent)
        self._know_rows(cache)
        if self.sheet.shows(cache):
            self.sheet.take_extent()
            self.show_title()

    def _changed_under_eyes(self, cache: WindowCache) -> dict[Position, frozenset[int]]:
        """Which cells of the rows in view are others than before."""
        first, last = min(self.sheet.rows_in_view), max(self.sheet.rows_in_view)
        return cache.changed_since(self.sheet.rows_at_hand(), range(max(0, first - 1), last + 2))

    def leave(self) -> None:
        """Remember how the sheet is left."""
        table = self.sheet.table
        wanted = table is not None and self._wanted is not None and self._wanted.name == table.name
        if table is not None and wanted and self._moment is None:
            row = self.sheet.current_row
            self.state = self.state._replace(row=row or 0, column=self.sheet.column_name)
            self._workspace.sheets.keep(table.name, self.state)

    def seek(self, position: Position) -> None:
        """Have a record be the current one when the rows are read the next time."""
        self._sought = position

    def put_state(self, table: str, state: SheetState) -> None:
        """Have a table's sheet so when it is opened the next time."""
        self._workspace.sheets.keep(table, state)
        if self._wanted is not None and self._wanted.name == table:
            self.state = state

    def change_state(self, state: SheetState) -> None:
        """Have the sheet another way from now on; whoever changes it opens the table again."""
        self.state = state
        if self._wanted is not None:
            self.put_state(self._wanted.name, state)

    async def arrange_anew(self, state: SheetState) -> None:
        """Show the same table by another filter or order, from its first row on."""
        table = self._wanted
        if table is None:
            return
        self.change_state(state._replace(row=0, column=self.sheet.column_name))
        self.sheet.expect()
        try:
            if state.natural:
                await self._open_plain(self._moment, table, False, None)
            else:
                await self._open_arranged(self._moment, table, keep_place=False)
        finally:
            self.sheet.expect_no_more()

    def on_sheet_rows_chosen(self, event: Sheet.RowsChosen) -> None:
        event.stop()
        self.show_title()
        self.follow_tally()

    # Times

    @property
    def time_kinds(self) -> dict[str, TimeKind]:
        """What the times of the table's columns are counted in, where they hold such."""
        table = self.sheet.table
        if table is None:
            return {}
        if self._times is None or self._times[0] != table:
            from jondel.core.browse.times import time_kinds

            kinds = time_kinds(table, self.sheet.rows_seen(), dict(self.state.times))
            self._times = (table, kinds)
        return self._times[1]

    def forget_times(self) -> None:
        """Look anew at what columns hold times."""
        self._times = None

    def forget(self) -> None:
        """Do not remember how the sheet is now, for it is to be as it was before."""
        self._wanted = None

    # Adding up

    def toggle_tally(self) -> None:
        """Add up the current column, or close the tally where it is of this column."""
        table, name = self.sheet.table, self.sheet.column_name
        if table is None or not name or self._tallied == name:
            self._tallied = ""
            show_band(self, self._tally, ())
            return
        self._tallied = name
        show_band(self, self._tally, [(f" {safe_name(name)}: adding up …", "dim")])
        self._add_up()

    def follow_tally(self) -> None:
        """Add up anew, where a tally is open: other rows are chosen, or the rows are others."""
        if self._tallied:
            self._add_up()

    @work(group="tally", exclusive=True)
    async def _add_up(self) -> None:
        table, name = self.sheet.table, self._tallied
        if table is None or name not in table.column_names:
            return
        only = sorted(self.sheet.chosen, key=repr) or None
        arrangement = self.state.arrangement
        try:
            found = await self._workspace.ask(
                self._moment, lambda database: database.tally(table, name, arrangement, only)
            )
        except JondelError as error:
            self._tally.show([(f" {error}", "plain")])
            return
        which = "chosen" if only else "filtered" if arrangement.condition is not None else ""
        self._tally.show(tally_parts(name, found, which))

    def stop(self) -> bool:
        """Stop making an order, if one is being made; the first rows stay."""
        if self._arranging is None:
            return False
        self.workers.cancel_group(self, "order")
        return True

    # What it says

    def show_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records of the table in their places."""
        if self.sheet.table is not None:
            self.sheet.set_ghosts(ghosts)
            self.show_title()

    def mark(self, changes: Changes | None) -> None:
        """Mark the rows of the table shown that changed."""
        table = self.sheet.table
        found = changes.table(table.name) if changes and table else None
        marks = None
        if found is not None:
            marks = marks_of(found.key_columns, found.key_is_row_id, found.records)
        self.sheet.set_marks(marks)

    def show_title(self) -> None:
        """Say which table is shown, how many rows it has and which is the current one."""
        table = self.sheet.table
        if table is None:
            self._title.show([(" records", "strong")])
            self._show_conditions()
            return
        kind = "" if table.kind == "table" else f"{table.kind}, "
        row = self.sheet.current_row
        place = ""
        if self.sheet.rows and row is not None:
            place = f"row {grouped(row + 1)} of {self._count_words()} "
        if row is None:
            place = "a removed record " if self.sheet.current_new is None else "a new record "
        chosen = len(self.sheet.chosen)
        right = [(f"{grouped(chosen)} chosen  ", "plain")] if chosen else []
        left = [
            (f" {safe_name(table.name)}", "strong"),
            (f"  {kind}{self._rows_words()}", "dim"),
            *progress_parts(self._progress, self.state),
        ]
        about = self._column_words(table)
        taken = sum(cell_len(words) for words, _ in (*left, *right, *about, (place, "")))
        if taken + _LEAST_GAP > self.size.width:
            about = []
        self._title.show(left, [*right, *about, (place, "dim")])
        self._show_conditions()

    def _column_words(self, table: Table) -> list[tuple[str, str]]:
        """What is declared of the current column, for which its heading may have no room."""
        column = table.column(self.sheet.column_name)
        if column is None:
            return []
        return [(safe_name(column.name), "plain"), (f" {remark(table, column)}   ", "dim")]

    def _count_words(self) -> str:
        extent = self.sheet.extent
        if extent is None:
            return ""
        return extent_words(extent)

    def _rows_words(self) -> str:
        rows = self._count_words()
        plural = "" if rows == "1" else "s"
        table = self.sheet.table
        every = self._all_rows
        if every is None and table is not None:
            every = self.rows_of(table.name)
        if self.state.condition is None or every is None:
            return f"{rows} row{plural}"
        return f"{rows} of {grouped(every)} rows"

    def _show_conditions(self) -> None:
        """Say how the rows are filtered and sorted, where they are."""
        show_band(self, self._conditions, state_parts(self.state), 1)

    async def _fetch(self, cache: WindowCache, block: int) -> Window:
        return await self._workspace.block(self._moment, cache, block)


def _put_off(state: SheetState) -> SheetState:
    """With all conditions switched off, in the table's own order."""
    return state._replace(filter=state.filter and state.filter.all_off(), order=())
