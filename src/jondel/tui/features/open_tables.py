"""Several tables: going from one to another, closing them, two side by side."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from jondel.core.browse.display import safe_name
from jondel.core.model.addresses import TableId
from jondel.tui.frame.commands import RECORDS, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import Place
from jondel.tui.views.records.access import records_view

_BESIDE_CELLS = 130
"""From this width of the terminal on, two sheets have room side by side."""


class OpenTables(Feature):
    """Each table is found as it was left."""

    def commands(self) -> Iterable[Command]:
        for key, ways, help in (
            ("comma", -1, "to the open table before"),
            ("full_stop", 1, "to the next open table; 1 to 9 go there at once"),
        ):
            yield Command(
                "tables.before" if ways < 0 else "tables.next",
                "table",
                help,
                "The sheet",
                partial(self._go_on, ways),
                (key,),
                contexts=RECORDS,
                refusal=_needs_others,
                steers=True,
            )
        for number in range(1, 10):
            yield Command(
                f"tables.{number}",
                f"table {number}",
                f"to open table {number}",
                "The sheet",
                partial(self._go_to_number, number),
                (str(number),),
                steers=True,
                listed=False,
            )
        yield Command(
            "tables.close",
            "close",
            "close this table",
            "The sheet",
            self._close,
            ("0",),
            contexts=RECORDS,
            refusal=_needs_others,
        )
        yield Command(
            "beside",
            "beside",
            "show a second sheet beside this one, or close it",
            "The sheet",
            self._toggle_beside,
            ("vertical_line",),
            contexts=RECORDS,
        )

    def arrived(self) -> None:
        records = records_view(self.desk)
        if self.desk.focused is records.sheet:
            records.remember_table()

    def _go_to(self, table: TableId) -> None:
        desk = self.desk
        if desk.state.table(table) is None:
            records_view(desk).forget_table(table)
            desk.say_problem(f"{safe_name(table)} is no longer there")
            return
        destination = desk.navigator.destination
        place = Place(destination.moment, destination.compare_from, table)
        desk.navigator.go(place, view="records", afresh=True, focus=True)

    def _go_to_number(self, number: int) -> None:
        tables = records_view(self.desk).tables
        if number <= len(tables):
            self._go_to(tables[number - 1])
        else:
            self.desk.say(f"there is no open table {number}; t lists all tables")

    def _go_on(self, ways: int) -> None:
        records = records_view(self.desk)
        records.remember_table()
        here = self.desk.navigator.destination.table
        if here in records.tables:
            place = records.tables.index(here) + ways
            self._go_to(records.tables[place % len(records.tables)])

    def _close(self) -> None:
        """Close the current table and go to another open one."""
        records, here = records_view(self.desk), self.desk.place.table
        if here in records.tables:
            place = records.tables.index(here)
            records.forget_table(here)
            self._go_to(records.tables[max(0, place - 1)])

    async def _toggle_beside(self) -> None:
        """Show the table that one was in before beside the current one, or only one table."""
        desk, records = self.desk, records_view(self.desk)
        if len(records.panes) > 1:
            await records.close_beside()
            desk.focus_view()
            return
        if desk.width < _BESIDE_CELLS:
            desk.say_problem(f"two sheets need a terminal at least {_BESIDE_CELLS} columns wide")
            return
        if records.pane.table is None:
            return
        records.remember_table()
        here = records.pane.table.id
        others = [table for table in records.tables if table != here]
        table = desk.state.table(others[-1] if others else here)
        if table is not None:
            await records.put_beside(table)
            desk.focus_view()


def _needs_others(situation: Situation) -> str:
    return "" if situation.open_tables > 1 else "no other table is open; t lists all tables"
