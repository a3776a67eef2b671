"""The last line of the screen: the commands that matter now, with their keys."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from rich.cells import cell_len
from rich.text import Text
from textual import events
from textual.message import Message
from textual.widget import Widget

from jondel.tui.widgets.styles import ink

_GAP = 3


class FooterEntry(NamedTuple):
    """A command: its keys as they are written, its label, and its id."""

    keys: str
    label: str
    command: str

    @property
    def width(self) -> int:
        return cell_len(self.keys) + 1 + cell_len(self.label) + _GAP


class Footer(Widget):
    """Commands that matter now; a click does what the key does.

    Those that do not fit are left out from the end, but never the last one: it explains them all.
    """

    DEFAULT_CSS = "Footer { height: 1; background: $background; }"

    class CommandClicked(Message):
        """The person wants a command."""

        def __init__(self, footer: Footer, command: str) -> None:
            super().__init__()
            self.footer = footer
            self.command = command

        @property
        def control(self) -> Footer:
            return self.footer

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._entries: Sequence[FooterEntry] = ()
        self._places: list[tuple[int, int, str]] = []

    def show(self, entries: Sequence[FooterEntry]) -> None:
        """Show commands, the most needed first."""
        if entries != self._entries:
            self._entries = entries
            self.refresh()

    def render(self) -> Text:
        text = Text(" ", no_wrap=True)
        self._places = []
        if not self._entries:
            return text
        *others, last = self._entries
        room = self.size.width - last.width
        for entry in others:
            if text.cell_len + entry.width > room:
                break
            self._append(text, entry)
        self._append(text, last)
        return text

    def _append(self, text: Text, entry: FooterEntry) -> None:
        start = text.cell_len
        text.append(entry.keys, ink(self, "brass", bold=True))
        text.append(f" {entry.label}", ink(self, "sand-dim"))
        self._places.append((start, text.cell_len, entry.command))
        text.append(" " * _GAP)

    def on_click(self, event: events.Click) -> None:
        event.stop()
        for start, end, command in self._places:
            if start <= event.x < end and command:
                self.post_message(self.CommandClicked(self, command))
