"""What a person can do with time: watching, comparing, tending the trail, putting things back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from textual import work
from textual.binding import Binding

from jondel.core.browse.display import line
from jondel.core.errors import Cancelled, JondelError
from jondel.core.formats.changes_text import change_lines
from jondel.core.model.changes import Changes
from jondel.tui.views.draft_keys import DraftKeys
from jondel.tui.watchers import Follower

if TYPE_CHECKING:
    from jondel.core.trail.restore import Restored
    from jondel.core.trail.trail import Step, Trail
    from jondel.tui.views.trail_panels import RuleWish, StepWish, TrailPanel

_CONFIRMED_LINES = 200


class TimeTravel(DraftKeys):
    """Adds the keys of the trail to what is shown of a moment."""

    BINDINGS = [
        Binding("w", "watch", "watch: every app action becomes a step by itself"),
        Binding("g", "trail", "the whole trail: go to a step, tend it"),
        Binding("l", "label", "label the selected step"),
        Binding("m", "compare_from", "compare from the selected step, or no more"),
        Binding("h", "history", "the record's history over the trail"),
        Binding("x", "noise", "hide changes of a kind, or show them again"),
        Binding("X", "hidden", "show or hide what noise rules hide"),
        Binding("R", "restore", "restore the database to the selected step"),
        Binding("u", "take_back_record", "take back the change of this record"),
        Binding("U", "take_back", "take back what the selected step changed"),
    ]

    # Watching

    def action_watch(self) -> None:
        """Begin to watch, or stop."""
        if self._follower.watching:
            self._follower.watch_actions(None)
            self._message.say("not watching any more; s takes a snapshot")
            self._show_around()
        else:
            self._begin_to_watch()

    @work(group="snapshot")
    async def _begin_to_watch(self) -> None:
        try:
            self._follower.watch_actions(self._workspace.settle_seconds)
            self._show_around()
            with self._busy_with("taking a snapshot"):
                step = await self._workspace.take_if_changed("watching began")
        except JondelError as error:
            self._follower.watch_actions(None)
            self._message.say(str(error), problem=True)
            self._show_around()
            return
        if step is not None:
            self._comparer.start_anew()
        self._message.say("watching: use the app; each thing it does becomes a step")
        self._show_around()

    def on_follower_action_began(self, event: Follower.ActionBegan) -> None:
        event.stop()
        self._show_masthead()

    def on_follower_action_over(self, event: Follower.ActionOver) -> None:
        event.stop()
        self._record_action(event.token)

    @work(group="watched")
    async def _record_action(self, token: object) -> None:
        follows = self._moment is None or (
            bool(self._workspace.steps) and self._moment == self._workspace.steps[-1].number
        )
        self.workers.cancel_group(self, "counts")
        self._comparer.pause()
        try:
            step = await self._workspace.take_if_changed()
        except Cancelled:
            return
        except JondelError as error:
            self._message.say(f"this action is in no step: {error}", problem=True)
            return
        finally:
            self._comparer.refresh_now()
        if step is None:
            self._show_around()
            return
        self._comparer.start_anew()
        if not follows:
            # Whoever is looking at the past is not dragged away from it.
            self._message.say(f"{step.after.id} recorded; ] leads there")
            self._show_around()
            return
        self._came_from = None
        if step.before is not None:
            self._switch("changes", take_focus=self.focused in (None, self._sheet))
        self._go_to(step.number)

    # The steps of the trail

    def action_trail(self) -> None:
        """List all steps."""
        if not self._workspace.steps:
            self._message.say("nothing is recorded yet; s takes a snapshot")
            return

        def done(wish: StepWish | None) -> None:
            if wish is not None:
                self._do_with_step(wish.verb, wish.number)

        from jondel.tui.views.trail_panels import TrailPanel  # not needed for the first rows

        panel = TrailPanel(self._workspace.steps, self._moment, self._compare_start)
        self.app.push_screen(panel, done)
        self._tell_size(panel)

    @work(group="size", exclusive=True)
    async def _tell_size(self, panel: TrailPanel) -> None:
        """Say in the panel how much room the trail takes, once that is known."""
        try:
            size = await self._workspace.trail_size()
        except JondelError:
            return  # of no consequence; what is wrong with the store is told where it is used
        if panel.is_attached:
            panel.show_size(size)

    def _do_with_step(self, verb: str, number: int) -> None:
        step = self._workspace.step(number)
        if step is None:
            self._message.say(f"s{number} is gone from the trail", problem=True)
            return
        what: dict[str, Callable[[Step], None]] = {
            "go_to": lambda step: self._go_to(step.number),
            "label": self._ask_label,
            "annotate": self._ask_note,
            "pin": self._pin,
            "compare_from": lambda step: self._compare_from(step.number),
            "delete": self._ask_delete,
            "restore": lambda step: self._ask_restore(step.number),
            "take_back": lambda step: self._ask_take_back(step.number),
        }
        what[verb](step)

    def _selected_step(self) -> Step | None:
        """The selected step; at now the last one."""
        steps = self._workspace.steps
        step = self._workspace.step(self._moment)
        if step is None and steps:
            step = steps[-1]
        if step is None:
            self._message.say("nothing is recorded yet; s takes a snapshot")
        return step

    def action_label(self) -> None:
        step = self._selected_step()
        if step is not None:
            self._ask_label(step)

    def _ask_label(self, step: Step) -> None:
        labels = [s.after.label for s in self._workspace.steps if s.after.label]

        def done(label: str | None) -> None:
            if label is not None:
                self._tend(lambda trail: trail.rename(step.after, label or None))

        from jondel.tui.views.panels import LabelPanel

        title = f"Label of {step.after.id}"
        self.app.push_screen(LabelPanel(labels, title, step.after.label or ""), done)

    def _ask_note(self, step: Step) -> None:
        def done(note: str | None) -> None:
            if note is not None:
                self._tend(lambda trail: trail.annotate(step.after, note))

        from jondel.tui.views.panels import NotePanel

        self.app.push_screen(NotePanel(f"Note on {step.after.id}", step.after.note), done)

    def _pin(self, step: Step) -> None:
        pinned = not step.after.pinned
        self._tend(lambda trail: trail.pin(step.after, pinned))
        words = "stays, whatever room is needed" if pinned else "may go to make room"
        self._message.say(f"{step.after.id} {words}")

    def _ask_delete(self, step: Step) -> None:
        def done(wanted: str | None) -> None:
            if wanted:
                self._tend(lambda trail: trail.delete([step.after], protected_too=True))

        lines = ["It is gone for good, and what it alone needed with it."]
        if step.before is not None:
            lines.append("What this step changed becomes part of the step after it.")
        if step.after.label:
            lines.append(f"It has the label {step.after.label!r}.")
        if step.after.pinned:
            lines.append("It is pinned.")
        self._confirm(f"Delete {step.after.title}?", lines, "deletes it", done)

    @work(group="tend")
    async def _tend(self, change: Callable[[Trail], None]) -> None:
        try:
            await self._workspace.tend(change)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        numbers = [step.number for step in self._workspace.steps]
        if self._compare_start not in numbers:
            self._compare_start = None
        if self._moment is not None and self._moment not in numbers:
            self._go_to(None)
        self._comparer.start_anew()
        self._show_around()

    # Comparing any two

    def action_compare_from(self) -> None:
        """Compare from the selected step on, or again each step with the one before."""
        if self._compare_start is not None:
            self._compare_from(None)
            return
        step = self._selected_step()
        if step is not None:
            self._compare_from(step.number)

    def _compare_from(self, number: int | None) -> None:
        self._compare_start = number
        if number is not None:
            self._message.say(
                f"comparing from s{number}: go to a later step or to now; m ends this"
            )
            if self._moment == number:
                self._go_to(None)
                return
        self._go_to(self._moment)

    # One record over time

    def action_history(self) -> None:
        """Show the versions of the current record."""
        found = self._current_record()
        if found is None:
            self._message.say("there is no record here that could be told from others")
        else:
            self._show_history(*found)

    @work(group="history", exclusive=True)
    async def _show_history(
        self, table: str, columns: Sequence[str], key: tuple[object, ...]
    ) -> None:
        from jondel.tui.views.trail_panels import HistoryPanel

        try:
            with self._busy_with("looking through the trail"):
                versions = await self._workspace.history(table, columns, key)  # type: ignore[arg-type]
        except Cancelled:
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return

        def done(number: int | None) -> None:
            if number is not None:
                self._go_to(number if number > 0 else None)

        words = " · ".join(line(value, 24) for value in key)  # type: ignore[arg-type]
        self.app.push_screen(HistoryPanel(f"{table} {words}", versions), done)

    def _current_record(self) -> tuple[str, tuple[str, ...], tuple[object, ...]] | None:
        """The current record's table, key columns and key; None where it has none."""
        if self._view == "changes":
            current = self._changes_view.changes.current
            if current is None:
                return None
            return current.table.table, current.table.key_columns, current.record.key
        table, found = self._sheet.table, self._sheet.record_at(self._sheet.cursor_row)
        if table is None or found is None or not found[0]:
            return None
        if table.row_id is not None and not table.primary_key:
            return table.name, ("rowid",), found[0]
        row = dict(zip(table.column_names, found[1], strict=True))
        return table.name, table.primary_key, tuple(row[name] for name in table.primary_key)

    # Noise

    def action_noise(self) -> None:
        """Choose what to hide at the current change."""
        current = self._changes_view.changes.current if self._view == "changes" else None
        table = current.table.table if current else None
        columns = [cell.column for cell in current.record.cells] if current else []
        try:
            rules = self._workspace.project_rules
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if table is None and not rules:
            self._message.say("go to a change in Changes: x there hides others of its kind")
            return

        def done(wish: RuleWish | None) -> None:
            if wish is not None:
                self._change_rules(wish)

        from jondel.tui.views.trail_panels import NoisePanel

        self.app.push_screen(NoisePanel(table, columns, rules), done)

    @work(group="tend")
    async def _change_rules(self, wish: RuleWish) -> None:
        rules = self._workspace.project_rules
        change = rules.with_rule if wish.keep else rules.without_rule
        try:
            path = await self._workspace.change_rules(change(wish.kind, wish.name))
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        self._message.say(f"{wish.name}: {'hidden' if wish.keep else 'shown'} from now on, {path}")
        self._comparer.start_anew()
        self._go_to(self._moment)

    def action_hidden(self) -> None:
        """Show what noise rules hide, or hide it again."""
        self._workspace.show_hidden(not self._workspace.hidden_shown)
        shown = self._workspace.hidden_shown
        self._message.say("noise is shown too" if shown else "noise is hidden again")
        self._comparer.start_anew()
        self._go_to(self._moment)

    # Putting things back

    def action_restore(self) -> None:
        """Ask whether to put the database back to the selected step."""
        step = self._selected_step()
        if step is not None:
            self._ask_restore(step.number)

    @work(group="restore", exclusive=True)
    async def _ask_restore(self, number: int) -> None:
        step = self._workspace.step(number)
        assert step is not None
        try:
            with self._busy_with("comparing"):
                lost = await self._workspace.losses(number)
        except Cancelled:
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if lost.empty and not lost.hidden and not lost.unread:
            self._message.say(f"the database is as {step.after.title} already")
            return

        table = self._current_table()
        part = f"restores only {line(table, 40)}" if table and lost.table(table) else ""

        def done(wanted: str | None) -> None:
            if wanted == "y":
                self._put_back("restoring", lambda: self._workspace.restore(number))
            elif wanted and table:
                self._put_back("restoring", lambda: self._workspace.restore_table(number, table))

        title = f"Restore {self._identity.name if self._identity else 'the database'} to "
        self._confirm(
            f"{title}{step.after.title}? This will be undone:",
            [*_listed(lost), "", "A snapshot is taken first, so this can be undone itself."],
            "restores",
            done,
            part,
        )

    def action_take_back(self) -> None:
        step = self._selected_step()
        if step is not None:
            self._ask_take_back(step.number)

    @work(group="restore", exclusive=True)
    async def _ask_take_back(self, number: int) -> None:
        step = self._workspace.step(number)
        assert step is not None
        try:
            with self._busy_with("comparing"):
                changes = await self._workspace.changes_of(number)
        except Cancelled:
            return
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return

        def done(wanted: str | None) -> None:
            if wanted:
                self._put_back("taking back", lambda: self._workspace.take_back_step(number))

        self._confirm(
            f"Take back {step.after.title}? This will be undone:",
            [*_listed(changes), "", "Only if nothing of it has moved on since."],
            "takes it back",
            done,
        )

    def action_take_back_record(self) -> None:
        """Ask whether to take back the change of the current record."""
        current = self._changes_view.changes.current
        start, end = self._ends()
        if self._view != "changes" or current is None or start is None:
            self._message.say("go to a change in Changes: u there takes it back")
            return
        table, record = current.table.table, current.record

        def done(wanted: str | None) -> None:
            if wanted:
                self._put_back(
                    "taking back",
                    lambda: self._workspace.take_back_record(start, end, table, record.key),
                )

        alone = Changes((current.table._replace(records=(record,)),))
        self._confirm(
            "Take back the change of this record?",
            [text for text in change_lines(alone) if text.startswith(" ")],
            "takes it back",
            done,
        )

    @work(group="restore", exclusive=True)
    async def _put_back(self, words: str, work: Callable[[], object]) -> None:
        self.workers.cancel_group(self, "counts")
        self._comparer.pause()
        token = self._follower.token
        try:
            with self._busy_with(words):
                done: Restored = await work()  # type: ignore[misc]
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        finally:
            self._comparer.refresh_now()
        self._follower.action_recorded(token)
        self._comparer.start_anew()
        if done.before.number == done.after.number:
            self._message.say("nothing to do: it is so already")
        else:
            self._message.say(
                f"done: {done.after.title}. Restore {done.before.id} (g, R) to undo this"
            )
        self._came_from = None
        self._go_to(None)

    def _ends(self) -> tuple[int | None, int | None]:
        """The step that the changes shown begin with, and the moment that they end with."""
        step = self._workspace.step(self._moment)
        if self._compare_start is not None:
            return self._compare_start, self._moment
        if step is None:
            steps = self._workspace.steps
            return (steps[-1].number if steps else None), None
        return (step.before.number if step.before else None), step.number

    def _current_table(self) -> str | None:
        """The name of the table that the current record is of."""
        if self._view == "changes" and self._changes_view.changes.current is not None:
            return self._changes_view.changes.current.table.table
        return self._table_name

    def _confirm(
        self,
        title: str,
        lines: Sequence[str],
        yes: str,
        done: Callable[[str | None], None],
        part: str = "",
    ) -> None:
        from jondel.tui.views.trail_panels import ConfirmPanel

        self.app.push_screen(ConfirmPanel(title, lines, yes, part), done)


def _listed(changes: Changes) -> list[str]:
    """Changes as lines, as many as one may read."""
    found = []
    for text in change_lines(changes):
        if len(found) == _CONFIRMED_LINES:
            counts = changes.counts
            found.append(f"… {counts.total} records in all ({counts.marked()})")
            break
        found.append(text)
    if changes.hidden:
        records = "record" if changes.hidden == 1 else "records"
        found.append(f"and {changes.hidden} {records} that noise rules hide")
    return found
