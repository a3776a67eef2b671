"""Changes: what a step wrote, or what was written since the last one."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import Vertical

from jondel.core.browse.display import safe_name
from jondel.core.model.changes import Changes
from jondel.core.trail.trail import Step
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.change_list import ChangeList
from jondel.tui.widgets.lines import PlainGround


class ChangesView(PlainGround, Vertical):
    """The list of changes and its title line."""

    def __init__(self, *, id: str | None = None, classes: str | None = None) -> None:
        super().__init__(id=id, classes=classes)
        self.changes = ChangeList(id="change-list")
        self._title = Band(id="changes-title", classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.changes

    def show_changes(
        self, changes: Changes, step: Step | None, last: Step | None, start: Step | None
    ) -> None:
        """Show the changes of a step, or those since ``last``, or all those since ``start``."""
        counts = changes.counts
        tables = len([table for table in changes.tables if table.counts.total])
        where = f"  in {tables} table{'' if tables == 1 else 's'}" if tables else ""
        right = [(f"{counts.marked()}{where} ", "dim")]
        if changes.hidden:
            right.append((f" {changes.hidden} hidden, X shows ", "plain"))
        self._title.show(_title(step, last, start), right)
        if start is None and step is None and last is None:
            self.changes.show_text(
                "",
                "Nothing is recorded yet, so there is nothing to compare with.",
                "",
                "1  Press s to take a snapshot.",
                "2  Do one thing in the app.",
                "3  Press s again: what the app wrote is listed here.",
                "",
                "Or press w: then everything that the app does is recorded by itself.",
            )
        elif start is None and step is not None and step.before is None:
            self.changes.show_text(
                "",
                "The trail starts with this snapshot: there is none before it to compare with.",
                "",
                "Do one thing in the app and press s: what it wrote is listed here.",
            )
        else:
            self.changes.show(changes)

    def show_text(
        self, step: Step | None, last: Step | None, start: Step | None, *texts: str
    ) -> None:
        """Show sentences in place of changes."""
        self._title.show(_title(step, last, start))
        self.changes.show_text("", *texts)


def _title(step: Step | None, last: Step | None, start: Step | None) -> list[tuple[str, str]]:
    if start is not None:
        ends = [_name(start), _name(step) if step else "now"]
        if step is not None and step.number < start.number:
            ends.reverse()
        return [(f" changes from {ends[0]} to {ends[1]}", "strong")]
    if step is not None:
        when = step.after.taken_at.astimezone().strftime("%H:%M:%S")
        return [(f" changes of {_name(step)}", "strong"), (f"  {when}", "dim")]
    if last is None:
        return [(" changes", "strong")]
    when = last.after.taken_at.astimezone().strftime("%H:%M:%S")
    return [(f" changes since {last.after.id}", "strong"), (f"  {when}", "dim")]


def _name(step: Step) -> str:
    title = "" if step.after.title == step.after.id else f" {safe_name(step.after.title)}"
    return f"{step.after.id}{title}"
