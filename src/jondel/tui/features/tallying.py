"""Adding up a column."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.views.records.access import records_view


class Tallying(Feature):
    """Over the rows of the filter, or over those that are chosen."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "tally",
            "add up",
            "total this column over the filtered or selected rows",
            "The sheet",
            self._toggle,
            ("y",),
            contexts=RECORDS,
            refusal=needs_table,
        )

    def _toggle(self) -> None:
        records_view(self.desk).pane.toggle_tally()
