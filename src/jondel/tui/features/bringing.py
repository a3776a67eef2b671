"""The statement behind what one is at."""

from __future__ import annotations

from jondel.core.browse.links import target_values
from jondel.core.query.change_statements import (
    statement_of_change,
    statement_of_link,
    table_name,
)
from jondel.core.sql.values_in_sql import literal
from jondel.tui.frame.desk import Desk
from jondel.tui.services.moments import AtResult
from jondel.tui.views.changes.access import current_change
from jondel.tui.views.records.access import records_view


async def statement_here(desk: Desk) -> str:
    """The statement behind the sheet, the change, the link of the card, or the highlighted table;
    empty where there is none."""
    dialect = desk.workspace.query.dialect(desk.place.moment)
    if desk.table_list_has_focus and desk.place.table is not None:
        return f"SELECT *\nFROM {table_name(desk.place.table, dialect)}"
    current = desk.card.link if desk.card.has_focus else None
    if current is not None and current.link is not None and current.link.outwards:
        node = current.link
        values = target_values(node.link, node.owner, node.row)
        if values is not None:
            return statement_of_link(node.link, values, dialect)
    if desk.navigator.view == "changes":
        change = current_change(desk)
        return statement_of_change(change.table, change.record, dialect) if change else ""
    if desk.navigator.view != "records" or isinstance(desk.place.moment, AtResult):
        return ""
    pane, table = records_view(desk).pane, desk.state.table(desk.place.table)
    if table is None:
        return ""
    shown = pane.state.layout.shown(table.column_names, table.primary_key)
    columns = [table.column_names[place] for place in shown]
    arrangement = pane.state.arrangement
    statement = await desk.workspace.rows.ask(
        pane.moment, lambda database: database.finder.statement(table, arrangement, columns)
    )
    first, *others = statement.texts
    values_ = [literal(value, dialect.forms) for value in statement.values]
    return first + "".join(v + text for v, text in zip(values_, others, strict=True))
