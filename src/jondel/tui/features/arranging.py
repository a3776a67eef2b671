"""What sorting and filtering share: the current sheet, arranged another way."""

from __future__ import annotations

from jondel.core.browse.sheet_states import SheetState
from jondel.tui.frame.commands import Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.views.records.access import records_view


def arrange(desk: Desk, state: SheetState) -> None:
    """Show the table of the current sheet by another filter or order, from its first row on."""
    sheet = records_view(desk).sheet
    state = state._replace(row=0, column=sheet.column_name)
    place = desk.place
    desk.navigator.go(place._replace(sheet=state, record=None, column=""), focus=True)


def needs_table(situation: Situation) -> str:
    """Why the current table cannot be arranged; empty where it can."""
    if situation.table is None:
        return "there is no table here"
    return "this table cannot be read" if situation.table.unreadable else ""
