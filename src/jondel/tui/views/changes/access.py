"""The Changes view for the features that work on it, without loading it for them."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import AtKey, Place

if TYPE_CHECKING:
    from jondel.tui.frame.desk import Desk
    from jondel.tui.views.changes.change_list import RecordLine
    from jondel.tui.views.changes.view import ChangesView


def opened_changes(desk: Desk) -> ChangesView | None:
    """The Changes view, if it has been opened."""
    return cast("ChangesView | None", desk.views.if_opened("changes"))


def current_change(desk: Desk) -> RecordLine | None:
    """The change that the cursor of Changes is on, if it has been opened and lists any."""
    view = opened_changes(desk)
    return view.list.current if view is not None else None


def stop_at(current: RecordLine, place: Place) -> Stop:
    """Where one is in Changes, to come back to."""
    table, record = current.table, current.record
    columns = () if table.key_is_row_id else table.key_columns
    key = AtKey(columns, record.key, record.row_id)
    return Stop("changes", Place(place.moment, place.compare_from, table.table, key))
