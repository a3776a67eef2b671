"""The dialog that asks for one of the databases that are open."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList

from jondel.tui.frame.dialog import Dialog, foot, heading


class OpenDatabaseDialog(Dialog[int | None]):
    """Asks for one of the databases that are open; returns its place among them."""

    BINDINGS = [Binding("escape", "dismiss(None)", "close")]

    def __init__(self, names: Sequence[str]) -> None:
        super().__init__()
        self._names = names

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog"):
            yield heading("Compare with")
            yield OptionList(*map(Text, self._names), id="databases", markup=False)
            yield foot("Enter compares · Escape closes")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(event.option_index)
