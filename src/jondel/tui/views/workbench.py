"""The one screen with its keys: what a person can do, by key, by mouse or by name."""

from __future__ import annotations

from collections.abc import Iterable

from textual import work
from textual.app import SystemCommand
from textual.binding import Binding

from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.changes import RecordChange, TableChanges
from jondel.tui.keys import explained
from jondel.tui.moments import Moment
from jondel.tui.views.draft_keys import DraftKeys
from jondel.tui.views.editing_keys import EditingKeys
from jondel.tui.views.link_keys import LinkKeys
from jondel.tui.views.record_keys import RecordKeys
from jondel.tui.views.sheet_keys import SheetKeys
from jondel.tui.views.surroundings import ChangePlace
from jondel.tui.views.time_travel import TimeTravel
from jondel.tui.widgets.change_list import ChangeList
from jondel.tui.widgets.sheet import Sheet

_FIXING = (*EditingKeys.BINDINGS, *RecordKeys.BINDINGS, *DraftKeys.BINDINGS)


class Workbench(TimeTravel):
    """Looking, walking the trail, taking snapshots, making the app act."""

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
        Binding("backspace", "back", "back along links, or to the change one came from"),
        Binding("i", "internal", "show or hide the engine's internal tables"),
        Binding("escape", "stop", "stop long work, close what is open"),
        Binding("T", "app.change_light", "dark or light"),
        Binding("question_mark", "help", "what the keys do"),
        Binding("ctrl+p", "app.command_palette", "do something by its name"),
        Binding("ctrl+q", "app.quit", "leave"),
    ]

    # Going from a change to its record and back

    @work(group="jump", exclusive=True)
    async def _jump(self, table: TableChanges, record: RecordChange) -> None:
        origin = (self._moment, (table.table, record.key))
        moment = self._moment
        if record.kind == "removed" and await self._jump_to_ghost(table, record, origin):
            return
        if record.kind == "removed":
            step = self._workspace.step(moment)
            last = self._workspace.steps[-1] if step is None else None
            before = step.before if step is not None else last and last.after
            moment = before.number if before else moment
        try:
            place = await self._workspace.place_of(moment, table, record)
            if place is None:
                self._message.say(f"{table.table}: the record is not there any more", problem=True)
                return
            self._came_from = origin
            self._table_name = table.table
            if moment != self._moment:
                self._go_to(moment, load_rows=False)
                self._message.say(f"removed since: this is the table as of s{moment}, before that")
                await self._load_tables(moment)
            self._switch("records")
            self._table_list.highlight(table.table)
            await self._load_sheet(moment, keep_place=False, place=place)
            self._count_tables()
            self._sheet.go_to(place, record.cells[0].column if record.cells else None)
        except Cancelled:
            pass
        except JondelError as error:
            self._message.say(str(error), problem=True)

    async def _jump_to_ghost(
        self, table: TableChanges, record: RecordChange, origin: tuple[Moment, ChangePlace]
    ) -> bool:
        """Go to a removed record where it is shown among the others; False where it is not."""
        known = next((t for t in self._tables if t.name == table.table), None)
        if known is None:
            return False
        try:
            await self._records.open_table(self._moment, known, keep_place=True)
            if self._sheet.table is None:
                return False
            ghosts = await self._workspace.ghosts(self._moment, known, table)
        except JondelError:
            return False
        if not any(ghost.record.key == record.key for ghost in ghosts):
            return False
        self.workers.cancel_group(self, "ghosts")
        self._table_name = known.name
        self._came_from = origin
        self._table_list.highlight(known.name)
        self._switch("records")
        self._records.mark(self._changes)
        self._records.show_ghosts(ghosts)
        self.call_after_refresh(self._sheet.go_to_ghost, record.key)
        return True

    def action_to_record(self) -> None:
        """Go to the record of the current change."""
        self._changes_view.changes.action_select()

    def action_back(self) -> None:
        """Go back along the links one walked, or to the change one came from."""
        if self._walked and self._view == "records":
            self._walk_back()
            return
        if self._came_from is None:
            return
        (moment, place), self._came_from = self._came_from, None
        self._switch("changes")
        if moment != self._moment:
            self._wanted_change = place
            self._go_to(moment)
        else:
            self._changes_view.changes.find(*place)

    def on_sheet_card_wanted(self, event: Sheet.CardWanted) -> None:
        event.stop()
        self.action_card()

    def on_change_list_record_chosen(self, event: ChangeList.RecordChosen) -> None:
        event.stop()
        self._jump(event.table, event.record)

    # Keys

    def action_view(self, name: str) -> None:
        """Show Records or Changes."""
        if self._view == name and name == "changes" and self._changes is None:
            self._load_changes()
            return
        self._came_from = None
        self._switch(name)
        if name == "records":
            self._follow_table_list()
        if name == "changes" and (
            self._changes is None or (self._moment is None and not self._comparer.up_to_date)
        ):
            self._load_changes()

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

        from jondel.tui.views.panels import LabelPanel  # panels are not needed for the first rows

        self.app.push_screen(LabelPanel(labels), take)

    @work(group="snapshot")
    async def _snapshot(self, label: str | None) -> None:
        # These use the surveying thread and can be done again later.
        self.workers.cancel_group(self, "counts")
        self._comparer.pause()
        try:
            with self._busy_with("taking a snapshot"):
                step = await self._workspace.take_snapshot(label)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            self._count_tables()
            return
        finally:
            self._comparer.refresh_now()
        self._comparer.start_anew()
        self._follower.action_recorded(self._follower.token)
        self._came_from = None
        if self._workspace.about_room:
            self._message.say(self._workspace.about_room)
            self._workspace.about_room = ""
        if step.before is None:
            self._show_trail()
            self._count_tables()
            self._message.say(
                f"{step.after.id} taken. Do one thing in the app, then press s again."
            )
            return
        self._switch("changes")
        self._go_to(step.number)

    def action_act(self) -> None:
        """Choose one of the app's actions."""
        if not self._workspace.actions:
            self._message.say("no actions are known for this database: do it in the app itself")
            return

        def run(action: object) -> None:
            if action is not None:
                self._act(self._workspace.actions.index(action))  # type: ignore[arg-type]

        from jondel.tui.views.panels import ActionPanel

        self.app.push_screen(ActionPanel(self._workspace.actions), run)

    @work(group="act")
    async def _act(self, index: int) -> None:
        action = self._workspace.actions[index]
        try:
            said = await self._workspace.act(action)
        except JondelError as error:
            self._message.say(str(error), problem=True)
        else:
            self._message.say(f"{action.label}: {said}")

    def action_focus_view(self) -> None:
        """Go to the sheet or the list of changes."""
        self._follow_table_list()
        self._focus_view()

    def action_focus_tables(self) -> None:
        self.remove_class("-card-open")
        self.set_focus(self._table_list)

    def action_card(self) -> None:
        """Go to the card; where it has no place of its own it takes the view's."""
        if self.has_class("narrow"):
            self.add_class("-card-open")
        self.set_focus(self._card.card)

    def action_internal(self) -> None:
        self._show_internal = not self._show_internal
        self._load(keep_place=True)

    def action_stop(self) -> None:
        """Stop long work if there is any, else close what is open."""
        stopped = [pane for pane in self._records.panes if pane.stop()]
        if stopped and not self._busy:
            self._message.say("stopped: only the first rows are in this order")
        elif self._busy:
            for group in (
                "snapshot",
                "changes",
                "moment",
                "sheet",
                "counts",
                "history",
            ):
                self.workers.cancel_group(self, group)
            self._comparer.pause()
            self._sheet.expect_no_more()
        elif self._message.shown:
            self._message.hush()
        else:
            self._focus_view()

    def action_help(self) -> None:
        from jondel.tui.views.panels import HelpPanel

        records = self._view == "records"
        here = (
            ("Going about in the sheet", Sheet.BINDINGS)
            if records
            else ("In the list of changes", ChangeList.BINDINGS)
        )
        self.app.push_screen(
            HelpPanel(
                [
                    ("Everywhere", explained(Workbench.BINDINGS)),
                    ("Time", explained(TimeTravel.BINDINGS)),
                    (here[0], explained(here[1])),
                    *([("The sheet", explained(SheetKeys.BINDINGS))] if records else []),
                    *([("The card", explained(LinkKeys.BINDINGS))] if records else []),
                    *(self._keys_for_fixing() if records else []),
                ]
            )
        )

    def _keys_for_fixing(self) -> list[tuple[str, list[tuple[str, str]]]]:
        if self._workspace.read_only:
            changes = [key for key in explained(DraftKeys.BINDINGS) if "read-only" in key[1]]
            return [("Fixing: read-only, nothing can be edited", changes)]
        from jondel.tui.widgets.cell_editor import CellEditor

        return [
            ("Fixing", explained(_FIXING)),
            ("While a cell is edited", explained(CellEditor.BINDINGS)),
        ]

    def commands(self) -> Iterable[SystemCommand]:
        """What can be called by name."""
        fixing = DraftKeys.BINDINGS if self._workspace.read_only else _FIXING
        for binding in (
            *Workbench.BINDINGS,
            *TimeTravel.BINDINGS,
            *SheetKeys.BINDINGS,
            *LinkKeys.BINDINGS,
            *fixing,
        ):
            if not isinstance(binding, Binding) or binding.action.startswith("app."):
                continue

            def run(action: str = binding.action) -> None:
                self.call_later(self.run_action, action)

            yield SystemCommand(binding.description, f"key {explained([binding])[0][0]}", run)
