"""What all dialogs have in common: they open over the screen, and return an answer."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import ClassVar, TypeVar

from rich.style import Style
from rich.text import Text
from textual.await_complete import AwaitComplete
from textual.screen import ModalScreen
from textual.widgets import Static
from textual.worker import NoActiveWorker, Worker, get_current_worker

from jondel.tui.frame.keys import named
from jondel.tui.widgets.text_fields import TextBox, TextField

Answer = TypeVar("Answer")


class Dialog(ModalScreen[Answer]):
    """A dialog in the middle of the screen, which stays visible around it."""

    CSS_PATH = str(Path(__file__).with_name("dialog.tcss"))  # wherever the dialog is defined
    TAKES_TYPED_AHEAD: ClassVar[bool] = True
    """Whether keys typed before it was seen are for it; not where they would confirm something."""

    def dismiss(self, result: Answer | None = None) -> AwaitComplete:
        """Close with this answer, unless another dialog has been opened over it meanwhile.

        Work that the dialog began is given up: it would go on among fields that are taken away.
        """
        if not self.is_active:
            return AwaitComplete()
        caller = _caller()
        for worker in list(self.workers):
            if worker is not caller and self in worker.node.ancestors_with_self:
                worker.cancel()
        return super().dismiss(result)

    def opened(self) -> None:
        """What it is made of is there. Not called where it was closed before it came to that."""

    def on_mount(self) -> None:
        # Closed before it came to this, its parts are not there or are being taken away.
        if self.is_attached and self in self.app.screen_stack and self.display:
            self.call_after_refresh(self._close_gap)
            self.opened()

    def on_resize(self) -> None:
        self.call_after_refresh(self._close_gap)

    def fit_height(self) -> None:
        """Be as high as what is in it now."""
        for frame in self.query(".dialog"):
            frame.styles.height = None
        self.call_after_refresh(self._close_gap)

    def _close_gap(self) -> None:
        """Be no higher than what is seen: the toolkit makes room for all of a list that scrolls."""
        for frame in self.query(".dialog"):
            seen = [child.region.bottom for child in frame.children if child.display]
            height = max(seen, default=0) - frame.region.y + frame.styles.padding.bottom
            if 0 < height < frame.region.height and not frame.has_class("tall"):
                frame.styles.height = height


def _caller() -> Worker[object] | None:
    """The work that is asking for something now, if it is not a key."""
    try:
        return get_current_worker()
    except NoActiveWorker:
        return None


def heading(text: str, *, id: str | None = None) -> Static:
    """The line that says what a dialog is for."""
    return Static(text, classes="dialog-title", id=id, markup=False)


def field_heading(text: str, *, id: str | None = None) -> Static:
    """The line above a field."""
    return Static(text, classes="field-title", id=id, markup=False)


def problem_line(id: str) -> Static:
    """Where it is said why something cannot be; away while there is nothing to say."""
    return Static("", classes="problem", id=id, markup=False)


class Foot(Static):
    """The last lines of a dialog: its keys, each with what it does. A click does what the key does,
    where that confirms nothing."""

    def __init__(self, text: str, *, id: str | None = None) -> None:
        super().__init__(_with_links(text), classes="dialog-foot", id=id, markup=False)

    def say(self, text: str, *, confirming: Collection[str] = ()) -> None:
        """Show other keys; those that confirm something cannot be clicked."""
        self.update(_with_links(text, confirming))

    def action_press(self, key: str) -> None:
        """Do what a key does, unless that would be typed into a field."""
        typing = isinstance(self.screen.focused, TextField | TextBox) and len(key) == 1
        if not typing:
            self.app.simulate_key(key)


def _with_links(text: str, confirming: Collection[str] = ()) -> Text:
    """The keys, parted by dots, each a link that presses it."""
    shown = Text()
    for number, row in enumerate(text.split("\n")):
        shown.append("\n" if number else "")
        for place, part in enumerate(row.split(" · ")):
            shown.append(" · " if place else "")
            first = part.split(" ", 1)[0]
            key = named(first)
            if key is not None and key not in confirming:
                shown.append(part, Style(meta={"@click": f"press({key!r})"}))
            else:
                shown.append(part)
    return shown


def foot(text: str, *, id: str | None = None) -> Foot:
    """The last lines of a dialog: its keys."""
    return Foot(text, id=id)
