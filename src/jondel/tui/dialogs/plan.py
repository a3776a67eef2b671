"""The dialog that shows how a statement would be run."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line
from jondel.core.model.plans import PlanStep
from jondel.core.query.plan_fragments import Range, fragments_of
from jondel.core.query.plans import IndexTried, plan_lines
from jondel.core.sql.dialect import Dialect
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.styles import ink

_CONCERNS = {
    "reads all": "reads every row",
    "sorts": "sorts in a temporary table",
    "makes an index": "makes an index each time",
}
_MOST_LINES = 12


class PlanDialog(Dialog[str | None]):
    """Shows a plan as a tree, and of each step which part of the statement it serves; returns the
    statement of an index that is to go into the box."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("i", "take_index", "the index into the box"),
    ]

    def __init__(
        self,
        sql: str,
        steps: tuple[PlanStep, ...],
        tried: IndexTried | None,
        dialect: Dialect,
        note: str = "",
    ) -> None:
        super().__init__()
        self._sql, self._steps, self._tried, self._note = sql, steps, tried, note
        self._is_measured = any(step.rows is not None for step in steps)
        self._fragments: list[tuple[Range, ...]] = [
            ranges for _, ranges in fragments_of(steps, sql, dialect)
        ]

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("How it is run" if self._is_measured else "How it would be run")
            yield Static("", id="plan-sql", markup=False)
            yield OptionList(id="plan-steps", markup=False)
            yield Static("", id="plan-more", markup=False)
            index = "i brings the index into the box · " if self._tried is not None else ""
            yield foot(f"↑↓ which part of the statement a step serves\n{index}Escape closes")

    def opened(self) -> None:
        options = self.query_one(OptionList)
        options.add_options(map(Option, self._lines(self._steps)))
        options.highlighted = 0 if self._steps else None
        options.focus()
        more, dim = Text(), ink(self, "sand-dim")
        if self._tried is not None:
            how = "tried out on a copy" if self._tried.plan else "not tried out: making it locks"
            more.append(f"\nwith an index, {how}:\n", dim)
            more.append(f"{line(self._tried.statement, 300)}\n", ink(self, "brass"))
            for text in self._lines(self._tried.plan):
                more.append_text(text).append("\n")
        if self._note:
            more.append(f"\n{line(self._note, 300)}", dim)
        self.query_one("#plan-more", Static).update(more)
        self._mark(0)

    def _lines(self, steps: tuple[PlanStep, ...]) -> list[Text]:
        lines = []
        for words, concern in plan_lines(steps):
            text = Text(line(words, 300), ink(self, "sand"), no_wrap=True, overflow="ellipsis")
            if concern:
                text.append(f"  ! {_CONCERNS[concern]}", ink(self, "removed", bold=True))
            lines.append(text)
        return lines

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        self._mark(event.option_index)

    def _mark(self, place: int) -> None:
        """Mark what a step serves in the statement."""
        ranges = self._fragments[place] if place < len(self._fragments) else ()
        dim = ink(self, "sand-dim")
        mark = ink(self, "brass", bold=True) + Style(underline=True)
        shown = Text()
        at = 0
        for row in self._sql.split("\n"):
            for number, character in enumerate(row, at):
                inside = any(start <= number < end for start, end in ranges)
                shown.append(character if character == " " else line(character, 2),
                             mark if inside else dim)  # fmt: skip
            at += len(row) + 1
            shown.append("\n")
        lines = shown.split("\n")
        self.query_one("#plan-sql", Static).update(Text("\n").join([*lines[:_MOST_LINES], Text()]))

    def action_take_index(self) -> None:
        """Take the statement that makes the index."""
        if self._tried is not None:
            self.dismiss(self._tried.statement)
