"""The help: every key of every view, and why one cannot be used here."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from rich.style import Style
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Static

from jondel.tui.frame.dialog import Dialog, foot, heading


class KeyHelp(NamedTuple):
    """A key as it is written, what it does, and why it cannot do it here, if so."""

    key: str
    words: str
    refusal: str = ""


class HelpDialog(Dialog[None]):
    """Explains keys, those of the view it was opened over first."""

    BINDINGS = [Binding("escape,question_mark,enter", "dismiss(None)", "close")]

    def __init__(self, groups: Sequence[tuple[str, Sequence[KeyHelp]]]) -> None:
        super().__init__()
        self._groups = groups

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full tall"):
            yield heading("What the keys do here")
            with VerticalScroll():
                yield Static(self._text(), id="help-text", markup=False)
            yield foot("Escape closes")

    def opened(self) -> None:
        self.query_one(VerticalScroll).focus()

    def _text(self) -> Text:
        colours = self.app.theme_variables
        key_style = Style(color=colours["brass"], bold=True)
        dim = Style(color=colours["sand-dim"])
        width = max(len(entry.key) for _, keys in self._groups for entry in keys)
        text, given = Text(), {""}
        for title, keys in self._groups:
            text.append(title, dim)
            reasons = {entry.refusal for entry in keys}
            if len(reasons) == 1:
                self._append_reason(text, reasons.pop(), given)
            text.append("\n")
            for entry in keys:
                text.append(f"  {entry.key.ljust(width)}", dim if entry.refusal else key_style)
                text.append(f"  {entry.words}", dim if entry.refusal else None)
                self._append_reason(text, entry.refusal, given)
                text.append("\n")
            text.append("\n")
        text.right_crop(2)
        return text

    def _append_reason(self, text: Text, reason: str, given: set[str]) -> None:
        """Say why keys cannot be used here, once: many have the same reason."""
        if reason not in given:
            given.add(reason)
            text.append(f"  ({reason})", Style(color=self.app.theme_variables["removed"]))
