"""The dialog that shows how a statement would be run."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Static

from jondel.core.browse.display import line
from jondel.core.model.plans import PlanStep
from jondel.core.query.plans import IndexTried, plan_lines
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.styles import ink

_CONCERNS = {
    "reads all": "reads every row",
    "sorts": "sorts in a temporary table",
    "makes an index": "makes an index each time",
}


class PlanDialog(Dialog[str | None]):
    """Shows a plan as a tree; returns the statement of an index that is to go into the box."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("i", "take_index", "the index into the box"),
    ]

    def __init__(self, sql: str, steps: tuple[PlanStep, ...], tried: IndexTried | None) -> None:
        super().__init__()
        self._sql, self._steps, self._tried = sql, steps, tried
        self._is_measured = any(step.rows is not None for step in steps)

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("How it is run" if self._is_measured else "How it would be run")
            with VerticalScroll():
                yield Static("", id="plan-text", markup=False)
            index = "i brings the index into the box · " if self._tried is not None else ""
            yield foot(f"{index}Escape closes")

    def opened(self) -> None:
        dim = ink(self, "sand-dim")
        shown = Text(line(" ".join(self._sql.split()), 300) + "\n\n", dim)
        self._append(shown, self._steps)
        if self._tried is not None:
            shown.append("\nwith an index, tried out on a copy:\n", dim)
            shown.append(f"{line(self._tried.statement, 300)}\n\n", ink(self, "brass"))
            self._append(shown, self._tried.plan)
        self.query_one("#plan-text", Static).update(shown)
        self.query_one(VerticalScroll).focus()

    def _append(self, shown: Text, steps: tuple[PlanStep, ...]) -> None:
        for words, concern in plan_lines(steps):
            shown.append(line(words, 300), ink(self, "sand"))
            if concern:
                shown.append(f"  ! {_CONCERNS[concern]}", ink(self, "removed", bold=True))
            shown.append("\n")

    def action_take_index(self) -> None:
        """Take the statement that makes the index."""
        if self._tried is not None:
            self.dismiss(self._tried.statement)
