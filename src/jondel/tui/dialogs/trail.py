"""The dialog of the trail: all its steps, and what can be done with them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name
from jondel.core.model.changes import MARKS, ChangeKind, ChangeSummary
from jondel.core.model.sizes import size_text
from jondel.core.trail.trail import Step
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.frame.trail_strip import STEP, STEP_PINNED, STEP_SELECTED
from jondel.tui.services.moments import AtStep, Moment, OtherDatabase
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.styles import change_style, ink

_TITLE_CELLS = 34


class StepVerb(Enum):
    """What can be done with a step."""

    GO_TO = "go to"
    LABEL = "label"
    ANNOTATE = "note"
    PIN = "pin"
    COMPARE_FROM = "compare from"
    DELETE = "delete"
    RESTORE = "restore"
    TAKE_BACK = "take back"
    EXPORT = "write out"


@dataclass(frozen=True)
class StepWish:
    """What a person wants done with a step of the trail: the command that does it, and the step."""

    verb: StepVerb
    step: Step


class TrailDialog(Dialog[StepWish | None]):
    """Lists all steps, latest first; returns what to do with one of them."""

    BINDINGS = [
        Binding("escape,g", "dismiss(None)", "close"),
        Binding("l", "wish('LABEL')", "label"),
        Binding("e", "wish('ANNOTATE')", "note"),
        Binding("p", "wish('PIN')", "pin or unpin"),
        Binding("m", "wish('COMPARE_FROM')", "compare from here"),
        Binding("d", "wish('DELETE')", "delete"),
        Binding("R", "wish('RESTORE')", "restore"),
        Binding("U", "wish('TAKE_BACK')", "take back"),
        Binding("x", "wish('EXPORT')", "export as a file"),
    ]

    def __init__(
        self, steps: Sequence[Step], selected: Moment, compare_from: AtStep | OtherDatabase | None
    ) -> None:
        super().__init__()
        self._steps = list(reversed(steps))
        self._selected = selected
        self._compare_from = compare_from

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(self._heading(), id="trail-title")
            yield OptionList(id="steps", markup=False)
            yield foot(
                "Enter goes there · l label · e note · p pin or unpin · m compare from\n"
                "d delete · R restore · U take back · x export as a file · Escape closes"
            )

    def opened(self) -> None:
        steps = self.query_one(OptionList)
        steps.add_options([Option(self._entry(step)) for step in self._steps])
        moments = [AtStep(step.number) for step in self._steps]
        steps.highlighted = moments.index(self._selected) if self._selected in moments else 0
        steps.focus()

    def show_size(self, size: int) -> None:
        """Say how many bytes all snapshots take."""
        self.query_one("#trail-title", Static).update(self._heading(f" in {size_text(size)}"))

    def _heading(self, room: str = "") -> str:
        count = len(self._steps)
        return f"The trail: {count} snapshot{'' if count == 1 else 's'}{room}, latest first"

    def _entry(self, step: Step) -> Text:
        dim, after = ink(self, "sand-dim"), step.after
        node = STEP_SELECTED if AtStep(step.number) == self._selected else STEP
        text = Text(no_wrap=True, overflow="ellipsis")
        text.append(f"{STEP_PINNED if after.pinned else node} ", ink(self, "brass"))
        text.append(fitted_text(after.id, 6), ink(self, "sea"))
        text.append(after.taken_at.astimezone().strftime("%m-%d %H:%M:%S  "), dim)
        title = "" if after.title == after.id else safe_name(after.title)
        text.append(fitted_text(title, _TITLE_CELLS) + " ")
        if AtStep(step.number) == self._compare_from:
            text.append("compare from here  ", ink(self, "brass", bold=True))
        if step.summary is not None:
            append_summary(self, text, step.summary)
        elif step.before is None:
            text.append("trail starts", dim)
        if after.note:
            text.append(f"\n{' ' * 24}{line(after.note, 200)}", dim)
        return text

    def action_wish(self, verb: str) -> None:
        at = self.query_one(OptionList).highlighted
        if at is not None:
            self.dismiss(StepWish(StepVerb[verb], self._steps[at]))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.action_wish("GO_TO")


def append_summary(dialog: TrailDialog, text: Text, summary: ChangeSummary) -> None:
    """Append the sizes of changes with their marks."""
    kinds: tuple[ChangeKind, ...] = ("added", "changed", "removed")
    for kind in kinds:
        number = getattr(summary.counts, kind)
        if number:
            text.append(f"{MARKS[kind]}{number} ", change_style(dialog, kind))
    if summary.schema_changes:
        text.append("schema ", change_style(dialog, "changed"))
    if not (summary.counts.total or summary.schema_changes):
        text.append("no changes", ink(dialog, "sand-dim"))
