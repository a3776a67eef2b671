"""The one dialog that asks before something is done."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Static

from jondel.tui.frame.dialog import Dialog, foot, heading


class Confirmed(Enum):
    """The answer of a confirmation: nothing of it, all of it, or only the part that is offered."""

    NO = 0
    YES = 1
    PART = 2


class ConfirmDialog(Dialog[Confirmed]):
    """Says what something would do, and asks for it."""

    TAKES_TYPED_AHEAD = False

    BINDINGS = [
        Binding("escape,n", "answer('NO')", "no"),
        Binding("y", "answer('YES')", "yes"),
        Binding("t", "answer('PART')", "only a part of it"),
    ]

    def __init__(self, title: str, lines: Sequence[str], yes: str, part: str = "") -> None:
        """``yes`` and ``part`` say what ``y`` and ``t`` do; there is no ``t`` without."""
        super().__init__()
        self._title = title
        self._lines = lines
        self._yes = yes
        self._part = part

    def action_answer(self, answer: str) -> None:
        if answer != "PART" or self._part:
            self.dismiss(Confirmed[answer])

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(self._title)
            with VerticalScroll():
                yield Static(Text("\n".join(self._lines)), id="confirm-text", markup=False)
            part = f" · t {self._part}" if self._part else ""
            keys = f"y {self._yes}{part} · Escape cancels"
            yield foot(keys)

    def opened(self) -> None:
        self.query_one(VerticalScroll).focus()
