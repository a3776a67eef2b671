"""The Records view for the features that work on it."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from jondel.tui.frame.desk import Desk
    from jondel.tui.views.records.view import RecordsView


def opened_records(desk: Desk) -> RecordsView | None:
    """The Records view, if it has been opened."""
    return cast("RecordsView | None", desk.views.if_opened("records"))


def records_view(desk: Desk) -> RecordsView:
    """The Records view, loaded now where it was not yet."""
    return cast("RecordsView", desk.views.require("records"))
