"""The dialog of copying: what, and in which form."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.formats.copied_rows import CopyForm
from jondel.tui.frame.dialog import Dialog, Foot, foot, heading


class CopyWish(NamedTuple):
    """What a person wants copied: its place in the list, the form, and whether to a file."""

    place: int
    form: CopyForm
    to_file: bool = False


class CopyDialog(Dialog[CopyWish | None]):
    """Lists what can be copied here; returns what is wanted."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("c", "copy('CSV')", "as CSV"),
        Binding("j", "copy('JSON')", "as JSON"),
        Binding("m", "copy('MARKDOWN')", "as Markdown"),
        Binding("f", "to_file", "to a file"),
    ]

    def __init__(self, offered: Sequence[str]) -> None:
        super().__init__()
        self._offered = offered
        self._to_file = False

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading("", id="copy-title")
            yield OptionList(*(Option(Text(words, no_wrap=True)) for words in self._offered))
            yield foot("", id="copy-foot")

    def opened(self) -> None:
        self.query_one(OptionList).highlighted = 0
        self._show()

    def _show(self) -> None:
        where = "a file" if self._to_file else "the clipboard"
        other = "the clipboard" if self._to_file else "a file"
        self.query_one("#copy-title", Static).update(f"Copy to {where}")
        self.query_one("#copy-foot", Foot).say(
            f"Enter as text · c CSV · j JSON · m Markdown\nf to {other} · Escape closes"
        )

    def action_to_file(self) -> None:
        """Have it written to a file, or to the clipboard again."""
        self._to_file = not self._to_file
        self._show()

    def action_copy(self, form: str) -> None:
        place = self.query_one(OptionList).highlighted or 0
        self.dismiss(CopyWish(place, CopyForm[form], self._to_file))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(CopyWish(event.option_index, CopyForm.TEXT, self._to_file))
