"""Sorting the sheet."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from jondel.tui.features.arranging import arrange, needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.views.records.access import records_view


class Sorting(Feature):
    """By a column: upwards, then downwards, then no more."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "order.sort",
            "sort",
            "sort by this column: ascending, descending, off",
            "The sheet",
            partial(self._sort, further=False),
            ("o",),
            contexts=RECORDS,
            refusal=needs_table,
        )
        yield Command(
            "order.sort_further",
            "sort further",
            "sort by this column as well",
            "The sheet",
            partial(self._sort, further=True),
            ("O",),
            contexts=RECORDS,
            refusal=needs_table,
        )

    def _sort(self, *, further: bool) -> None:
        from jondel.core.model.filters import OrderKey

        pane = records_view(self.desk).pane
        name = pane.sheet.column_name
        if not name:
            return
        order = pane.state.order
        known = next((key for key in order if key.column == name), None)
        if known is None:
            wanted: tuple[OrderKey, ...] = (OrderKey(name),)
        else:
            wanted = () if known.descending else (OrderKey(name, True),)
        if further:
            place = order.index(known) if known is not None else len(order)
            wanted = (*order[:place], *wanted, *order[place + 1 :])
        arrange(self.desk, pane.state._replace(order=wanted))
