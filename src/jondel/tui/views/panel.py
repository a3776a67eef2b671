"""What all panels over the screen have in common."""

from __future__ import annotations

from typing import TypeVar

from textual.screen import ModalScreen

Answer = TypeVar("Answer")


class Panel(ModalScreen[Answer]):
    """A panel in the middle of the screen, which stays visible around it; returns an answer."""

    CSS_PATH = "panels.tcss"
