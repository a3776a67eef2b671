"""The one screen: tables, the view of the moment, the card, and the trail below them all."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Hashable, Iterable, Iterator
from contextlib import contextmanager, suppress

from textual import events, work
from textual.app import ComposeResult, SystemCommand
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.screen import Screen
from textual.widgets import ContentSwitcher, Static

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.windows import WindowCache
from jondel.core.errors import Cancelled, JondelError, TableUnreadable
from jondel.core.model.changes import (
    MARKS,
    Changes,
    ChangeSummary,
    RecordChange,
    TableChanges,
)
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, StoredValue
from jondel.tui.keys import explained
from jondel.tui.moments import Moment
from jondel.tui.views.changes import ChangesView
from jondel.tui.views.panels import ActionPanel, HelpPanel, LabelPanel
from jondel.tui.views.records import RecordsView
from jondel.tui.widgets.bands import Band, KeyBand
from jondel.tui.widgets.card import Card
from jondel.tui.widgets.change_list import ChangeList
from jondel.tui.widgets.sheet import Sheet, marks_of
from jondel.tui.widgets.table_list import TableList
from jondel.tui.widgets.trail_strip import TrailStrip
from jondel.tui.workspace import Identity, Workspace

_WIDE = 110
"""Cells from which on the card has a place of its own."""
_POLL_SECONDS = 0.2
_TICKS_PER_TRAIL_CHECK = 10
_SETTLE_SECONDS = 0.4
_REST_FACTOR = 3
_SHOW_COUNTS_SECONDS = 0.1
_MESSAGE_SECONDS, _PROBLEM_SECONDS = 8.0, 30.0


class Workbench(Screen[None]):
    """Keeps the views, the card and the trail speaking of the same moment."""

    BINDINGS = [
        Binding("s", "snapshot", "take a snapshot"),
        Binding("S", "snapshot_with_label", "take a snapshot with a label"),
        Binding("r", "view('records')", "Records: the sheet of a table"),
        Binding("c", "view('changes')", "Changes: what was written"),
        Binding("left_square_bracket", "walk(-1)", "to the step before"),
        Binding("right_square_bracket", "walk(1)", "to the next step, at last to now"),
        Binding("n", "now", "to now, the live database"),
        Binding("a", "act", "make the app do something"),
        Binding("t", "focus_tables", "to the list of tables"),
        Binding("v", "card", "to the record's card"),
        Binding("backspace", "back", "back to the change one came from"),
        Binding("i", "internal", "show or hide the engine's internal tables"),
        Binding("escape", "stop", "stop long work, close what is open"),
        Binding("T", "app.change_light", "dark or light"),
        Binding("question_mark", "help", "what the keys do"),
        Binding("ctrl+p", "app.command_palette", "do something by its name"),
        Binding("ctrl+q", "app.quit", "leave"),
    ]

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._identity: Identity | None = None
        self._moment: Moment = None
        self._sheet_moment: Moment = None
        self._tables: list[Table] = []
        self._table_name: str | None = None
        self._show_internal = False
        self._counts: dict[str, int] = {}
        self._changes: Changes | None = None
        self._since: Changes | None = None
        self._since_outdated = False
        self._comparing_now = False
        self._token: Hashable = None
        self._polling = False
        self._ticks = 0
        self._trail_is_open = False
        self._trouble = ""
        self._busy: list[str] = []
        self._came_from: tuple[Moment, str, tuple[StoredValue, ...]] | None = None
        self._message_until = 0.0
        self._records = RecordsView(self._fetch, id="records")
        self._sheet = self._records.sheet
        self._changes_view = ChangesView(id="changes")
        self._card = Card(id="card")
        self._table_list = TableList(id="tables")
        self._strip = TrailStrip(id="trail")

    def compose(self) -> ComposeResult:
        yield Band(id="masthead")
        with Horizontal(id="panes"):
            with Vertical(id="tables-pane"):
                yield Band(id="tables-title", classes="title")
                yield self._table_list
            with Vertical(id="middle"), ContentSwitcher(initial="records", id="views"):
                yield self._records
                yield self._changes_view
            with Vertical(id="card-pane"):
                yield Band(id="card-title", classes="title")
                yield self._card
        yield Static(id="message", markup=False)
        yield self._strip
        yield KeyBand(id="keys")

    def on_mount(self) -> None:
        self._fold(self.size.width)
        self._show_around()
        self._records.show_title(None)
        self._sheet.focus()
        self._start()

    def on_resize(self, event: events.Resize) -> None:
        self._fold(event.size.width)

    def _fold(self, width: int) -> None:
        self.set_class(width < _WIDE, "narrow")
        if width >= _WIDE:
            self.remove_class("-card-open")
        self._show_keys()

    # What is shown around the views

    @property
    def _view(self) -> str:
        return self.query_one("#views", ContentSwitcher).current or "records"

    def _show_around(self) -> None:
        """Bring masthead, table list, trail and keys in line with the state."""
        self._show_masthead()
        self._show_table_list()
        self._show_trail()
        self._show_keys()

    def _show_masthead(self) -> None:
        identity = self._identity
        name = identity.name if identity else self._workspace.location.rpartition("/")[2]
        left = [(" Jondel ", "strong"), (f" {line(name, 80)} ", "plain")]
        if identity:
            left.append((f" {identity.engine}  ", "dim"))
        step = self._workspace.step(self._moment)
        if self._trouble:
            left.append((" cannot be read now ", "flag"))
        elif step is not None:
            left.append((f" as of {step.after.id} · {line(step.after.title, 40)} ", "flag"))
        else:
            left.append(("live · read-only", "dim"))
        right = [(f"{self._busy[-1]} … Esc stops it ", "plain")] if self._busy else []
        self.query_one("#masthead", Band).show(left, right)

    def _show_table_list(self) -> None:
        changes = self._changes
        summary = ChangeSummary.of(changes) if changes else None
        summary = summary or self._workspace.known_summary(self._moment)
        self._table_list.show(self._tables, self._counts, summary.tables if summary else {})
        internal = " with internal" if self._show_internal else ""
        title = [(f" tables {len(self._tables)}", "strong"), (internal, "dim")]
        self.query_one("#tables-title", Band).show(title)

    def _show_trail(self) -> None:
        since = ChangeSummary.of(self._since) if self._since is not None else None
        steps = self._workspace.steps
        if not steps:
            words = "s: snapshot"
        elif self._since_outdated and not self._comparing_now:
            words = "c: compare"
        else:
            words = "comparing …"
        self._strip.show(steps, self._moment, since if steps else None, words)

    def _show_keys(self) -> None:
        keys = [("s", "snapshot", "screen.snapshot")]
        if self._view == "records":
            keys.append(("c", "changes", "screen.view('changes')"))
        else:
            keys += [
                ("Enter", "to the record", "screen.to_record"),
                ("r", "records", "screen.view('records')"),
            ]
        if self._came_from:
            keys.append(("Backspace", "to the change", "screen.back"))
        if self._workspace.steps:
            keys.append(("[ ]", "walk the steps", "screen.walk(-1)"))
        if self._moment is not None:
            keys.append(("n", "now", "screen.now"))
        if self._workspace.actions:
            keys.append(("a", "actions", "screen.act"))
        keys += [
            ("t", "tables", "screen.focus_tables"),
            ("v", "card", "screen.card"),
            ("?", "keys", "screen.help"),
        ]
        self.query_one("#keys", KeyBand).show(keys)

    def say(self, message: str, *, problem: bool = False) -> None:
        """Show a message above the trail for a while, or until Escape."""
        widget = self.query_one("#message", Static)
        widget.update(line(message, 1500))
        widget.set_class(problem, "-problem")
        widget.add_class("-shown")
        self._message_until = time.monotonic() + (_PROBLEM_SECONDS if problem else _MESSAGE_SECONDS)

    def _hush(self) -> None:
        self._message_until = 0.0
        self.query_one("#message", Static).remove_class("-shown")

    @contextmanager
    def _busy_with(self, words: str) -> Iterator[None]:
        """Say in the masthead what is being done, for as long as it takes."""
        self._busy.append(words)
        self._show_masthead()
        try:
            yield
        finally:
            self._busy.remove(words)
            if self.is_attached:
                self._show_masthead()

    # Following the database

    @work(group="start")
    async def _start(self) -> None:
        try:
            await self._workspace.open_trail()
            self._trail_is_open = True
        except JondelError as error:
            self.say(str(error), problem=True)
        self._show_trail()
        self._measure_steps()
        self.set_interval(_POLL_SECONDS, self._tick)
        self._tick()

    def _tick(self) -> None:
        if self._message_until and time.monotonic() > self._message_until:
            self._hush()
        self._ticks += 1
        if self._trail_is_open and self._ticks % _TICKS_PER_TRAIL_CHECK == 0:
            self._follow_trail()
        if not self._polling:
            self._polling = True
            self._poll()

    @work(group="trail", exclusive=True)
    async def _follow_trail(self) -> None:
        """Notice the snapshots that another Jondel took."""
        with suppress(JondelError):
            if await self._workspace.reload_steps():
                self._since_outdated = True
                self._show_around()
                self._compare_now()
                self._measure_steps()

    @work(group="poll")
    async def _poll(self) -> None:
        """Notice what was committed, by the app or by another Jondel."""
        try:
            token = await self._workspace.change_token()
            if self._identity is None:
                self._identity = await self._workspace.identity()
                for notice in self._identity.notices:
                    self.say(notice)
            recovered, self._trouble = bool(self._trouble), ""
            if recovered:
                self._hush()
            if recovered or token != self._token:
                self._token = token
                self._database_changed()
        except Cancelled:
            pass
        except JondelError as error:
            self._cannot_read(error)
        finally:
            self._polling = False

    def _cannot_read(self, error: JondelError) -> None:
        if str(error) == self._trouble:
            return
        self._trouble = str(error)
        self._token = None
        self._show_masthead()
        if self._moment is None:
            self._counts = {}
            self._show_table_list()
            self._sheet.show_problem(self._trouble)
            self._records.show_title(None)
            self._clear_card()
        else:
            self.say(self._trouble, problem=True)

    def _database_changed(self) -> None:
        if self._moment is None:
            self._load(keep_place=True)
        self._show_masthead()
        self._compare_now()

    def _compare_now(self, *, asked: bool = False) -> None:
        """Have the changes since the last snapshot found, once the app is quiet for a moment."""
        self._since_outdated = True
        wanted = asked or self._workspace.compares_quickly
        if self._workspace.steps and wanted and not self._comparing_now:
            self._comparing_now = True
            self._find_since()
        self._show_trail()

    @work(group="since")
    async def _find_since(self) -> None:
        rest = _SETTLE_SECONDS
        try:
            while self._since_outdated:
                await asyncio.sleep(rest)
                self._since_outdated = False
                started = time.monotonic()
                self._since = await self._workspace.changes_of(None)
                # A database that is slow to compare and always written to must not keep us busy.
                rest = max(_SETTLE_SECONDS, _REST_FACTOR * (time.monotonic() - started))
                self._show_trail()
                if self._moment is None:
                    self._use_changes(self._since)
        except Cancelled:
            self._since_outdated = True
        except JondelError as error:
            self.say(f"the changes since the last snapshot: {error}", problem=True)
        finally:
            self._comparing_now = False
            if self.is_attached:
                self._show_trail()

    @work(group="measures", exclusive=True)
    async def _measure_steps(self) -> None:
        """Find the sizes of steps that nobody has looked at yet, the latest first."""
        for step in reversed(self._workspace.steps):
            unknown = step.summary is None and step.before is not None
            if unknown and self._workspace.compares_quickly:
                try:
                    await self._workspace.changes_of(step.number)
                except JondelError:
                    continue  # told when the step is looked at
                self._show_trail()

    # Loading a moment

    def _go_to(self, moment: Moment) -> None:
        """Make every view speak of a moment."""
        self._moment = moment
        self._counts = {}
        self._changes = self._since if moment is None else None
        self._show_around()
        self._load(keep_place=True)
        self._load_changes()

    @work(group="moment", exclusive=True)
    async def _load(self, *, keep_place: bool) -> None:
        """Read the schema, show the current table, count them all."""
        moment = self._moment
        try:
            schema = await self._workspace.schema(moment)
            shown = [t for t in schema.tables if self._show_internal or not t.internal]
            self._tables = shown
            gone = {*self._counts} - {table.name for table in shown}
            for name in gone:
                del self._counts[name]
            self._show_table_list()
            await self._load_sheet(moment, keep_place=keep_place)
            self._count_tables()
        except Cancelled:
            pass
        except JondelError as error:
            self._cannot_read(error)

    async def _load_sheet(
        self, moment: Moment, *, keep_place: bool, place: int | None = None
    ) -> None:
        names = [table.name for table in self._tables]
        if not names:
            self._sheet.show_problem("There are no tables in this database yet.")
            self._records.show_title(None)
            self._clear_card()
            return
        name = self._table_name if self._table_name in names else names[0]
        table = self._tables[names.index(name)]
        self._table_name = name
        self._table_list.highlight(name)
        before = self._sheet.table
        same = before is not None and (before.name, before.column_names) == (
            table.name,
            table.column_names,
        )
        keep_place = keep_place and same
        around = [place] if place is not None else self._sheet.rows_in_view if keep_place else []
        try:
            cache = await self._workspace.first_rows(moment, table, around)
        except TableUnreadable as error:
            self._sheet.show_problem(str(error))
            self._records.show_title(table, "not readable")
            self._clear_card()
            return
        if moment != self._moment:
            return
        self._sheet_moment = moment
        self._sheet.show(cache, keep_place=keep_place)
        self._counts[name] = cache.extent.rows
        self._mark_sheet()
        self._records.show_title(table)
        self._show_table_list()

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
                self._counts.pop(table.name, None)
            if time.monotonic() - shown_at > _SHOW_COUNTS_SECONDS:
                shown_at = time.monotonic()
                self._show_table_list()
        self._show_table_list()

    @work(group="changes", exclusive=True)
    async def _load_changes(self) -> None:
        """Find and show the changes of the moment."""
        moment = self._moment
        step = self._workspace.step(moment)
        if step is None:
            if self._since is not None and not self._since_outdated:
                self._use_changes(self._since)
            elif self._workspace.steps:
                self._say_in_changes("Comparing with the last snapshot …")
                self._compare_now(asked=self._view == "changes")
            else:
                self._changes_view.show_changes(Changes(), None, None)
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

    def _use_changes(self, changes: Changes) -> None:
        """Show a moment's changes everywhere they are shown, keeping the place in their list."""
        self._changes = changes
        place = self._changes_view.changes.current
        steps = self._workspace.steps
        self._changes_view.show_changes(
            changes, self._workspace.step(self._moment), steps[-1] if steps else None
        )
        if place is not None:
            self._changes_view.changes.find(place.table.table, place.record.key)
        self._mark_sheet()
        self._show_table_list()

    def _say_in_changes(self, words: str) -> None:
        steps = self._workspace.steps
        step = self._workspace.step(self._moment)
        self._changes_view.show_text(step, steps[-1] if steps else None, line(words, 1500))

    def _mark_sheet(self) -> None:
        table = self._sheet.table
        found = self._changes.table(table.name) if self._changes and table else None
        marks = None
        if found is not None:
            marks = marks_of(found.key_columns, found.key_is_row_id, found.records)
        self._sheet.set_marks(marks)
        self._show_card()

    async def _fetch(self, cache: WindowCache, block: int) -> Window:
        return await self._workspace.block(self._sheet_moment, cache, block)

    # What the parts report

    def on_table_list_table_highlighted(self, event: TableList.TableHighlighted) -> None:
        event.stop()
        if self._view == "changes":
            self._changes_view.changes.find_table(event.table.name)
        if event.table.name != self._table_name:
            self._table_name = event.table.name
            self._came_from = None
            self._open_table()

    def on_option_list_option_selected(self) -> None:
        self._focus_view()

    @work(group="sheet", exclusive=True)
    async def _open_table(self) -> None:
        try:
            await self._load_sheet(self._moment, keep_place=False)
        except Cancelled:
            pass
        except JondelError as error:
            self._cannot_read(error)

    def on_sheet_record_selected(self, event: Sheet.RecordSelected) -> None:
        event.stop()
        self._records.show_title(self._sheet.table)
        if self._view == "records":
            self._show_card()

    def on_sheet_reading_failed(self, event: Sheet.ReadingFailed) -> None:
        event.stop()
        self._records.show_title(None)
        self._clear_card()

    def on_sheet_card_wanted(self, event: Sheet.CardWanted) -> None:
        event.stop()
        self.action_card()

    def on_change_list_record_highlighted(self, event: ChangeList.RecordHighlighted) -> None:
        event.stop()
        if self._view == "changes":
            self._show_card()
            self._table_list.highlight(event.table.table)

    def on_change_list_record_chosen(self, event: ChangeList.RecordChosen) -> None:
        event.stop()
        self._jump(event.table, event.record)

    def on_trail_strip_moment_chosen(self, event: TrailStrip.MomentChosen) -> None:
        event.stop()
        self._go_to(event.number)

    # The card

    def _title_card(self, table: str, key: Position, change: RecordChange | None) -> None:
        shown_key = " · ".join(line(value, 24) for value in key)
        remark = f"  {MARKS[change.kind]} {change.kind}" if change else ""
        title = [(f" {safe_name(table)} {shown_key}", "strong"), (remark, "plain")]
        self.query_one("#card-title", Band).show(title)

    def _clear_card(self, words: str = "") -> None:
        self._card.clear(words)
        self.query_one("#card-title", Band).show([(" record", "dim")])

    def _show_card(self) -> None:
        """Show the current record of the view."""
        if self._view == "changes":
            current = self._changes_view.changes.current
            if current is None:
                self._clear_card()
            else:
                self._card.show_change(current.table, current.record)
                record = current.record
                self._title_card(current.table.table, record.key, record)
            return
        table, found = self._sheet.table, self._sheet.record_at(self._sheet.cursor_row)
        if table is None or found is None:
            self._clear_card("" if table is None or self._sheet.rows else "No records.")
            return
        position, row = found
        change = self._sheet.change_at(position, row)
        self._title_card(
            f"{table.name} {key}", f"{MARKS[change.kind]} {change.kind}" if change else ""
        )
        self._card.show_record(table, row, change)
        if position and any(isinstance(value, Clipped) for value in row):
            self._read_card(table, self._sheet.cursor_row)

    @work(group="card", exclusive=True)
    async def _read_card(self, table: Table, ordinal: int) -> None:
        """Read the large values that the sheet has only the beginnings of."""
        found = self._sheet.record_at(ordinal)
        if found is None:
            return
        position, row = found
        try:
            whole = await self._workspace.record(self._moment, table, position)
        except JondelError:
            return  # the beginnings stay; what is wrong with the database is reported elsewhere
        if whole is not None and self._sheet.cursor_row == ordinal and self._view == "records":
            self._card.show_record(table, whole, self._sheet.change_at(position, row))

    # Going from a change to its record and back

    @work(group="jump", exclusive=True)
    async def _jump(self, table: TableChanges, record: RecordChange) -> None:
        origin = (self._moment, table.table, record.key)
        moment = self._moment
        if record.kind == "removed":
            step = self._workspace.step(moment)
            last = self._workspace.steps[-1] if step is None else None
            before = step.before if step is not None else last and last.after
            moment = before.number if before else moment
        try:
            place = await self._workspace.place_of(moment, table, record)
            if place is None:
                self.say(f"{table.table}: the record is not there any more", problem=True)
                return
            self._came_from = origin
            self._table_name = table.table
            if moment != self._moment:
                self._go_to(moment)
                self.say(f"the record was removed; this is the table as of s{moment}, before that")
                self.workers.cancel_group(self, "moment")
                schema = await self._workspace.schema(moment)
                self._tables = [t for t in schema.tables if self._show_internal or not t.internal]
            self._switch("records")
            await self._load_sheet(moment, keep_place=False, place=place)
            self._count_tables()
            self._sheet.go_to(place, record.cells[0].column if record.cells else None)
        except Cancelled:
            pass
        except JondelError as error:
            self.say(str(error), problem=True)

    def action_to_record(self) -> None:
        """Go to the record of the current change."""
        self._changes_view.changes.action_select()

    def action_back(self) -> None:
        """Go back to the change one came from."""
        if self._came_from is None:
            return
        moment, table, key = self._came_from
        self._came_from = None
        self._switch("changes")
        if moment != self._moment:
            self._go_to(moment)
        self._changes_view.changes.find(table, key)

    # Keys

    def action_view(self, name: str) -> None:
        """Show Records or Changes."""
        if self._view == name and name == "changes" and self._changes is None:
            self._load_changes()
            return
        self._came_from = None
        self._switch(name)
        if name == "changes" and (self._changes is None or self._since_outdated):
            self._load_changes()

    def _switch(self, name: str) -> None:
        self.query_one("#views", ContentSwitcher).current = name
        self._focus_view()
        self._show_keys()
        self._show_card()

    def _focus_view(self) -> None:
        self.remove_class("-card-open")
        (self._sheet if self._view == "records" else self._changes_view.changes).focus()

    def action_walk(self, steps: int) -> None:
        """Go along the trail; now is at its right end."""
        moments: list[Moment] = [step.number for step in self._workspace.steps]
        moments.append(None)
        place = moments.index(self._moment) + steps
        if 0 <= place < len(moments):
            self._came_from = None
            self._go_to(moments[place])

    def action_now(self) -> None:
        if self._moment is not None:
            self._came_from = None
            self._go_to(None)

    def action_snapshot(self) -> None:
        self._snapshot(None)

    def action_snapshot_with_label(self) -> None:
        """Ask for a label, then take a snapshot."""
        labels = [step.after.label for step in self._workspace.steps if step.after.label]

        def take(label: str | None) -> None:
            if label is not None:
                self._snapshot(label)

        self.app.push_screen(LabelPanel(labels), take)

    @work(group="snapshot")
    async def _snapshot(self, label: str | None) -> None:
        # These use the surveying thread and can be done again later.
        for group in ("counts", "since", "measures"):
            self.workers.cancel_group(self, group)
        try:
            with self._busy_with("taking a snapshot"):
                step = await self._workspace.take_snapshot(label)
        except JondelError as error:
            self.say(str(error), problem=True)
            self._count_tables()
            return
        self._since, self._since_outdated = None, True
        self._came_from = None
        if step.before is None:
            self._show_trail()
            self._compare_now()
            self._count_tables()
            self.say(f"{step.after.id} taken. Do one thing in the app, then press s again.")
            return
        self._switch("changes")
        self._go_to(step.number)
        self._measure_steps()
        self._compare_now()

    def action_act(self) -> None:
        """Choose one of the app's actions."""
        if not self._workspace.actions:
            self.say("no actions are known for this database: do it in the app itself")
            return

        def run(action: object) -> None:
            if action is not None:
                self._act(self._workspace.actions.index(action))  # type: ignore[arg-type]

        self.app.push_screen(ActionPanel(self._workspace.actions), run)

    @work(group="act")
    async def _act(self, index: int) -> None:
        action = self._workspace.actions[index]
        try:
            said = await self._workspace.act(action)
        except JondelError as error:
            self.say(str(error), problem=True)
        else:
            self.say(f"{action.label}: {said}")

    def action_focus_tables(self) -> None:
        self.remove_class("-card-open")
        self._table_list.focus()

    def action_card(self) -> None:
        """Go to the card; where it has no place of its own it takes the view's."""
        if self.has_class("narrow"):
            self.add_class("-card-open")
        self._card.focus()

    def action_internal(self) -> None:
        self._show_internal = not self._show_internal
        self._load(keep_place=True)

    def action_stop(self) -> None:
        """Stop long work if there is any, else close what is open."""
        if self._busy:
            for group in ("snapshot", "changes", "sheet", "counts", "since", "measures"):
                self.workers.cancel_group(self, group)
        elif self._message_until:
            self._hush()
        else:
            self._focus_view()

    def action_help(self) -> None:
        here = (
            ("In the sheet", Sheet.BINDINGS)
            if self._view == "records"
            else ("In the list of changes", ChangeList.BINDINGS)
        )
        self.app.push_screen(
            HelpPanel([("Everywhere", explained(self.BINDINGS)), (here[0], explained(here[1]))])
        )

    def commands(self) -> Iterable[SystemCommand]:
        """What can be called by name."""
        for binding in self.BINDINGS:
            if not isinstance(binding, Binding) or binding.action.startswith("app."):
                continue

            def run(action: str = binding.action) -> None:
                self.call_later(self.run_action, action)

            yield SystemCommand(binding.description, f"key {explained([binding])[0][0]}", run)
