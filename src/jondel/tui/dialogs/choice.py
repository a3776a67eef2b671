"""A dialog that offers a list, from which what is typed chooses."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import line
from jondel.tui.frame.dialog import Dialog, foot, heading
from jondel.tui.widgets.text_fields import TextField

_MOST_LISTED = 300


class ChoiceDialog(Dialog[int | str | None]):
    """Lists words; returns the place of the chosen ones, or None.

    Where ``new`` says what a text that is none of them is for, Ctrl+S returns the text.
    """

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("down", "go(1)", "next", show=False),
        Binding("up", "go(-1)", "before", show=False),
        Binding("ctrl+s", "take_text", "as typed"),
    ]

    def __init__(self, title: str, items: Sequence[str], *, new: str = "", text: str = "") -> None:
        super().__init__()
        self._title, self._items, self._new, self._text = title, items, new, text
        self._shown: list[int] = []

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading(self._title)
            yield TextField(
                self._text, id="choice-text", classes="field", placeholder="type to find"
            )
            yield OptionList(id="choices", markup=False)
            new = f" · Ctrl+S {self._new}" if self._new else ""
            yield foot(f"Enter chooses{new} · Escape closes")

    def opened(self) -> None:
        self._list("")
        self.query_one(TextField).focus()

    def _list(self, typed: str) -> None:
        words = typed.casefold().split()
        fitting = (
            place
            for place, item in enumerate(self._items)
            if all(word in item.casefold() for word in words)
        )
        self._shown = list(islice(fitting, _MOST_LISTED))
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options(
            Option(Text(line(self._items[n], 400), no_wrap=True, overflow="ellipsis"))
            for n in self._shown
        )
        options.highlighted = 0 if self._shown else None
        self.fit_height()

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        self._list(self.query_one(TextField).entered)

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self._choose(self.query_one(OptionList).highlighted)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self._choose(event.option_index)

    def _choose(self, place: int | None) -> None:
        if place is not None and place < len(self._shown):
            self.dismiss(self._shown[place])

    def action_go(self, places: int) -> None:
        """Go to another of those that are listed."""
        options = self.query_one(OptionList)
        if options.highlighted is not None:
            options.highlighted = (options.highlighted + places) % len(self._shown)

    def action_take_text(self) -> None:
        """Take what is typed."""
        text = self.query_one(TextField).entered.strip()
        if self._new and text:
            self.dismiss(text)
