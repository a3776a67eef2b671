"""What all features that edit share: what may be edited, and what is entered for a value."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import safe_name
from jondel.core.errors import JondelError, ValueUnsuitable, WriteRefused
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, StoredValue, Value
from jondel.tui.frame.commands import Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.draft.value_entry import ValueEntry
    from jondel.core.draft.value_forms import ValueForm


def editing_refusal(situation: Situation) -> str:
    """Why nothing can be edited here; empty where it can."""
    if situation.read_only:
        for_good = situation.read_only_for_good
        why = "Jondel was started with --read-only" if for_good else "Ctrl+R allows editing"
        return f"read-only: {why}"
    if not situation.at_now:
        return "only now can be edited: n goes there"
    return "" if situation.table is not None else "there is no table here"


async def require_editable(desk: Desk) -> Table:
    """The table of the current sheet.

    Raises:
        WriteRefused: it cannot be edited, and why.
    """
    table = records_view(desk).pane.table
    if table is None or records_view(desk).pane.source is None:
        raise WriteRefused("there is no table here")
    await require_table_editable(desk, table)
    return table


async def require_table_editable(desk: Desk, table: Table) -> None:
    """Raises ``WriteRefused`` where a table cannot be edited, and why."""
    reason = await desk.workspace.drafts.why_not(table)
    if reason:
        raise WriteRefused(f"{safe_name(table.id)}: no editing: {reason}")


async def takes_when_left(desk: Desk) -> bool:
    """Whether what is typed in a cell is accepted when the cell is left, by the project's file."""
    from jondel.core.trail.project import Project

    try:
        return await asyncio.to_thread(Project(desk.workspace.location).takes_when_left)
    except JondelError:
        return True  # what is wrong with the file is said where noise rules are read


def form_in(desk: Desk, table: Table, column: Column) -> ValueForm | None:
    """How the values of a column of the current sheet are written, where that can be told."""
    from jondel.core.draft.value_forms import form_of

    pane = records_view(desk).pane
    rows = []
    if pane.table is not None and pane.table.id == table.id:
        rows = pane.sheet.sample_rows()
    index = table.column_names.index(column.name)
    held = [row[index] for row in rows if len(row) > index]
    return form_of(column, held, pane.time_kinds.get(column.name) if rows else None)


async def entered_value(
    desk: Desk, table: Table, column: Column, entry: ValueEntry, before: Value = None
) -> StoredValue:
    """The value that was asked for in a way, or that a text stands for.

    Raises:
        ValueUnsuitable: it cannot be one of the column.
    """
    from jondel.core.draft.value_entry import require_storable

    value = await _value_asked_for(desk, table, column, entry, before)
    require_storable(value, table, column)
    return value


async def _value_asked_for(
    desk: Desk, table: Table, column: Column, entry: ValueEntry, before: Value
) -> StoredValue:
    from jondel.core.draft.value_entry import EntryWay, current_time, entered

    match entry.way:
        case EntryWay.NULL:
            return None
        case EntryWay.EMPTY:
            return ""
        case EntryWay.NOW:
            kind = records_view(desk).pane.time_kinds.get(column.name)
            return current_time(column, kind, datetime.now(UTC), form_in(desk, table, column))
        case EntryWay.AS_TYPED:
            return entry.text
        case EntryWay.DEFAULT:
            return await _default(desk, table, column)
    stored = before if not isinstance(before, Clipped) else None
    return entered(entry.text, table, column, stored, form_in(desk, table, column))


async def _default(desk: Desk, table: Table, column: Column) -> StoredValue:
    value, known = await desk.workspace.drafts.default_of(table, column.name)
    if known:
        return value
    default = (column.default or "").upper()
    if default.startswith("CURRENT_"):
        forms = {"CURRENT_DATE": "%Y-%m-%d", "CURRENT_TIME": "%H:%M:%S"}
        return datetime.now(UTC).strftime(forms.get(default, "%Y-%m-%d %H:%M:%S"))
    raise ValueUnsuitable(f"the default {column.default} is known only on insert")


def draft_changed(desk: Desk) -> None:
    """Show the draft everywhere, and keep it in its file."""
    show_draft(desk)
    desk.start(partial(_keep, desk), "keep-draft", beside=True)


def show_draft(desk: Desk) -> None:
    """Show the draft everywhere."""
    for view in desk.views.opened:
        view.show_draft()
    desk.show_surroundings()
    desk.show_card()


async def _keep(desk: Desk) -> None:
    try:
        await desk.workspace.drafts.keep()
    except JondelError as error:
        desk.say_problem(f"the draft could not be saved: {error}")
