"""The draft: listing what was edited, writing it, settling conflicts, undoing; read-only."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.errors import JondelError, RecordsMovedOn, WriteError
from jondel.core.model.addresses import TableId
from jondel.tui.features.confirming import (
    confirm,
    confirm_plan,
    confirm_taking_back,
    show_obstacles,
)
from jondel.tui.features.editing import draft_changed, show_draft
from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import AtNew, AtPosition, AtRow, Place
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.draft.draft import Entry
    from jondel.core.draft.draft_writer import Conflict, Written
    from jondel.tui.services.drafts import PlannedWrite


class DraftFeature(Feature):
    """Only ``W`` and ``Ctrl+Z`` write, after asking."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._written: tuple[Written, ...] = ()

    def commands(self) -> Iterable[Command]:
        yield Command(
            "draft",
            "draft",
            "the draft: what is edited and not written",
            "Editing",
            self._list,
            ("d",),
            refusal=_empty_refusal,
            footer_rank=lambda s: 93 if s.draft_size else 0,
        )
        yield Command(
            "draft.write",
            "write",
            "write the draft, after seeing what that changes",
            "Editing",
            self._ask_to_write,
            ("W",),
            refusal=_write_refusal,
            footer_rank=lambda s: 97 if s.draft_size else 0,
            task="write",
            holds_keys=True,
        )
        yield Command(
            "draft.undo",
            "undo",
            "undo the last edit in the draft; where there is none, take back the last write",
            "Editing",
            self._undo_last,
            ("ctrl+z",),
            task="write",
        )
        yield Command(
            "draft.redo",
            "do again",
            "do again in the draft what was undone",
            "Editing",
            self._redo,
            ("ctrl+y",),
            refusal=self._redo_refusal,
        )
        yield Command(
            "read_only",
            "read-only",
            "read-only, or not",
            "Editing",
            self._toggle_read_only,
            ("ctrl+r",),
            refusal=_read_only_refusal,
        )

    def started(self) -> None:
        from jondel.core.files.small_files import SmallFile

        workspace = self.desk.workspace
        if not SmallFile.all_of("drafts", workspace.location) or not workspace.drafts.found:
            return
        count = workspace.drafts.found
        draft = f"a draft of {count} record{'' if count == 1 else 's'} was kept from last time"
        if workspace.drafts.was_being_written:
            self.desk.say(
                f"{draft}; it was just being written, and may be in the database: d lists it"
            )
        else:
            self.desk.say(f"{draft}, not written: d lists it, W writes it")
        show_draft(self.desk)

    # Listing it

    async def _list(self) -> None:
        """List what is edited and not written."""
        from jondel.core.draft.draft import key_of
        from jondel.tui.dialogs.draft import DraftDialog, DraftVerb

        desk, drafts, place = self.desk, self.desk.workspace.drafts, 0
        while entries := drafts.entries():
            tables = [desk.state.table(entry.table) for entry in entries]
            wish = await desk.ask(DraftDialog(entries, tables, place))
            if wish is None:
                return
            place = wish.place
            if wish.verb is DraftVerb.DROP:
                drafts.drop(key_of(entries[place]))
                draft_changed(desk)
                continue
            if wish.verb is DraftVerb.UNDO:
                self._undo_edit()
                continue
            if wish.verb is DraftVerb.GO_TO:
                self._go_to(entries[place])
            elif wish.verb is DraftVerb.WRITE:
                desk.run("draft.write")
            else:
                await self._ask_to_drop_all()
            return

    async def _ask_to_drop_all(self) -> None:
        desk, draft = self.desk, self.desk.workspace.drafts.draft
        count = len(draft)
        words = f"{count} unwritten edit{'' if count == 1 else 's'} would be lost."
        if await confirm(desk, "Discard the whole draft?", [words], "discards it"):
            draft.drop_all()
            draft_changed(desk)
            desk.say("the draft was discarded (Ctrl+Z has it again); the database was not touched")

    def _go_to(self, entry: Entry) -> None:
        from jondel.core.draft.draft import NewRecord

        desk = self.desk
        if isinstance(entry, NewRecord):
            place = Place(table=entry.table, record=AtNew(entry.number))
        else:
            column = next(iter(entry.values), "")
            place = Place(table=entry.table, record=AtPosition(entry.position), column=column)
        if desk.is_at_now and desk.state.table(entry.table) is None:
            desk.say_problem(f"{safe_name(entry.table)} is no longer there")
        else:
            desk.navigator.go(place, view="records", afresh=True, focus=True)

    # Writing

    async def _ask_to_write(self) -> None:
        """Show what would change, then write it."""
        from jondel.tui.widgets.listed_changes import MOST_LISTED

        desk = self.desk
        with desk.busy("planning the write"):
            planned = await desk.workspace.drafts.plan(MOST_LISTED)
        records, cascaded = _records(len(planned.plan.plan.writes)), planned.plan.cascaded
        more = f" {grouped(cascaded)} of them go with what is deleted." if cascaded else ""
        title = f"Write {records} to {desk.database_name or 'the database'}?"
        footnote = f"One transaction: all of it, or nothing.{more}"
        if await confirm_plan(desk, title, "writes", planned, footnote):
            # On its own, for what is written is not to be forgotten whatever is asked for next.
            desk.start(partial(self._write, planned), "writing", beside=True)

    async def _write(self, planned: PlannedWrite) -> None:
        desk, came_from = self.desk, self._new_record_gone_to
        try:
            with desk.busy("writing"), desk.follower.writing_ourselves():
                done = await desk.workspace.drafts.write(planned)
        except WriteError as error:
            await self._ask_about_refusal(error)
            return
        self._written = (*self._written, done)
        desk.comparer.start_anew()
        desk.follower.action_recorded(desk.follower.token)
        draft_changed(desk)
        if not await self._stay_with_new(done, came_from):
            desk.loader.refresh()
        desk.show_surroundings()
        rows = f"{_rows(done.rows)} written"
        if done.step is not None:
            desk.say(f"{rows}, as step s{done.step}; Ctrl+Z takes it back")
        else:
            desk.say(f"{rows}; it cannot be taken back in one go: {done.why}")

    @property
    def _new_record_gone_to(self) -> tuple[TableId, int] | None:
        """The table of the new record that is the current row, and its place among the new."""
        pane = records_view(self.desk).pane
        number = pane.sheet.current_new
        if pane.table is None or number is None:
            return None
        return pane.table.id, [entry for entry, _ in pane.sheet.draft.added].index(number)

    async def _stay_with_new(self, done: Written, came_from: tuple[TableId, int] | None) -> bool:
        """Stay with a new record, now that it has its place among the others."""
        desk = self.desk
        if came_from is None or done.step is None:
            return False
        table, place = came_from
        try:
            step = desk.workspace.trail.require_step(done.step)
            changes = (await desk.workspace.comparisons.step_changes(step)).table(table)
        except JondelError:
            return False
        added = [r for r in changes.records if r.kind == "added"] if changes is not None else []
        if place >= len(added) or desk.place.table != table or not desk.is_at_now:
            return False
        record = added[place]
        position = record.key if record.row_id is None else (record.row_id,)
        row = records_view(desk).sheet.cursor_row
        here = Place(table=table, record=AtRow(row, position), column=desk.place.column)
        desk.navigator.go(here, view="records")
        return True

    async def _ask_about_refusal(self, error: WriteError) -> None:
        """Ask what is to become of the records for which nothing was written."""
        conflicts = []
        if isinstance(error, RecordsMovedOn):
            conflicts = await self.desk.workspace.drafts.conflicts()
        if conflicts:
            await self._ask_about_conflicts(conflicts)
            return
        desk, drafts = self.desk, self.desk.workspace.drafts
        remedies = await drafts.remedies(error.obstacles) if error.obstacles else ()
        answer = await show_obstacles(desk, error, remedies)
        if answer is not None and answer.remedy is not None:
            count = await drafts.take_remedy(error.obstacles, answer.remedy)
            draft_changed(desk)
            desk.say(f"{_rows(count)} more in the draft; Ctrl+Z undoes that")
            desk.run("draft.write")

    async def _ask_about_conflicts(self, conflicts: Sequence[Conflict]) -> None:
        from jondel.tui.dialogs.draft import ConflictDialog

        desk = self.desk
        mine = await desk.ask(ConflictDialog(conflicts))
        if mine is None:
            return
        desk.workspace.drafts.settle(conflicts, mine)
        draft_changed(desk)
        if len(desk.workspace.drafts.draft):
            desk.run("draft.write")
        else:
            desk.say("the draft is now empty; the database was not touched")

    # Undoing

    async def _undo_last(self) -> None:
        """Undo the last edit; where there is none, ask whether to take back the last write."""
        if self.desk.workspace.drafts.draft.can_undo:
            self._undo_edit()
        else:
            await self._ask_to_undo()

    def _undo_edit(self) -> None:
        draft = self.desk.workspace.drafts.draft
        if draft.can_undo:
            self._say_turned("undone", draft.undo(), "Ctrl+Y does it again")

    def _redo(self) -> None:
        """Do again what was undone last in the draft."""
        draft = self.desk.workspace.drafts.draft
        self._say_turned("done again", draft.redo(), "Ctrl+Z undoes it")

    def _redo_refusal(self, _: Situation) -> str:
        if self.desk.workspace.drafts.draft.can_redo:
            return ""
        return "nothing was undone in the draft that could be done again"

    def _say_turned(self, what: str, entries: Sequence[Entry], further: str) -> None:
        from jondel.core.draft.draft_plan import entry_words

        draft_changed(self.desk)
        words = _records(len(entries))
        if len(entries) == 1:
            table = self.desk.state.table(entries[0].table)
            words = line(entry_words(entries[0], table), 100)
        self.desk.say(f"{what}: {words}; {further}")

    async def _ask_to_undo(self) -> None:
        """Take back the last write that was not taken back yet."""
        desk = self.desk
        if not self._written:
            desk.say("nothing was edited or written here that could be undone")
            return
        done = self._written[-1]
        if done.step is None:
            desk.say(f"the last write cannot be taken back in one go: {done.why}")
            return
        step = desk.workspace.trail.require_step(done.step)
        if await confirm_taking_back(desk, f"Take back the last write, step s{done.step}?", step):
            desk.start(partial(self._undo, done.step), "writing", beside=True)

    async def _undo(self, number: int) -> None:
        desk = self.desk
        with desk.busy("taking back"):
            step = desk.workspace.trail.require_step(number)
            with desk.follower.writing_ourselves():
                await desk.workspace.writing.take_back_step(step)
        self._written = self._written[:-1]
        desk.comparer.start_anew()
        desk.follower.action_recorded(desk.follower.token)
        desk.loader.refresh()
        desk.show_surroundings()
        desk.say(f"step s{number} is taken back")

    # Read-only

    def _toggle_read_only(self) -> None:
        """Forbid writing from here, or allow it again."""
        writing = self.desk.workspace.writing
        writing.read_only = not writing.read_only
        now = "read-only: Jondel writes nothing" if writing.read_only else "editing"
        self.desk.show_surroundings()
        self.desk.say(f"{now}; Ctrl+R changes that")


def _empty_refusal(situation: Situation) -> str:
    return "" if situation.draft_size else "the draft is empty: e edits a cell"


def _write_refusal(situation: Situation) -> str:
    if situation.read_only:
        return "read-only: Jondel writes nothing to this database"
    return "" if situation.draft_size else "the draft is empty: there is nothing to write"


def _read_only_refusal(situation: Situation) -> str:
    if situation.read_only_for_good:
        return "Jondel was started with --read-only and stays read-only"
    return ""


def _records(count: int) -> str:
    return f"{grouped(count)} record{'' if count == 1 else 's'}"


def _rows(count: int) -> str:
    return f"{count} row{'' if count == 1 else 's'}"
