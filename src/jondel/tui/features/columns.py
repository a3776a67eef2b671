"""The columns of the sheet: shown or hidden, in which order, how wide."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from jondel.core.browse.layout import ColumnLayout
from jondel.core.model.schema import Table
from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.views.records.access import records_view
from jondel.tui.widgets.sheet.columns import NARROWEST, WIDEST

_WIDTH_STEP = 4


class Columns(Feature):
    """Each table's columns are as they were left."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "columns",
            "columns",
            "columns: show, hide, move, freeze",
            "The sheet",
            self._edit,
            ("k",),
            contexts=RECORDS,
            refusal=needs_table,
        )
        for id, key, help, run in (
            ("narrower", "less_than_sign", "make the column narrower", partial(self._widen, -1)),
            ("wider", "greater_than_sign", "make the column wider", partial(self._widen, 1)),
            ("left", "left_curly_bracket", "move the column to the left", partial(self._move, -1)),
            (
                "right",
                "right_curly_bracket",
                "move the column to the right",
                partial(self._move, 1),
            ),
            ("hide", "z", "hide the column; k shows it again", self._hide),
        ):
            yield Command(
                f"columns.{id}",
                id,
                help,
                "The sheet",
                run,
                (key,),
                contexts=RECORDS,
                refusal=needs_table,
            )

    @property
    def _current(self) -> tuple[Table, str, ColumnLayout] | None:
        """The table, the current column and the layout of the sheet."""
        pane = records_view(self.desk).pane
        name = pane.sheet.column_name
        if pane.table is None or pane.source is None or not name:
            return None
        return pane.table, name, pane.state.layout

    async def _edit(self) -> None:
        from jondel.tui.dialogs.columns import ColumnDialog

        current = self._current
        if current is None:
            return
        table, name, layout = current
        chosen = await self.desk.ask(ColumnDialog(table, layout, name))
        if chosen is not None:
            self._lay_out(chosen)

    def _lay_out(self, layout: ColumnLayout) -> None:
        pane = records_view(self.desk).pane
        pane.change_layout(pane.state._replace(layout=layout))
        self.desk.show_card()

    def _widen(self, way: int) -> None:
        current = self._current
        if current is not None:
            width = records_view(self.desk).sheet.current_width + way * _WIDTH_STEP
            wanted = max(NARROWEST, min(width, WIDEST))
            self._lay_out(current[2].with_width(current[1], wanted))

    def _move(self, places: int) -> None:
        current = self._current
        if current is not None:
            table, name, layout = current
            self._lay_out(layout.moved(table.column_names, table.primary_key, name, places))

    def _hide(self) -> None:
        current = self._current
        if current is None:
            return
        table, name, layout = current
        layout = layout.with_hidden(name, True)
        if layout.shown(table.column_names, table.primary_key):
            self._lay_out(layout)
        else:
            self.desk.say("the last column cannot be hidden")
