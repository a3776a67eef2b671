"""The menu of what can be done here, for those who use the mouse."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.dialog import Dialog, foot, heading


class MenuDialog(Dialog[Command | None]):
    """Lists commands that can run now; returns the chosen one."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, commands: Sequence[Command], situation: Situation) -> None:
        super().__init__()
        self._commands = commands
        self._situation = situation

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("What can be done here")
            yield OptionList(*map(self._option, self._commands), id="menu", markup=False)
            yield foot("Enter or a click does it · Escape closes")

    def _option(self, command: Command) -> Option:
        words = f"{command.key_text:<10} {command.help}"
        return Option(Text(words, no_wrap=True, overflow="ellipsis"))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._commands[event.option_index])
