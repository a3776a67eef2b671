"""What all panels over the screen have in common."""

from __future__ import annotations

from typing import TypeVar

from textual.screen import ModalScreen
from textual.widgets import Static

Answer = TypeVar("Answer")


class Panel(ModalScreen[Answer]):
    """A panel in the middle of the screen, which stays visible around it; returns an answer."""

    CSS_PATH = "panels.tcss"


def heading(text: str, *, id: str | None = None) -> Static:
    """The line that says what a panel is for."""
    return Static(text, classes="panel-title", id=id, markup=False)


def field_heading(text: str, *, id: str | None = None) -> Static:
    """The line above a field."""
    return Static(text, classes="field-title", id=id, markup=False)


def problem_line(id: str) -> Static:
    """Where it is said why something cannot be; away while there is nothing to say."""
    return Static("", classes="problem", id=id, markup=False)


def foot(text: str, *, id: str | None = None) -> Static:
    """The last lines of a panel: its keys."""
    return Static(text, classes="panel-foot", id=id, markup=False)
