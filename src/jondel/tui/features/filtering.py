"""Filtering the sheet: by words, column by column, in SQL, or by the value one is on."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.browse.display import safe_name
from jondel.core.model.values import Clipped
from jondel.tui.features.arranging import arrange, needs_table
from jondel.tui.frame.commands import RECORDS, Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.model.filters import Condition


class Filtering(Feature):
    """Conditions stack, and can be turned off without being lost."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "filter",
            "filter",
            "filter: by words, column by column, or in SQL",
            "The sheet",
            self._edit,
            ("f",),
            contexts=RECORDS,
            refusal=needs_table,
            footer_rank=lambda _: 70,
        )
        yield Command(
            "filter.off",
            "filter off",
            "turn the filter off or on",
            "The sheet",
            self._toggle,
            ("F",),
            contexts=RECORDS,
            refusal=needs_table,
        )
        for key, only, help in (
            ("equals_sign", True, "only rows with this value"),
            ("exclamation_mark", False, "exclude this value"),
        ):
            yield Command(
                "filter.only" if only else "filter.without",
                "only this" if only else "without this",
                help,
                "The sheet",
                partial(self._by_value, only=only),
                (key,),
                contexts=RECORDS,
                refusal=_needs_record,
            )

    async def _edit(self) -> None:
        from jondel.tui.dialogs.filter import FilterDialog

        desk = self.desk
        pane, table = records_view(desk).pane, desk.state.table(desk.place.table)
        assert table is not None, "refused otherwise"
        column = pane.sheet.column_name
        rows = desk.workspace.rows
        state = await desk.ask(FilterDialog(rows, pane.moment, table, pane.state, column))
        if state is not None:
            arrange(desk, state)

    def _toggle(self) -> None:
        """Turn all conditions off, or on again."""
        from dataclasses import replace

        state = records_view(self.desk).pane.state
        if state.filter is None or not state.filter.layers:
            self.desk.say("there is no filter; f makes one")
            return
        on = state.condition is None
        layers = tuple(replace(layer, on=on) for layer in state.filter.layers)
        arrange(self.desk, state._replace(filter=type(state.filter)(layers)))

    def _by_value(self, *, only: bool) -> None:
        """Filter by the value of the current cell."""
        from jondel.core.model.filters import ColumnCondition

        sheet = records_view(self.desk).sheet
        name, value = sheet.column_name, sheet.current_value
        if name and sheet.current_row is None:
            self.desk.say("this record is not in the table; filter by the value of one that is")
        if not name or sheet.current_record is None:
            return
        if isinstance(value, Clipped):
            self.desk.say_problem(f"{safe_name(name)}: the value is too large to filter by")
        elif value is None:
            condition = ColumnCondition(name, "is NULL" if only else "is not NULL")
            add_condition(self.desk, condition)
        elif value == "":
            add_condition(self.desk, ColumnCondition(name, "is empty" if only else "is not empty"))
        else:
            condition = ColumnCondition(name, "is" if only else "is not", (value,))
            add_condition(self.desk, condition)


def add_condition(desk: Desk, condition: Condition) -> None:
    """Filter the current sheet by one condition more."""
    from jondel.core.model.filters import Filter

    state = records_view(desk).pane.state
    known = state.filter if state.filter is not None else Filter()
    arrange(desk, state._replace(filter=known.with_layer(condition)))


def _needs_record(situation: Situation) -> str:
    return needs_table(situation) or ("" if situation.has_record else "no record is selected")
