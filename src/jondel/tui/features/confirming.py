"""Asking before something is done: one way for all features."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from jondel.tui.frame.desk import Desk

if TYPE_CHECKING:
    from jondel.tui.dialogs.confirm import Confirmed


async def confirm(desk: Desk, title: str, lines: Sequence[str], yes: str) -> bool:
    """Ask whether to do something; ``yes`` says what is done then."""
    from jondel.tui.dialogs.confirm import Confirmed

    return await confirm_part(desk, title, lines, yes, "") is Confirmed.YES


async def confirm_part(
    desk: Desk, title: str, lines: Sequence[str], yes: str, part: str
) -> Confirmed:
    """Ask whether to do all of something or only a part; ``part`` is empty where there is none."""
    from jondel.tui.dialogs.confirm import ConfirmDialog  # most keys ask nothing

    return await desk.ask(ConfirmDialog(title, lines, yes, part))
