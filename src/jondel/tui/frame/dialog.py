"""What all dialogs have in common: they open over the screen, and return an answer."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar, TypeVar

from textual.screen import ModalScreen
from textual.widgets import Static

Answer = TypeVar("Answer")


class Dialog(ModalScreen[Answer]):
    """A dialog in the middle of the screen, which stays visible around it."""

    CSS_PATH = str(Path(__file__).with_name("dialog.tcss"))  # wherever the dialog is defined
    TAKES_TYPED_AHEAD: ClassVar[bool] = True
    """Whether keys typed before it was seen are for it; not where they would confirm something."""

    def on_mount(self) -> None:
        self.call_after_refresh(self._close_gap)

    def on_resize(self) -> None:
        self.call_after_refresh(self._close_gap)

    def _close_gap(self) -> None:
        """Be no higher than what is seen: the toolkit makes room for all of a list that scrolls."""
        for frame in self.query(".dialog"):
            seen = [child.region.bottom for child in frame.children if child.display]
            height = max(seen, default=0) - frame.region.y + frame.styles.padding.bottom
            if 0 < height < frame.region.height and not frame.has_class("tall"):
                frame.styles.height = height


def heading(text: str, *, id: str | None = None) -> Static:
    """The line that says what a dialog is for."""
    return Static(text, classes="dialog-title", id=id, markup=False)


def field_heading(text: str, *, id: str | None = None) -> Static:
    """The line above a field."""
    return Static(text, classes="field-title", id=id, markup=False)


def problem_line(id: str) -> Static:
    """Where it is said why something cannot be; away while there is nothing to say."""
    return Static("", classes="problem", id=id, markup=False)


def foot(text: str, *, id: str | None = None) -> Static:
    """The last lines of a dialog: its keys."""
    return Static(text, classes="dialog-foot", id=id, markup=False)
