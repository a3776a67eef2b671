"""The Verify view for the features that work on it, without loading it for them."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from jondel.tui.frame.commands import Situation
    from jondel.tui.frame.desk import Desk
    from jondel.tui.views.verify.view import VerifyView


def opened_verify(desk: Desk) -> VerifyView | None:
    """The Verify view, if it has been opened."""
    return cast("VerifyView | None", desk.views.if_opened("verify"))


def needs_line(situation: Situation) -> str:
    """Why nothing can be done with the current line; empty where one is there."""
    return "" if situation.has_record else "there is nothing here yet; + writes an action"
