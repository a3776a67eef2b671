"""The statement behind the sheet: to read, to copy, to replace by another."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import safe_name
from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import Place
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.sql.conditions import Sheetlike


class Statements(Feature):
    """A SELECT that is pasted is shown as a sheet."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        desk.open_select = self._open_text

    def commands(self) -> Iterable[Command]:
        yield Command(
            "statement",
            "statement",
            "the SQL of this sheet",
            "The sheet",
            self._show,
            ("q",),
            contexts=RECORDS,
            refusal=needs_table,
            holds_keys=True,
        )

    async def _show(self) -> None:
        from jondel.tui.dialogs.statement import StatementDialog

        desk = self.desk
        rows, pane, table = (
            desk.workspace.rows,
            records_view(desk).pane,
            desk.state.table(desk.place.table),
        )
        assert table is not None, "refused otherwise"
        shown = pane.state.layout.shown(table.column_names, table.primary_key)
        columns = [table.column_names[i] for i in shown]
        arrangement = pane.state.arrangement
        statement = await rows.ask(
            pane.moment, lambda database: database.finder.statement(table, arrangement, columns)
        )
        schema = await rows.schema(pane.moment)
        pasted = await desk.ask(StatementDialog(statement, schema))
        if pasted is not None:
            self._open(pasted)

    def _open_text(self, text: str) -> None:
        """Show a SELECT that was pasted as a sheet."""
        self.desk.start(partial(self._open_pasted, text), "statement")

    async def _open_pasted(self, text: str) -> None:
        from jondel.core.sql.conditions import sheet_of

        schema = await self.desk.workspace.rows.schema(self.desk.place.moment)
        pasted = sheet_of(text, schema)
        self._open(pasted)
        self.desk.say(f"the pasted SELECT, as a sheet of {safe_name(pasted.table.id)}")

    def _open(self, pasted: Sheetlike) -> None:
        from jondel.core.model.filters import Filter

        desk, pane = self.desk, records_view(self.desk).pane
        state = desk.workspace.sheets.of(pasted.table.id)
        if pane.table is not None and pane.table.id == pasted.table.id:
            state = pane.state
        condition, layout = pasted.arrangement.condition, state.layout
        if pasted.columns is not None:
            others = [name for name in pasted.table.column_names if name not in pasted.columns]
            layout = layout._replace(
                order=(*pasted.columns, *others), hidden=frozenset(others), frozen=0
            )
        state = state._replace(
            filter=Filter().with_layer(condition) if condition is not None else None,
            order=pasted.arrangement.order,
            layout=layout,
            row=0,
        )
        place = desk.place
        there = Place(place.moment, place.compare_from, pasted.table.id, sheet=state)
        leaving = Stop("records", place) if pasted.table.id != place.table else None
        desk.navigator.go(there, view="records", leaving=leaving, focus=True)
