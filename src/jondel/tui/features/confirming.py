"""Asking before something is done: one way for all features."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from jondel.tui.frame.desk import Desk

if TYPE_CHECKING:
    from jondel.tui.dialogs.confirm import Confirmed, Question


async def confirm(desk: Desk, title: str, lines: Sequence[str], yes: str) -> bool:
    """Ask whether to do something; ``yes`` says what is done then."""
    from jondel.tui.dialogs.confirm import Confirmed, Question  # most keys ask nothing

    return await answer_to(desk, Question(title, yes, lines)) is Confirmed.YES


async def answer_to(desk: Desk, question: Question) -> Confirmed:
    """Ask whether to do all of something, nothing, or only the part that is offered."""
    from jondel.tui.dialogs.confirm import ConfirmDialog

    return await desk.ask(ConfirmDialog(question))
