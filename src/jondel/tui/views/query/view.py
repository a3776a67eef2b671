"""The query view: the tape, the box below it, and what is known of what is written there."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator, Sequence
from contextlib import aclosing, contextmanager, suppress
from functools import partial

from textual import events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.widget import Widget

from jondel.core.browse.display import grouped
from jondel.core.errors import JondelError, StatementRefused, TargetError, WouldWrite
from jondel.core.model.values import StoredValue
from jondel.core.query.files import ScriptFile
from jondel.core.query.results import FIRST_LIMIT, RESULT
from jondel.core.query.scripts import Script, script_of
from jondel.core.query.tape import Entry
from jondel.core.query.work import ScriptWork, WritingWork
from jondel.core.sql.dialect import Dialect
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import AtRow, Place
from jondel.tui.frame.view import Arrival, NothingShown, Shown, ShownRecord, View
from jondel.tui.services.moments import NOW, Moment, origin_of
from jondel.tui.services.query import (
    MovedOn,
    QueryService,
    Rehearsed,
    RowsSoFar,
)
from jondel.tui.views.query.box import StatementBox
from jondel.tui.views.query.entry_block import EntryBlock
from jondel.tui.views.query.outcome_words import records_words
from jondel.tui.views.query.state_words import QueryState, state_parts, title_parts
from jondel.tui.views.query.tape_list import FIRST_ENTRIES, TapeList
from jondel.tui.views.query.ways_band import WaysBand
from jondel.tui.views.records.table_rows import TableRows
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.sheet.sheet import Sheet

_RUN = "query-run"
_FEWEST_BOX_LINES, _MOST_BOX_LINES = 3, 12


class QueryView(View):
    """Runs what is in the box, and shows what came of it."""

    NAME = "query"
    BINDINGS = [
        Binding("escape", "out", show=False),
        Binding("up", "go(-1)", "entry before", show=False),
        Binding("down", "go(1)", "next entry, then the box", show=False),
        Binding("home", "first", "the first entry", show=False),
        Binding("end", "last", "the last entry", show=False),
    ]
    WIDGET_KEYS = (("Going about on the tape", list(BINDINGS[1:])),)
    DEFAULT_CSS = """
    QueryView StatementBox, QueryView StatementBox:focus {
        height: 3; border: none; padding: 0 1; background: $surface; color: $sand;
    }
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.box = StatementBox(self._query.dialect(NOW), id="query-box")
        self.tape = TapeList(desk)
        self._title = Band(id="query-title", classes="title")
        self._state = Band(id="query-state")
        self._ways = WaysBand(desk, self.box)
        self._is_loaded = False
        self._doing = ""
        self._rehearsal: Rehearsed | None = None
        self.file: ScriptFile | None = None
        """The file that was opened into the box, or that the box was saved as."""
        self._foreign_keys = ""
        self.rehearses = True
        """Whether what writes is tried out first."""
        self.ask_values: Callable[[Script], Awaitable[dict[str, StoredValue] | None]]
        """Asks for values of a script's parameters; None where the person gives none."""
        self.pasted_values: dict[str, StoredValue] = {}
        """Values that were pasted with a statement, by parameter."""

    @property
    def _query(self) -> QueryService:
        return self._desk.workspace.query

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.tape
        yield self._state
        yield self.box
        yield self._ways

    # The place

    @property
    def focus_target(self) -> Widget:
        return self.box

    @property
    def is_typing(self) -> bool:
        """Whether the box has the keys."""
        return self.box.has_focus

    @property
    def has_tried_out(self) -> bool:
        return self._rehearsal is not None

    @property
    def moment(self) -> Moment:
        """What statements are asked of."""
        return origin_of(self._desk.place.moment)

    @property
    def blocks(self) -> Sequence[EntryBlock]:
        """The entries that are shown, newest last."""
        return self.tape.blocks

    @property
    def current(self) -> EntryBlock | None:
        """The entry that the cursor is on."""
        return self.tape.current

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        if state.table(place.table) is None:
            first = self._desk.workspace.table_to_open_with(state.tables) if state.tables else None
            place = place._replace(table=first.id if first is not None else None)
        if not self._is_loaded:
            entries = await self._query.tape.entries(FIRST_ENTRIES)
            return Arrival(place, partial(self._arrive, entries))
        return Arrival(place, partial(self._arrive, None))

    def show_foreign_keys(self) -> None:
        """Say whether foreign keys are enforced for what writes, where that can be chosen."""
        self._foreign_keys = ""
        if self._query.dialect(NOW).can_leave_links_unchecked:
            with suppress(JondelError):  # what is wrong with the project's file is said elsewhere
                enforced = self._query.enforces_foreign_keys()
                self._foreign_keys = f" · foreign keys {'on' if enforced else 'off'}"
        self._show_state()

    def _arrive(self, entries: Sequence[Entry] | None) -> None:
        self.box.dialect = self._query.dialect(self.moment)
        if entries is not None:
            self._is_loaded = True
            self._desk.start(partial(self._show_entries, entries), "query-tape")
        self.show_foreign_keys()

    async def _show_entries(self, entries: Sequence[Entry]) -> None:
        await self.tape.show_entries(entries)
        self._show_state()

    # What is said around

    def _show_state(self) -> None:
        rehearsal = self._rehearsal
        state = QueryState(
            self.moment,
            len(self.blocks),
            self.file,
            self.box.entered,
            in_box=self.box.has_focus,
            doing=self._doing,
            tried_out=rehearsal is not None and not rehearsal.failed,
            rehearses=self.rehearses,
            read_only=self._desk.workspace.writing.read_only,
            foreign_keys=self._foreign_keys,
        )
        self._title.show(*title_parts(state))
        self._state.show(*state_parts(state))

    def show_draft(self) -> None:
        self._show_state()

    @property
    def shown(self) -> Shown:
        block = self.current
        sheet = block.sheet if block is not None else None
        if block is None or sheet is None or not sheet.has_focus:
            return NothingShown("the record of a row is shown here")
        source, record = sheet.source, sheet.current_record
        if record is None or not isinstance(source, TableRows):
            return NothingShown()
        return ShownRecord(source.moment, source.table, record[0], record[1])

    @property
    def has_record(self) -> bool:
        return False  # what can be done with records is done in Records

    def on_sheet_entered(self, event: Sheet.Entered) -> None:
        event.stop()
        self._desk.show_card()

    def on_text_area_changed(self) -> None:
        lines = self.box.document.line_count
        most = min(_MOST_BOX_LINES, max(_FEWEST_BOX_LINES, self.size.height // 3))
        self.box.styles.height = max(_FEWEST_BOX_LINES, min(most, lines))
        if self._rehearsal is not None and self.box.has_focus:
            self._rehearsal = None
        self._ways.text_changed()
        self._show_state()
        self._look_at_text()

    def on_text_area_selection_changed(self) -> None:
        self._look_at_text()

    # What is known while one writes

    def _look_at_text(self) -> None:
        if self._is_loaded:
            self._ways.look(self.moment)

    def on_statement_box_pasted(self, event: StatementBox.Pasted) -> None:
        """See whether it is a statement as a log or an app's source has it."""
        event.stop()
        from jondel.core.query.pasted import understood  # seldom needed

        found = understood(event.text, self.dialect)
        if found is None:
            return
        self.box.put(0, len(self.box.text), found.sql)
        self.pasted_values = found.values
        self._desk.say(f"understood as {found.words}; Ctrl+Z has it as it was pasted")

    def on_statement_box_way_wanted(self, event: StatementBox.WayWanted) -> None:
        event.stop()
        if event.else_:
            self._ways.offer_next()
        else:
            self._ways.take(self.moment)

    def on_descendant_focus(self, event: events.DescendantFocus) -> None:
        self._show_state()
        self._desk.show_surroundings()
        self._desk.show_card()

    def on_descendant_blur(self, event: events.DescendantBlur) -> None:
        if self.is_attached:
            self.call_later(self._desk.show_surroundings)

    # Going about

    def action_out(self) -> None:
        """Stop what runs; else from the box to the tape, from rows to their entry, and back."""
        if self._doing:
            self._desk.stop_work(_RUN)
            return
        block, focused = self.current, self._desk.focused
        if self.box.has_focus:
            if self.blocks:
                self.tape.focus_block(self.blocks[-1])
            else:
                self.tape.can_focus = True  # letters are keys again there
                self._desk.focus(self.tape)
        elif block is not None and focused is not block:
            self.tape.focus_block(block)
        else:
            self._desk.focus(self.box)

    def stop(self) -> str:
        if self._doing:
            self._desk.stop_work(_RUN)
            return "stopped"
        return ""

    def action_go(self, places: int) -> None:
        """Go to another entry; behind the last one is the box."""
        block = self.current
        if block is None:
            return
        place = self.blocks.index(block) + places
        if place >= len(self.blocks):
            self._desk.focus(self.box)
        elif place < 0:
            self._desk.start(self.tape.go_to_earlier, "query-tape")
        else:
            self.tape.focus_block(self.blocks[place])

    def action_first(self) -> None:
        if self.blocks and self.current is not None:
            self.tape.focus_block(self.blocks[0])

    def action_last(self) -> None:
        if self.blocks and self.current is not None:
            self.tape.focus_block(self.blocks[-1])

    def on_entry_block_chosen(self, event: EntryBlock.Chosen) -> None:
        event.stop()
        self._desk.focus(event.block)
        self._desk.start(partial(self.tape.toggle, event.block), "query-unfold")

    # Unfolding

    def open_result(self) -> None:
        """Show the rows of the current entry as a sheet of their own."""
        from jondel.core.browse.sheet_states import SheetState

        block = self.current
        if block is None or block.entry.rows is None:
            self._desk.say("this entry has no rows")
            return
        desk, entry = self._desk, block.entry
        row = block.sheet.current_row if block.sheet is not None else 0
        there = Place(
            self.tape.rows_of(block),
            table=RESULT,
            record=AtRow(row or 0),
            sheet=SheetState(),
        )
        leaving = Stop("query", desk.place, f"entry {entry.number}")
        desk.navigator.go(there, view="records", leaving=leaving, focus=True)

    async def enter(self) -> None:
        """Unfold the current entry; into its rows, and then to a sheet of them alone."""
        block = self.current
        if block is None:
            return
        if block.sheet is not None and block.sheet.has_focus:
            self.open_result()
        elif not block.is_open:
            await self.tape.toggle(block)
        elif block.sheet is not None:
            self._desk.focus(block.sheet)
        elif block.changes is not None:
            self._desk.focus(block.changes)
        else:
            await self.tape.toggle(block)

    # Running

    @property
    def dialect(self) -> Dialect:
        """The SQL that is understood where statements are asked."""
        return self._query.dialect(self.moment)

    async def run_text(self, text: str, *, limit: int | None = FIRST_LIMIT) -> None:
        """Run statements: those that read at once, others after trying them out."""
        script = script_of(text, self.dialect)
        if not script.pieces:
            self._desk.say("there is no statement here; type one and press Ctrl+G")
            return
        values = await self.ask_values(script)
        if values is None:
            return
        self._rehearsal = None
        desk, moment = self._desk, self.moment
        try:
            with self._being_run("running …"):
                if not self._query.writes(script, moment):
                    try:
                        await self._read(script, values, limit)
                    except WouldWrite:
                        pass  # a function in it may: it is tried out
                    else:
                        return
                if desk.workspace.writing.read_only and moment is NOW and not self.rehearses:
                    desk.workspace.writing.require_allowed()
                if self.rehearses or moment is not NOW:
                    self._doing = "trying it out; nothing is written …"
                    self._show_state()
                    await self._rehearse(script, values)
                else:
                    await self._write(script, values)
        except (StatementRefused, TargetError) as error:
            desk.say_problem(error)
        finally:
            if self.tape.has_preview and self.is_attached:
                desk.start(self.tape.drop_preview, "query-tape")

    async def do(self, work: WritingWork, words: str, *, for_real: bool) -> None:
        """Try something out that is no statement of the box, or do it for real."""
        self._rehearsal = None
        try:
            with self._being_run(words):
                if for_real:
                    await self._wrote(await self._query.write(work))
                else:
                    await self._show_rehearsal(await self._query.rehearse(work, self.moment))
        except TargetError as error:
            self._desk.say_problem(error)

    @contextmanager
    def _being_run(self, words: str) -> Iterator[None]:
        """Say that something is being run, for as long as it is."""
        self.say_running(words)
        try:
            yield
        finally:
            self.say_running("")

    def say_running(self, words: str) -> None:
        """What is being run now; empty for nothing."""
        self._doing = words
        if self.is_attached:
            self._show_state()

    async def _read(
        self, script: Script, values: dict[str, StoredValue], limit: int | None
    ) -> None:
        async with aclosing(self._query.read(script, values, self.moment, limit)) as events_:
            async for event in events_:
                if isinstance(event, Entry):
                    await self.tape.add(event)
                    self._show_state()
                elif isinstance(event, RowsSoFar):
                    self.say_running(f"running … {grouped(event.rows)} rows so far")
                else:
                    await self.tape.preview(event, script.pieces[event.number].text)

    async def _rehearse(self, script: Script, values: dict[str, StoredValue]) -> None:
        rehearsal = await self._query.rehearse(ScriptWork(script, values), self.moment)
        await self._show_rehearsal(rehearsal)

    async def _show_rehearsal(self, rehearsal: Rehearsed) -> None:
        last = rehearsal.entries[-1]
        for entry in rehearsal.entries:
            is_told = entry is last and not rehearsal.failed
            await self.tape.add(entry, rehearsal.changes if is_told else None)
        if not rehearsal.failed and self.moment is NOW:
            self._rehearsal = rehearsal
        self._show_state()
        self._desk.show_surroundings()

    async def write_rehearsed(self) -> None:
        """Write for real what was tried out."""
        rehearsal, desk = self._rehearsal, self._desk
        if rehearsal is None:
            desk.say("nothing was tried out that could be written; Ctrl+G runs a statement")
            return
        with self._being_run("writing …"):
            done = await self._query.write_rehearsed(rehearsal)
        self.tape.forget(rehearsal.entries)
        self._rehearsal = None
        if isinstance(done, MovedOn):
            words = "the app wrote meanwhile, and it would change something else now"
            same = "the app wrote meanwhile; it would still change the same"
            await self._show_rehearsal(done.again)
            desk.say_problem(f"{words if done.differs else same}: look again, then Ctrl+S")
            return
        await self._wrote(done)

    async def _write(self, script: Script, values: dict[str, StoredValue]) -> None:
        await self._wrote(await self._query.write(ScriptWork(script, values)))

    async def _wrote(self, entries: Sequence[Entry]) -> None:
        for entry in entries:
            await self.tape.add(entry)
        self._show_state()
        desk, last = self._desk, entries[-1]
        affected = sum(entry.affected or 0 for entry in entries if entry.fate == "done")
        if all(entry.error is None for entry in entries):
            step = f" · it is step s{last.step}" if last.step is not None else ""
            desk.say(f"written: {records_words(affected)}{step}")
        desk.comparer.start_anew()
        desk.loader.committed()
        desk.show_surroundings()

    # What is done with entries

    async def run_again(self, *, limit: int | None = FIRST_LIMIT) -> None:
        """Run the current entry's statement once more."""
        block = self.current
        if block is not None:
            await self.run_text(block.entry.sql, limit=limit)

    def edit(self) -> None:
        """Bring the current entry's statement into the box."""
        block = self.current
        if block is not None:
            self.bring(block.entry.sql)

    def insert(self, name: str) -> None:
        """Put a name where the cursor of the box is, with a blank before it where it needs one."""
        start, end = self.box.selected
        before = self.box.text[:start]
        blank = " " if before and before[-1] not in " \n\t(.,=<>" else ""
        self.box.put(start, end, f"{blank}{name}")

    def bring(self, text: str, *, beside: bool = False) -> None:
        """Put a text into the box, in place of what is there or ``beside`` it."""
        if beside and self.box.text.strip():
            end = len(self.box.text)
            gap = "" if self.box.text.endswith("\n") else "\n"
            self.box.put(end, end, f"{gap}{text}")
        else:
            self.box.put(0, len(self.box.text), text)
        self._desk.focus(self.box)

    async def compare_with(self, other: Entry) -> None:
        """Show by what the current entry's rows differ from another's."""
        block = self.current
        if block is None:
            return
        pair = sorted((block.entry, other), key=lambda entry: entry.number)
        with self._being_run("comparing …"):
            changes = await self._query.compare_rows(*pair)
        if not block.is_open:
            await self.tape.unfold(block)
        nothing = "both runs gave the same rows"
        await block.show_changes(changes, nothing)
        block.scroll_visible(animate=False)
        since = f"{other.asked_at.astimezone():%H:%M:%S}"
        self._desk.say(nothing if changes.empty else f"{changes.counts.marked()} since {since}")

    # Files

    def open_file(self, file: ScriptFile) -> None:
        """Bring a file of statements into the box."""
        self.bring(file.text)
        self.box.move_cursor((0, 0))
        self.file = file
        self._show_state()

    def saved_as(self, file: ScriptFile) -> None:
        """What is in the box is in a file now."""
        self.file = file
        self._show_state()

    async def delete_entry(self) -> None:
        """Remove the current entry."""
        block = self.current
        if block is None:
            return
        if block.entry.pinned:
            self._desk.say("this entry is pinned; p lets it go first")
            return
        await self._query.tape.delete(block.entry.number)
        if self._rehearsal is not None and block.entry in self._rehearsal.entries:
            self._rehearsal = None
        after = await self.tape.take_away(block)
        if after is not None:
            self.tape.focus_block(after)
        else:
            self._desk.focus(self.box)
        self._show_state()

    async def pin_entry(self) -> None:
        """Have the current entry stay, or let it go like others."""
        block = self.current
        if block is not None:
            entry = await self._query.tape.pin(block.entry.number, not block.entry.pinned)
            if entry is not None:
                block.show(entry)

    def change_rehearsing(self) -> None:
        """Whether what writes is tried out first."""
        self.rehearses = not self.rehearses
        self._show_state()
