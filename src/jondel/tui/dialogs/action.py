"""The dialog that lists the app's actions."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.verify.actions import Action
from jondel.tui.frame.dialog import Dialog, foot, heading


class ActionDialog(Dialog[Action | None]):
    """Lists the app's actions; returns the chosen one."""

    BINDINGS = [Binding("escape,a", "dismiss(None)", "close")]

    def __init__(self, actions: Sequence[Action]) -> None:
        super().__init__()
        self._actions = actions

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog"):
            yield heading("Run one of the app's actions")
            yield OptionList(
                *(Option(Text(action.name)) for action in self._actions),
                id="actions",
                markup=False,
            )
            yield foot("Enter runs it · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._actions[event.option_index])
