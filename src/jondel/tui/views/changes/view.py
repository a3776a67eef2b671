"""The view of changes: the list, and the line above it that says what is compared."""

from __future__ import annotations

from functools import partial

from textual.app import ComposeResult

from jondel.core.browse.display import safe_name
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.model.schema import Table
from jondel.core.trail.trail import Step
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.place import AtKey, Place
from jondel.tui.frame.view import Arrival, NothingShown, Shown, ShownChange, View
from jondel.tui.services.moments import (
    AtResult,
    AtStep,
    GoneStep,
    Now,
    OtherDatabase,
    Resolved,
)
from jondel.tui.views.changes.change_list import ChangeList
from jondel.tui.widgets.bands import Band

_NO_TRAIL = (
    "",
    "There are no snapshots yet, so there is nothing to compare with.",
    "",
    "1  Press s to take a snapshot.",
    "2  Do one thing in the app.",
    "3  Press s again: what the app wrote is listed here.",
    "",
    "Or press w: everything the app does is then recorded automatically.",
)
_TRAIL_STARTS = (
    "",
    "The trail starts with this snapshot; there is no earlier one to compare with.",
    "",
    "Do one thing in the app and press s: what it wrote is listed here.",
)


class ChangesView(View):
    """The list of changes and its title line."""

    NAME = "changes"
    WIDGET_KEYS = (("Moving in the list of changes", ChangeList.BINDINGS),)

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.list = ChangeList(id="change-list")
        self._title = Band(id="changes-title", classes="title")
        self._listed: tuple[Place, Changes | None, str, str, int] | None = None
        self._note: tuple[int, list[tuple[str, str]]] = (0, [])
        self._sought: tuple[TableId, AtKey] | None = None
        """The change to be on, once it is listed."""

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.list

    @property
    def focus_target(self) -> ChangeList:
        return self.list

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        if state.table(place.table) is None:
            first = self._desk.workspace.table_to_open_with(state.tables) if state.tables else None
            place = place._replace(table=first.id if first is not None else None)
        return Arrival(place, partial(self._arrive, place, state))

    def _arrive(self, place: Place, state: MomentState) -> None:
        if isinstance(place.record, AtKey) and place.table is not None:
            self._sought = (place.table, place.record)
        self._listed = None
        self.show_changes(state)

    def show_changes(self, state: MomentState) -> None:
        place = self._desk.place
        wanted = (
            Place(place.moment, place.compare_from),
            state.changes,
            state.changes_notice,
            self._since(place),
            len(self._desk.workspace.trail.unseen),
        )
        if wanted == self._listed:
            return
        keep = self._listed is not None and self._listed[0] == wanted[0]
        self._listed = wanted
        current = self.list.current if keep else None
        self._list(place, state)
        if self._sought is not None and state.changes is not None:
            (table, record), self._sought = self._sought, None
            self.list.find(table, record.key)
        elif current is not None:
            self.list.find(current.table.table, current.record.key)

    def show_note(self, number: int, note: list[tuple[str, str]]) -> None:
        """Say more of a step in its title: how it stands to what is expected, and what is odd."""
        if self._note != (number, note):
            self._note = (number, note)
            self._title_again()

    def _title_again(self) -> None:
        current, self._listed = self.list.current, None
        self.show_changes(self._desk.state)
        if current is not None:
            self.list.find(current.table.table, current.record.key)

    def _list(self, place: Place, state: MomentState) -> None:
        trail = self._desk.workspace.trail
        at, last = trail.resolve(place.moment), trail.last
        title = self._title_of(place, last)
        changes = state.changes
        if state.changes_notice or changes is None:
            self._title.show(title)
            self.list.show_text("", state.changes_notice or "Comparing …")
            return
        tables = len([table for table in changes.tables if table.counts.total])
        where = f"  in {tables} table{'' if tables == 1 else 's'}" if tables else ""
        right = [(f"{changes.counts.marked()}{where} ", "dim")]
        if changes.hidden:
            right.append((f" {changes.hidden} hidden, X shows ", "plain"))
        if isinstance(at, Step) and place.compare_from is None and at.number == self._note[0]:
            right += self._note[1]
        since = self._since(place)
        if since:
            right.append((f" {since} ", "plain"))
        self._title.show(title, right)
        if place.compare_from is None and last is None:
            self.list.show_text(*_NO_TRAIL)
        elif place.compare_from is None and isinstance(at, Step) and at.before is None:
            self.list.show_text(*_TRAIL_STARTS)
        else:
            self.list.show(changes, [self._nothing(place), "", *filter(None, [since])])

    def _since(self, place: Place) -> str:
        """What was written after the latest step, where that is not what is listed."""
        trail, since = self._desk.workspace.trail, self._desk.comparer.since
        last = trail.last
        if last is None:
            return ""
        if isinstance(place.moment, Now) and place.compare_from is None:
            new = len(trail.unseen)
            if new > 1:
                return f"{new} new steps before that · n shows the first"
            return "1 new step before that · n shows it" if new else ""
        if isinstance(place.moment, Now) or since is None or since.empty:
            return ""
        size = since.counts.marked() or "schema changes"
        return f"{size} since {last.after.id} · n shows it"

    def _nothing(self, place: Place) -> str:
        """What an empty list means."""
        resolve = self._desk.workspace.trail.resolve
        at = resolve(place.moment)
        if isinstance(at, AtResult):
            return "These are the rows of a statement; nothing is compared with them. n: now."
        if isinstance(place.compare_from, OtherDatabase):
            return f"Nothing differs between {place.compare_from.name} and {_name(at)}."
        if place.compare_from is not None:
            start = _name(resolve(place.compare_from))
            return f"Nothing differs between {start} and {_name(at)}."
        if isinstance(at, Step) and at.before is not None:
            return f"Nothing was written between {at.before.id} and {at.after.id}."
        last = self._desk.workspace.trail.last
        return f"Nothing was written since {last.after.id}." if last is not None else ""

    def _title_of(self, place: Place, last: Step | None) -> list[tuple[str, str]]:
        resolve = self._desk.workspace.trail.resolve
        at = resolve(place.moment)
        if isinstance(place.compare_from, OtherDatabase):
            read_at = self._desk.state.changes_at
            read = f"  {read_at:%H:%M:%S}" if read_at is not None else ""
            title = f" changes from {place.compare_from.name} to {_name(at)}"
            return [(title, "strong"), (read, "dim")]
        if place.compare_from is not None:
            start = resolve(place.compare_from)
            ends = [_name(start), _name(at)]
            if isinstance(place.moment, AtStep) and place.moment.number < place.compare_from.number:
                ends.reverse()
            return [(f" changes from {ends[0]} to {ends[1]}", "strong")]
        if not isinstance(at, Now):
            when = at.after.taken_at if isinstance(at, Step) else None
            words = when.astimezone().strftime("%H:%M:%S") if when is not None else "deleted"
            return [(f" changes of {_name(at)}", "strong"), (f"  {words}", "dim")]
        if last is None:
            return [(" changes", "strong")]
        words = last.after.taken_at.astimezone().strftime("%H:%M:%S")
        return [(f" changes since {last.after.id}", "strong"), (f"  {words}", "dim")]

    def follow_table_list(self, table: Table) -> bool:
        self.list.find_table(table.id)
        self._desk.navigator.move_to_table(table.id)
        self._desk.loader.refresh_if_due()
        return True

    @property
    def shown(self) -> Shown:
        current = self.list.current
        if current is None:
            return NothingShown()
        return ShownChange(current.table, current.record)

    def on_change_list_record_wanted(self, event: ChangeList.RecordWanted) -> None:
        event.stop()
        self._desk.run("change.to_record")

    def on_change_list_record_highlighted(self, event: ChangeList.RecordHighlighted) -> None:
        event.stop()
        current = self.list.current
        desk = self._desk
        if current is None or desk.navigator.view != self.NAME:
            return
        table, record = current.table, current.record
        if desk.state.table(table.table) is not None and not desk.table_list_has_focus:
            desk.navigator.move_to_table(table.table)
            desk.highlight_table(table.table)
            desk.loader.refresh_if_due()
        columns = () if table.key_is_row_id else table.key_columns
        desk.navigator.move_to_record(AtKey(columns, record.key, record.row_id), "")
        desk.show_card()


def _name(at: Resolved) -> str:
    if isinstance(at, Now):
        return "now"
    if isinstance(at, AtResult):
        return "the rows of a statement"
    if isinstance(at, GoneStep):
        return f"s{at.number}"
    title = "" if at.after.title == at.after.id else f" {safe_name(at.after.title)}"
    return f"{at.after.id}{title}"
