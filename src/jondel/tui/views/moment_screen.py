"""What the one screen shows: tables, a view, the card and the trail, all of one moment."""

from __future__ import annotations

import time
from functools import partial

from textual import events, work
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widget import MountError

from jondel.core.browse.display import line
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.changes import Changes
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, ShownRow, Value
from jondel.tui.early_look import Identity
from jondel.tui.moments import Moment
from jondel.tui.views.masthead import Masthead
from jondel.tui.views.sheet_pane import SheetPane
from jondel.tui.views.surroundings import Surroundings
from jondel.tui.watchers import Comparer, Follower
from jondel.tui.widgets.bands import KeyBand
from jondel.tui.widgets.change_list import ChangeList
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.sheet import Sheet
from jondel.tui.widgets.table_list import TableList
from jondel.tui.widgets.trail_strip import TrailStrip

_WIDE = 110
"""Cells from which on the card has a place of its own."""
_SHOW_COUNTS_SECONDS = 0.1


class Panes(PlainGround, Horizontal):
    """The tables, a view and the card, side by side."""


class MomentScreen(Surroundings):
    """Keeps the views, the card and the trail speaking of the same moment.

    What a person can do to it is in ``Workbench``.
    """

    def compose(self) -> ComposeResult:
        early = self._workspace.early
        self._early_look = early.finished() if early is not None else None
        if self._early_look is not None:
            self._follower.go_on_from(self._early_look)
        yield Masthead(id="masthead")
        with Panes(id="panes"):
            yield self._tables_pane
            yield self._records
            yield self._card
        yield self._message
        yield self._strip
        yield KeyBand(id="keys")

    def on_mount(self) -> None:
        self._fold(self.app.size.width)  # its own is not known yet
        self._take_sheet(self._records.pane)
        self._records.show_title()
        self._show_early_look()
        self._show_around()
        self.set_focus(self._sheet)
        self.call_after_refresh(self._mount_the_rest)
        self.set_interval(1.0, self._message.tick)
        self.app.theme_changed_signal.subscribe(self, lambda _: self._show_around())

    async def _mount_the_rest(self) -> None:
        """Add what is not needed for the first rows to be on the screen."""
        try:
            await self.query_one("#panes").mount(self._changes_view, before=self._card)
            await self.mount(self._follower, self._comparer)
        except MountError:
            return  # the person has left already
        if self._view == "changes":  # asked for by a key typed ahead
            self._focus_view()
        self._load_changes()

    def _show_early_look(self) -> None:
        """Show what was read while the interface was loaded, so that it is painted first."""
        look = self._early_look
        if look is None:
            return
        self._take_identity(look.identity)
        self._tables = list(look.tables)
        self._table_name = look.cache.table.name
        self._records.show_cache(None, look.cache, keep_place=False)
        self._show_table_list()
        self._table_list.highlight(look.cache.table.name)
        self._show_card()
        self.call_after_refresh(self._count_tables)

    def _take_identity(self, identity: Identity) -> None:
        if self._identity is None:
            for notice in identity.notices:
                self._message.say(notice)
        self._identity = identity

    def on_resize(self, event: events.Resize) -> None:
        self._fold(event.size.width)

    def _fold(self, width: int) -> None:
        self.set_class(width < _WIDE, "narrow")
        if width >= _WIDE:
            self.remove_class("-card-open")
        self._show_keys()

    def _switch(self, name: str, *, take_focus: bool = True) -> None:
        """Show ``records`` or ``changes``."""
        self._view = name
        self._records.set_class(name != "records", "-away")
        self._changes_view.set_class(name != "changes", "-away")
        if take_focus:
            self._focus_view()
        self._show_keys()
        self._show_card()

    def _focus_view(self) -> None:
        self.remove_class("-card-open")
        # Not ``focus()``, which comes too late for the keys that were typed ahead.
        self.set_focus(self._sheet if self._view == "records" else self._changes_view.changes)

    # Following the database

    def on_follower_trail_opened(self, event: Follower.TrailOpened) -> None:
        problem = str(event.error or self._workspace.rules_problem)
        if problem:
            self._message.say(problem, problem=True)
        self._comparer.start_anew()
        self._show_around()

    def on_follower_trail_grew(self) -> None:
        self._comparer.start_anew()
        self._show_around()

    def on_follower_committed(self, event: Follower.Committed) -> None:
        self._take_identity(event.identity)
        if self._moment is None:
            self._load(keep_place=True)
        self._comparer.refresh_now()
        self._show_masthead()
        self._show_trail()

    def on_follower_unreadable(self, event: Follower.Unreadable) -> None:
        self._show_masthead()
        if self._moment is None:
            self._show_problem(event.error)
        else:
            self._message.say(str(event.error), problem=True)

    def _show_problem(self, error: JondelError) -> None:
        """Show why nothing of the moment can be shown."""
        self._counts = {}
        self._show_table_list()
        self._sheet.show_problem(str(error))
        self._records.show_title()
        self._card.clear()

    def on_comparer_now_compared(self, event: Comparer.NowCompared) -> None:
        if event.error is not None:
            problem = f"the changes since the last snapshot: {event.error}"
            self._message.say(problem, problem=True)
        elif self._moment is None and self._comparer.since is not None:
            if self._compare_start is None:
                self._use_changes(self._comparer.since)
            else:
                self._load_changes()
        self._show_trail()

    def on_comparer_step_measured(self) -> None:
        self._show_trail()

    # Loading a moment

    def _go_to(self, moment: Moment, *, load_rows: bool = True) -> None:
        """Make every view speak of a moment; without ``load_rows`` the caller loads them."""
        self._moment = moment
        self._counts = {}
        live = moment is None and self._compare_start is None
        self._changes = self._comparer.since if live else None
        self._show_around()
        if load_rows:
            self._load(keep_place=True)
        self._load_changes()

    @work(group="moment", exclusive=True)
    async def _load(self, *, keep_place: bool) -> None:
        """Read the schema, show the current table, count them all."""
        moment = self._moment
        try:
            await self._load_tables(moment)
            await self._load_sheet(moment, keep_place=keep_place)
            await self._load_beside(moment)
            self._count_tables()
        except Cancelled:
            pass
        except JondelError as error:
            self._show_problem(error)

    async def _load_tables(self, moment: Moment) -> None:
        schema = await self._workspace.schema(moment)
        self._tables = [t for t in schema.tables if self._show_internal or not t.internal]
        names = {table.name for table in self._tables}
        self._counts = {name: rows for name, rows in self._counts.items() if name in names}
        self._show_table_list()

    async def _load_sheet(
        self, moment: Moment, *, keep_place: bool, place: int | None = None
    ) -> None:
        names = [table.name for table in self._tables]
        if not names:
            self._sheet.show_problem("There are no tables in this database yet.")
            self._records.show_title()
            self._card.clear()
            return
        if self._table_name not in names:
            # Otherwise the list is left alone: its highlight may be further along by now.
            self._table_list.highlight(names[0])
            self._table_name = names[0]
        name = self._table_name
        table = self._tables[names.index(name)]
        await self._records.open_table(moment, table, keep_place=keep_place, place=place)
        if moment != self._moment:
            return
        self._mark_sheet()
        self._show_table_list()

    async def _load_beside(self, moment: Moment) -> None:
        """Read the other sheet anew, where two are shown."""
        known = {table.name: table for table in self._tables}
        for pane in self._records.panes:
            table = pane.sheet.table
            if pane is not self._records.pane and table is not None and table.name in known:
                await pane.open_table(moment, known[table.name], keep_place=True)

    @work(group="counts", exclusive=True)
    async def _count_tables(self) -> None:
        moment, shown_at = self._moment, 0.0
        for table in list(self._tables):
            try:
                if not table.unreadable:
                    self._counts[table.name] = await self._workspace.count(moment, table)
            except Cancelled:
                return
            except JondelError:
                self._counts[table.name] = None
            if time.monotonic() - shown_at > _SHOW_COUNTS_SECONDS:
                shown_at = time.monotonic()
                self._show_table_list()
        self._show_table_list()

    @work(group="changes", exclusive=True)
    async def _load_changes(self) -> None:
        """Find and show the changes of the moment."""
        moment, start = self._moment, self._compare_start
        step = self._workspace.step(moment)
        if start is not None:
            await self._load_changes_between(start, moment)
            return
        if step is None:
            since = self._comparer.since
            if since is not None and self._comparer.up_to_date:
                self._use_changes(since)
            elif self._workspace.steps:
                self._say_in_changes("Comparing with the last snapshot …")
                self._comparer.refresh_now(asked=self._view == "changes")
                self._show_trail()
            else:
                self._changes_view.show_changes(Changes(), None, None, None)
            return
        self._say_in_changes("Comparing …")
        try:
            with self._busy_with("comparing"):
                changes = await self._workspace.changes_of(moment)
        except Cancelled:
            self._say_in_changes("Stopped. Press c to compare again.")
        except JondelError as error:
            self._say_in_changes(str(error))
        else:
            if moment == self._moment:
                self._use_changes(changes)
            self._show_trail()

    async def _load_changes_between(self, start: int, moment: Moment) -> None:
        """Show what changed from the step that one compares from to the moment."""
        self._say_in_changes("Comparing …")
        try:
            with self._busy_with("comparing"):
                if moment is not None and moment < start:
                    changes = await self._workspace.changes_between(moment, start)
                else:
                    changes = await self._workspace.changes_between(start, moment)
        except Cancelled:
            self._say_in_changes("Stopped. Press c to compare again.")
        except JondelError as error:
            self._say_in_changes(str(error))
        else:
            if (start, moment) == (self._compare_start, self._moment):
                self._use_changes(changes)

    def _use_changes(self, changes: Changes) -> None:
        """Show a moment's changes everywhere they are shown, keeping the place in their list."""
        self._changes = changes
        current = self._changes_view.changes.current
        place = (current.table.table, current.record.key) if current else None
        place, self._wanted_change = self._wanted_change or place, None
        steps = self._workspace.steps
        self._changes_view.show_changes(
            changes,
            self._workspace.step(self._moment),
            steps[-1] if steps else None,
            self._workspace.step(self._compare_start),
        )
        if place is not None:
            self._changes_view.changes.find(*place)
        self._mark_sheet()
        self._show_table_list()

    def _say_in_changes(self, words: str) -> None:
        steps = self._workspace.steps
        step = self._workspace.step(self._moment)
        start = self._workspace.step(self._compare_start)
        last = steps[-1] if steps else None
        self._changes_view.show_text(step, last, start, line(words, 1500))

    def _mark_sheet(self) -> None:
        self._records.mark(self._changes)
        self._show_card()
        self._place_ghosts()

    @work(group="ghosts", exclusive=True)
    async def _place_ghosts(self) -> None:
        """Show the removed records of the table among those that are there."""
        moment, changes, table = self._moment, self._changes, self._sheet.table
        found = changes.table(table.name) if changes and table else None
        if table is None or found is None or not found.counts.removed:
            self._records.show_ghosts(())
            return
        try:
            ghosts = await self._workspace.ghosts(moment, table, found)
        except JondelError:
            return  # what is wrong with the database is reported elsewhere
        if (moment, changes, table) == (self._moment, self._changes, self._sheet.table):
            self._records.show_ghosts(ghosts)
            self._show_card()

    # What the parts report

    def on_table_list_table_highlighted(self, event: TableList.TableHighlighted) -> None:
        event.stop()
        self._follow_table_list()

    def _follow_table_list(self) -> None:
        """Show the highlighted table; the highlight may be further on than what told of it."""
        table = self._table_list.current
        if table is None:
            return
        if self._view == "changes":
            self._changes_view.changes.find_table(table.name)
        if table.name != self._table_name:
            self._table_name = table.name
            self._came_from = None
            self._sheet.expect()
            self._open_table()

    @work(group="sheet", exclusive=True)
    async def _open_table(self) -> None:
        try:
            await self._load_sheet(self._moment, keep_place=False)
        except Cancelled:
            self._sheet.expect_no_more()
        except JondelError as error:
            self._show_problem(error)

    def _take_sheet(self, pane: SheetPane) -> None:
        """Follow what happens in a sheet."""
        pane.rows_of = lambda name: self._counts.get(name)
        pane.sheet.when_selected = partial(self._record_selected, pane)

    def on_sheet_pane_counted(self, event: SheetPane.Counted) -> None:
        event.stop()
        self._counts[event.table.name] = event.rows
        self._show_table_list()

    def on_sheet_pane_troubled(self, event: SheetPane.Troubled) -> None:
        event.stop()
        self._message.say(str(event.error), problem=True)

    def _record_selected(self, pane: SheetPane) -> None:
        pane.show_title()
        if pane is not self._records.pane:
            return
        if self._view == "records":
            self._show_card()

    def on_sheet_reading_failed(self, event: Sheet.ReadingFailed) -> None:
        event.stop()
        self._records.show_title()
        self._card.clear()

    def on_change_list_record_highlighted(self, event: ChangeList.RecordHighlighted) -> None:
        event.stop()
        if self._view == "changes":
            self._show_card()
            if not self._table_list.has_focus:
                self._table_list.highlight(event.table.table)

    def on_trail_strip_moment_chosen(self, event: TrailStrip.MomentChosen) -> None:
        event.stop()
        self._go_to(event.number)

    # The card

    def _show_card(self) -> None:
        """Show the current record of the view."""
        if self._view == "changes":
            current = self._changes_view.changes.current
            if current is None:
                self._card.clear()
            else:
                self._card.show_change(current.table, current.record)
            return
        table, found = self._sheet.table, self._sheet.record_at(self._sheet.cursor_row)
        if table is None or found is None:
            self._card.clear("" if table is None or self._sheet.rows else "No records.")
            return
        position, row = found
        line = self._sheet.cursor_row
        if not row and table.columns:
            self._card.clear("The record was removed since.")
            return
        self._show_in_card(table, position, row, line)
        self._card_shown(table, position, row)
        if (
            self._sheet.current_row is not None
            and position
            and any(isinstance(value, Clipped) for value in row)
        ):
            self._read_card(table, line)

    @work(group="card", exclusive=True)
    async def _read_card(self, table: Table, place: int) -> None:
        """Read the large values that the sheet has only the beginnings of."""
        found = self._sheet.record_at(place)
        if found is None:
            return
        position, _ = found
        try:
            whole = await self._workspace.record(self._moment, table, position)
        except JondelError:
            return  # the beginnings stay; what is wrong with the database is reported elsewhere
        if whole is not None and self._sheet.cursor_row == place and self._view == "records":
            self._show_in_card(table, position, whole, place)
            self._card_shown(table, position, whole)

    def _show_in_card(self, table: Table, position: Position, row: ShownRow, line: int) -> None:
        change = self._sheet.change_on(line)
        self._card.show_record(
            table,
            position,
            row,
            change,
            readings=self._readings(table, row),
            edited=self._edited_cells(table, position),
        )

    def _edited_cells(self, table: Table, position: Position) -> dict[str, Value]:
        """What a draft has for cells of a record."""
        return {}

    def _readings(self, table: Table, row: ShownRow) -> dict[str, str]:
        """How the values of a record read, where they are times."""
        return {}

    def _card_shown(self, table: Table, position: Position, row: ShownRow) -> None:
        """The card shows a record of the sheet."""
