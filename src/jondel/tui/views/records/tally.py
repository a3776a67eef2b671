"""The line under a sheet that adds up a column."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

from jondel.core.browse.display import safe_name
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import RowService
from jondel.tui.views.records.captions import tally_parts
from jondel.tui.widgets.bands import Band


class Tallied(NamedTuple):
    """The rows to add up: those that are selected, or else those that pass the filter."""

    moment: Moment
    table: Table
    arrangement: Arrangement
    selected: Collection[Position]


class TallyBand(Band):
    """Counts and sums of one column; away while no column is tallied."""

    def __init__(self) -> None:
        super().__init__(classes="title")
        self.column = ""
        """The column that is tallied; empty for none."""

    def begin(self, column: str) -> None:
        """Say that a column is about to be added up."""
        self.column = column
        self.display = True
        self.show([(f" {safe_name(column)}: adding up …", "dim")])

    def close(self) -> None:
        """Tally no column any more."""
        self.column = ""
        self.display = False

    async def add_up(self, rows: RowService, tallied: Tallied) -> None:
        """Add the column up, and say what came of it."""
        name, only = self.column, sorted(tallied.selected, key=repr) or None
        arrangement = tallied.arrangement
        try:
            tally = await rows.ask(
                tallied.moment,
                lambda database: database.finder.tally(tallied.table, name, arrangement, only),
            )
        except Cancelled:
            return
        except JondelError as error:
            self.show([(f" {error}", "plain")])
            return
        which = "selected" if only else "filtered" if arrangement.condition is not None else ""
        self.show(tally_parts(name, tally, which))
