"""The query view: the tape, the box below it, and what is known of what is written there."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from contextlib import aclosing
from datetime import datetime
from functools import partial

from textual import events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.widget import Widget

from jondel.core.browse.display import grouped, line
from jondel.core.errors import JondelError, StatementRefused, TargetError, WouldWrite
from jondel.core.model.changes import Changes
from jondel.core.model.values import StoredValue
from jondel.core.query.files import ScriptFile, changed_outside
from jondel.core.query.results import FIRST_LIMIT, RESULT, table_of
from jondel.core.query.scripts import Script, script_of
from jondel.core.query.tape import Entry
from jondel.core.query.work import ScriptWork, WritingWork
from jondel.core.sql.dialect import Dialect
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import AtRow, Place
from jondel.tui.frame.view import Arrival, NothingShown, Shown, ShownRecord, View
from jondel.tui.services.moments import NOW, AtResult, AtStep, Moment, origin_of
from jondel.tui.services.query import (
    FirstRows,
    MovedOn,
    QueryService,
    Rehearsed,
    RowsSoFar,
)
from jondel.tui.views.query.box import StatementBox
from jondel.tui.views.query.entry_block import EntryBlock, shown_of
from jondel.tui.views.query.outcome_words import records_words
from jondel.tui.views.query.ways_band import WaysBand
from jondel.tui.views.records.table_rows import TableRows
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.sheet.headings import columns_of
from jondel.tui.widgets.sheet.sheet import Sheet
from jondel.tui.widgets.sheet.source import ListedRows

_FIRST_ENTRIES = 60
_RUN = "query-run"
_FEWEST_BOX_LINES, _MOST_BOX_LINES = 3, 12


class TapeScroll(VerticalScroll, can_focus=False):
    """The entries, newest last."""

    DEFAULT_CSS = "TapeScroll { height: 1fr; scrollbar-size-vertical: 1; }"


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
        self.tape = TapeScroll(id="tape")
        self._title = Band(id="query-title", classes="title")
        self._state = Band(id="query-state")
        self._ways = WaysBand(desk, self.box)
        self._blocks: list[EntryBlock] = []
        self._is_loaded = False
        self._doing = ""
        self._rehearsal: Rehearsed | None = None
        self._changes: dict[int, Changes] = {}
        """What the runs of this session would change, by the number of their last entry."""
        self.file: ScriptFile | None = None
        """The file that was opened into the box, or that the box was saved as."""
        self.rehearses = True
        """Whether what writes is tried out first."""
        self.ask_values: Callable[[Script], Awaitable[dict[str, StoredValue] | None]]
        """Asks for values of a script's parameters; None where the person gives none."""
        self.pasted_values: dict[str, StoredValue] = {}
        """Values that were pasted with a statement, by parameter."""
        self._preview: EntryBlock | None = None
        """The entry whose rows are still coming."""

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
        return self._blocks

    @property
    def current(self) -> EntryBlock | None:
        """The entry that the cursor is on."""
        return shown_of(self._blocks, self._desk.focused)

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        if state.table(place.table) is None:
            first = self._desk.workspace.table_to_open_with(state.tables) if state.tables else None
            place = place._replace(table=first.id if first is not None else None)
        if not self._is_loaded:
            entries = await self._query.tape.entries(_FIRST_ENTRIES)
            return Arrival(place, partial(self._arrive, entries))
        return Arrival(place, partial(self._arrive, None))

    def _arrive(self, entries: Sequence[Entry] | None) -> None:
        self.box.dialect = self._query.dialect(self.moment)
        if entries is not None:
            self._is_loaded = True
            self._desk.start(partial(self._show_tape, entries), "query-tape")
        self._show_state()

    async def _show_tape(self, entries: Sequence[Entry]) -> None:
        self._blocks = [EntryBlock(entry) for entry in entries]
        await self.tape.mount_all(self._blocks)
        if self._blocks:
            await self._unfold(self._blocks[-1])
        self.tape.scroll_end(animate=False)
        self._show_state()

    async def show_earlier(self) -> bool:
        """Put entries before those that are shown; False where there are none."""
        first = self._blocks[0].entry.number if self._blocks else None
        entries = await self._query.tape.entries(_FIRST_ENTRIES, first)
        blocks = [EntryBlock(entry) for entry in entries]
        await self.tape.mount_all(blocks, before=0 if self._blocks else None)
        self._blocks[:0] = blocks
        return bool(blocks)

    # What is said around

    def _show_state(self) -> None:
        moment = self.moment
        asked = f"s{moment.number}" if isinstance(moment, AtStep) else "now"
        title = [(" tape", "strong"), (f"  asks {asked}", "dim")]
        count = f"{len(self._blocks)} entries " if len(self._blocks) != 1 else "1 entry "
        right = [(count if self._blocks else "", "dim")]
        if self.file is not None:
            edited = " edited" if self.box.entered != self.file.text else ""
            outside = " changed outside" if changed_outside(self.file) else ""
            right.insert(0, (f" {line(self.file.path.name, 40)}{edited}{outside}  ", "draft"))
        self._title.show(title, right)
        if self._doing:
            self._state.show([(f" {self._doing} ", "flag")], [("Escape stops it ", "dim")])
            return
        if self._rehearsal is not None and not self._rehearsal.failed:
            self._state.show(
                [(" nothing is written yet ", "draft"), (" Ctrl+S writes it", "strong"),
                 ("  anything else leaves it at that", "dim")]
            )  # fmt: skip
            return
        writing = "what writes is tried out first" if self.rehearses else "what writes is written"
        if self._desk.workspace.writing.read_only:
            writing = "read-only: what writes is only tried out"
        there = "Esc to the tape " if self.box.has_focus else "Esc to the box "
        self._state.show([(" Ctrl+G runs it", "plain"), (f" · {writing}", "dim")], [(there, "dim")])

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
            if self._blocks:
                self._focus_block(self._blocks[-1])
        elif block is not None and focused is not block:
            self._focus_block(block)
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
        place = self._blocks.index(block) + places
        if place >= len(self._blocks):
            self._desk.focus(self.box)
        elif place < 0:
            self._desk.start(self._go_to_earlier, "query-tape")
        else:
            self._focus_block(self._blocks[place])

    async def _go_to_earlier(self) -> None:
        count = len(self._blocks)
        if await self.show_earlier():
            self._focus_block(self._blocks[len(self._blocks) - count - 1])
        else:
            self._desk.say("this is the first entry")

    def action_first(self) -> None:
        if self._blocks and self.current is not None:
            self._focus_block(self._blocks[0])

    def action_last(self) -> None:
        if self._blocks and self.current is not None:
            self._focus_block(self._blocks[-1])

    def _focus_block(self, block: EntryBlock) -> None:
        self._desk.focus(block)
        block.scroll_visible(animate=False)

    def on_entry_block_chosen(self, event: EntryBlock.Chosen) -> None:
        event.stop()
        self._desk.focus(event.block)
        self._desk.start(partial(self.toggle, event.block), "query-unfold")

    # Unfolding

    async def toggle(self, block: EntryBlock) -> None:
        """Unfold an entry, or fold it."""
        if block.is_open:
            block.fold()
        else:
            await self._unfold(block)
        block.scroll_visible(animate=False)

    async def _unfold(self, block: EntryBlock) -> None:
        await block.unfold()
        entry = block.entry
        try:
            if entry.rows is not None and block.sheet is None:
                await self._show_rows(block)
            elif entry.number in self._changes and block.changes is None:
                await block.show_changes(self._changes[entry.number], "nothing would be changed")
            elif entry.step is not None and entry.summary and block.changes is None:
                step = self._desk.workspace.trail.require_step(entry.step)
                changes = await self._desk.workspace.comparisons.step_changes(step)
                await block.show_changes(changes, "nothing was changed")
            elif entry.how == "rehearsed" and entry.summary and block.changes is None:
                kept = await self._query.tape.changes_of(entry)
                if kept is not None:
                    await block.show_changes(kept, "nothing would be changed")
                else:
                    words = "the records are no longer kept; Ctrl+G tries it out again"
                    await block.show_words(words)
        except JondelError as error:
            await block.show_words(str(error))

    async def _show_rows(self, block: EntryBlock) -> None:
        rows = self._desk.workspace.rows
        moment = self.rows_of_entry(block)
        schema = await rows.schema(moment)
        cache, _ = await rows.first_rows(moment, schema.by_id[RESULT], [0])
        sheet = await block.show_rows(TableRows(rows, moment, cache), self._most_rows)
        sheet.on_record = self._desk.show_card

    def rows_of_entry(self, block: EntryBlock) -> AtResult:
        """The rows of an entry, as a moment."""
        return self._query.tape.result_of(block.entry, self._origin_of(block.entry))

    def _origin_of(self, entry: Entry) -> Moment:
        if not entry.moment:
            return NOW
        number = int(entry.moment[1:]) if entry.moment[1:].isdecimal() else 0
        return AtStep(number)

    @property
    def _most_rows(self) -> int:
        return max(5, self.size.height // 2 - 4)

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
            self.rows_of_entry(block),
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
            await self.toggle(block)
        elif block.sheet is not None:
            self._desk.focus(block.sheet)
        elif block.changes is not None:
            self._desk.focus(block.changes)
        else:
            await self.toggle(block)

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
            if self._preview is not None and self.is_attached:
                desk.start(self._drop_preview, "query-tape")

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

    def _being_run(self, words: str) -> _BeingRun:
        return _BeingRun(self, words)

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
                    await self._added(event)
                elif isinstance(event, RowsSoFar):
                    self.say_running(f"running … {grouped(event.rows)} rows so far")
                else:
                    await self._preview_rows(event, script)

    async def _preview_rows(self, event: FirstRows, script: Script) -> None:
        """Show the first rows while the others still come."""
        text = script.pieces[event.number].text
        now = datetime.now().astimezone()
        block = self._preview = EntryBlock(Entry(0, now, 0, text, "", "read", "done", 0.0))
        self._fold_earlier(run=0)
        await self.tape.mount(block)
        await block.unfold()
        columns = columns_of(table_of(event.columns))
        await block.show_rows(ListedRows(columns, event.rows), self._most_rows)
        self.tape.scroll_end(animate=False)

    async def _added(self, entry: Entry) -> EntryBlock:
        block, self._preview = self._preview, None
        if block is not None and entry.rows is None:
            await block.remove()
            block = None
        if block is None:
            self._fold_earlier(entry.run)
            block = EntryBlock(entry)
            self._blocks.append(block)
            await self.tape.mount(block)
            await self._unfold(block)
        else:
            block.show(entry)
            self._blocks.append(block)
            await self._show_rows(block)
        self.tape.scroll_end(animate=False)
        self._show_state()
        return block

    def _fold_earlier(self, run: int) -> None:
        for block in self._blocks[-3:]:
            if block.is_open and not block.entry.pinned and block.entry.run != run:
                block.fold()

    async def _drop_preview(self) -> None:
        block, self._preview = self._preview, None
        if block is not None:
            await block.remove()

    async def _rehearse(self, script: Script, values: dict[str, StoredValue]) -> None:
        rehearsal = await self._query.rehearse(ScriptWork(script, values), self.moment)
        await self._show_rehearsal(rehearsal)

    async def _show_rehearsal(self, rehearsal: Rehearsed) -> None:
        last = rehearsal.entries[-1]
        if not rehearsal.failed:
            self._changes[last.number] = rehearsal.changes
        for entry in rehearsal.entries:
            await self._added(entry)
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
        self._forget_blocks(rehearsal.entries)
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
            await self._added(entry)
        desk, last = self._desk, entries[-1]
        affected = sum(entry.affected or 0 for entry in entries if entry.fate == "done")
        if all(entry.error is None for entry in entries):
            step = f" · it is step s{last.step}" if last.step is not None else ""
            desk.say(f"written: {records_words(affected)}{step}")
        desk.comparer.start_anew()
        desk.loader.committed()
        desk.show_surroundings()

    def _forget_blocks(self, entries: Sequence[Entry]) -> None:
        numbers = {entry.number for entry in entries}
        for block in [b for b in self._blocks if b.entry.number in numbers]:
            self._blocks.remove(block)
            block.remove()

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

    def bring(self, text: str, *, beside: bool = False) -> None:
        """Put a text into the box, in place of what is there or ``beside`` it."""
        if beside and self.box.text.strip():
            end = len(self.box.text)
            gap = "" if self.box.text.endswith("\n") else "\n"
            self.box.put(end, end, f"{gap}{text}")
        else:
            self.box.put(0, len(self.box.text), text)
        self._desk.focus(self.box)

    async def go_to_entry(self, entry: Entry) -> None:
        """Go to an entry, wherever on the tape it is."""
        while True:
            for block in self._blocks:
                if block.entry.number == entry.number:
                    self._focus_block(block)
                    return
            if not await self.show_earlier():
                self._desk.say("this entry is gone")
                return

    def earlier_runs(self) -> list[Entry]:
        """The entries with rows that the current one can be compared with: those of the same
        statement first, the latest of them before the others."""
        block = self.current
        if block is None or block.entry.rows is None:
            return []
        others = [b.entry for b in reversed(self._blocks) if b is not block]
        others = [entry for entry in others if entry.rows is not None]
        words = block.entry.sql.split()
        return sorted(others, key=lambda entry: entry.sql.split() != words)

    async def compare_with(self, other: Entry) -> None:
        """Show by what the current entry's rows differ from another's."""
        block = self.current
        if block is None:
            return
        pair = sorted((block.entry, other), key=lambda entry: entry.number)
        with self._being_run("comparing …"):
            changes = await self._query.compare_rows(*pair)
        if not block.is_open:
            await self._unfold(block)
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
        place = self._blocks.index(block)
        await self._query.tape.delete(block.entry.number)
        if self._rehearsal is not None and block.entry in self._rehearsal.entries:
            self._rehearsal = None
        self._blocks.remove(block)
        await block.remove()
        if self._blocks:
            self._focus_block(self._blocks[min(place, len(self._blocks) - 1)])
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


class _BeingRun:
    """Says that something is being run, for as long as it is."""

    def __init__(self, view: QueryView, words: str) -> None:
        self._view, self._words = view, words

    def __enter__(self) -> None:
        self._view.say_running(self._words)

    def __exit__(self, *_: object) -> None:
        self._view.say_running("")
