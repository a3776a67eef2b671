"""The draft: listing what was edited, writing it, settling conflicts, undoing; read-only."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import safe_name
from jondel.core.errors import JondelError, RecordsMovedOn
from jondel.tui.views.record_keys import RecordKeys

if TYPE_CHECKING:
    from jondel.core.draft.writing import Conflict, Written


class DraftKeys(RecordKeys):
    """Adds the keys of the draft; only ``W`` and ``Ctrl+Z`` write, after asking."""

    BINDINGS = [
        Binding("d", "draft", "the draft: what is edited and not written"),
        Binding("W", "write_draft", "write the draft, after seeing its statements"),
        Binding("ctrl+z", "undo_write", "take back the last write"),
        Binding("ctrl+r", "read_only", "read-only, or not"),
    ]

    _written: tuple[Written, ...] = ()

    # The draft

    def action_draft(self, place: int = 0) -> None:
        """List what is edited and not written."""
        from jondel.core.draft.draft import key_of
        from jondel.tui.views.draft_panels import DraftPanel

        entries = self._desk.entries()
        if not entries:
            self._message.say("the draft is empty: e edits a cell")
            return

        def take(wish: tuple[str, int] | None) -> None:
            if wish is None:
                return
            what, number = wish
            match what:
                case "go":
                    self._go_to_entry(entries[number])
                case "drop":
                    self._desk.drop(key_of(entries[number]))
                    self._draft_changed()
                    if len(entries) > 1:
                        self.action_draft(number)
                case "all":
                    self._ask_to_drop_all()
                case "write":
                    self.action_write_draft()

        self.app.push_screen(DraftPanel(entries, place), take)

    def _ask_to_drop_all(self) -> None:
        from jondel.tui.views.trail_panels import ConfirmPanel

        def take(key: str | None) -> None:
            if key == "y":
                self._desk.draft.drop_all()
                self._draft_changed()
                self._message.say("the draft is dropped; the database was not touched")

        count = len(self._desk.draft)
        words = f"{count} edited record{'' if count == 1 else 's'}, not written, would be lost."
        self.app.push_screen(ConfirmPanel("Drop the whole draft?", [words], "drops it"), take)

    @work(group="sheet", exclusive=True)
    async def _go_to_entry(self, entry: object) -> None:
        from jondel.core.draft.draft import NewRecord, RecordEdit

        assert isinstance(entry, NewRecord | RecordEdit)
        table = next((t for t in self._tables if t.name == entry.table), None)
        if table is None:
            self._message.say(f"{safe_name(entry.table)} is not there any more", problem=True)
            return
        if self._moment is not None:
            self._go_to(None, load_rows=False)
        try:
            place = 0
            if isinstance(entry, RecordEdit):
                place = await self._links.place_of(None, table, entry.position)
            await self._show_table(table.name, place)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._mark_drafted()
        if isinstance(entry, NewRecord):
            self._sheet.go_to_new(entry.number)
        else:
            self._sheet.go_to(place, next(iter(entry.values), None))

    # Writing

    @work(group="write", exclusive=True)
    async def action_write_draft(self) -> None:
        """Show the statements, then write them."""
        if not self._drafted_tables:
            self._message.say("the draft is empty: there is nothing to write")
            return
        from jondel.tui.views.draft_panels import MOST_STATEMENTS, WritePanel

        try:
            self._workspace.require_writing()
            with self._busy_with("planning the write"):
                planned, statements = await self._desk.statements(MOST_STATEMENTS)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return

        def take(wanted: bool | None) -> None:
            if wanted:
                self._write()

        self.app.push_screen(WritePanel(planned, statements), take)

    @work(group="write", exclusive=True)
    async def _write(self) -> None:
        came_from = self._new_record_gone_to
        try:
            with self._busy_with("writing"):
                done = await self._workspace.write_draft(self._desk.draft)
        except RecordsMovedOn as error:
            await self._show_conflicts(error)
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._written = (*self._written, done)
        await self._seek_written(done, came_from)
        self._comparer.start_anew()
        self._follower.action_recorded(self._follower.token)
        self._draft_changed()
        self._load(keep_place=True)
        self._show_trail()
        rows = f"{_rows(done.rows)} written"
        if done.step is not None:
            self._message.say(f"{rows}, as step s{done.step}; Ctrl+Z takes it back")
        else:
            self._message.say(f"{rows}; it cannot be taken back as one: {done.why}")

    @property
    def _new_record_gone_to(self) -> tuple[str, int] | None:
        """The table of the new record that is the current row, and its place among the new."""
        table, number = self._sheet.table, self._sheet.current_new
        if table is None or number is None:
            return None
        return table.name, [entry for entry, _ in self._sheet.draft.added].index(number)

    async def _seek_written(self, done: Written, came_from: tuple[str, int] | None) -> None:
        """Stay with a new record, now that it has its place among the others."""
        if came_from is None or done.step is None:
            return
        name, place = came_from
        try:
            changes = (await self._workspace.changes_of(done.step)).table(name)
        except JondelError:
            return
        added = [r for r in changes.records if r.kind == "added"] if changes is not None else []
        if place < len(added):
            record = added[place]
            self._pane.seek(record.key if record.row_id is None else (record.row_id,))

    async def _show_conflicts(self, error: RecordsMovedOn) -> None:
        try:
            conflicts = await self._desk.conflicts()
        except JondelError as problem:
            self._message.say(str(problem), problem=True)
            return
        if not conflicts:
            self._message.say(str(error), problem=True)
            return
        from jondel.tui.views.draft_panels import ConflictPanel

        def take(mine: list[bool] | None) -> None:
            if mine is not None:
                self._settle(conflicts, mine)

        self.app.push_screen(ConflictPanel(conflicts), take)

    def _settle(self, conflicts: list[Conflict], mine: list[bool]) -> None:
        self._desk.settle(conflicts, mine)
        self._draft_changed()
        if len(self._desk.draft):
            self.action_write_draft()
        else:
            self._message.say("nothing of the draft is left; the database was not touched")

    def action_undo_write(self) -> None:
        """Take back the last write that was not taken back yet."""
        if not self._written:
            self._message.say("nothing was written from here that could be taken back")
            return
        done = self._written[-1]
        if done.step is None:
            self._message.say(f"the last write cannot be taken back as one: {done.why}")
            return
        from jondel.tui.views.trail_panels import ConfirmPanel

        def take(key: str | None) -> None:
            if key == "y" and done.step is not None:
                self._undo(done.step)

        words = [f"{_rows(done.rows)} written as step s{done.step}.", "", "Each is put back"]
        words[-1] += " only if it is still as it was written."
        self.app.push_screen(
            ConfirmPanel("Take back the last write?", words, "takes it back"), take
        )

    @work(group="write", exclusive=True)
    async def _undo(self, step: int) -> None:
        try:
            with self._busy_with("taking back"):
                await self._workspace.take_back_step(step)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._written = self._written[:-1]
        self._comparer.start_anew()
        self._follower.action_recorded(self._follower.token)
        self._load(keep_place=True)
        self._show_trail()
        self._message.say(f"step s{step} is taken back")

    # Read-only

    def action_read_only(self) -> None:
        """Forbid writing from here, or allow it again."""
        if self._workspace.always_read_only:
            self._message.say("Jondel was started with --read-only; it stays so")
            return
        self._workspace.read_only = not self._workspace.read_only
        self._close_editor()
        self._show_around()
        now = "read-only: nothing is written from here" if self._workspace.read_only else "editing"
        self._message.say(f"{now}; Ctrl+R changes that")


def _rows(count: int) -> str:
    return f"{count} row{'' if count == 1 else 's'}"
