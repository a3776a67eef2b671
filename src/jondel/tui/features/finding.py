"""Finding: a row by its number or key, a value anywhere in the database."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.model.values import Clipped
from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import AtKey, AtPosition, Place
from jondel.tui.views.records.access import records_view
from jondel.tui.views.records.table_rows import TableRows


class Finding(Feature):
    """Going to a hit can be gone back from."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "row.go_to",
            "go to",
            "go to a row by its number or its key",
            "The sheet",
            self._go_to_row,
            ("j",),
            contexts=RECORDS,
            refusal=needs_table,
        )
        yield Command(
            "find",
            "find",
            "find a value anywhere in the database",
            "The sheet",
            self._find,
            ("slash",),
            contexts=RECORDS,
        )

    # A row

    async def _go_to_row(self) -> None:
        from jondel.tui.dialogs.entries import JumpDialog

        pane = records_view(self.desk).pane
        source = pane.source
        if source is None:
            return
        typed = await self.desk.ask(JumpDialog(source.table, pane.sheet.rows))
        if not typed:
            return
        if typed.startswith("#") or not source.table.primary_key:
            self._go_to_number(typed)
        else:
            await self._go_to_key(source, typed)

    def _go_to_number(self, typed: str) -> None:
        sheet = records_view(self.desk).sheet
        number = typed.removeprefix("#").replace(" ", "")
        if number.isdigit() and 1 <= int(number) <= sheet.rows:
            sheet.go_to(int(number) - 1)
        else:
            rows = grouped(sheet.rows)
            self.desk.say_problem(f"{typed}: rows are numbered from 1 to {rows}")

    async def _go_to_key(self, source: TableRows, typed: str) -> None:
        rows, pane = self.desk.workspace.rows, records_view(self.desk).pane
        row = await rows.place_of_key(source.moment, source.cache, typed)
        if row is not None:
            pane.sheet.go_to(row)
            return
        table = source.table
        keys = ", ".join(table.primary_key)
        filtered = " among the filtered rows" if pane.state.condition is not None else ""
        self.desk.say_problem(
            f"{safe_name(table.id)}: no record with {safe_name(keys)} {line(typed)}{filtered}"
        )

    # A value

    async def _find(self) -> None:
        from jondel.core.browse.value_search import FoundCell
        from jondel.tui.dialogs.find import FindDialog

        desk = self.desk
        state, place = desk.state, desk.place
        tables = sorted(state.tables, key=lambda table: table.id != place.table)
        changes = state.changes if state.changes is not None and state.changes.tables else None
        hit = await desk.ask(FindDialog(desk.workspace.rows, place.moment, tables, changes))
        if hit is None:
            return
        leaving = Stop(desk.navigator.view, place)
        if not isinstance(hit, FoundCell):
            columns = () if hit.table.key_is_row_id else hit.table.key_columns
            record = AtKey(columns, hit.record.key, hit.record.row_id)
            there = Place(place.moment, place.compare_from, hit.table.table, record)
            desk.navigator.go(there, view="changes", leaving=leaving, focus=True)
            return
        there = Place(
            place.moment,
            place.compare_from,
            hit.table.id,
            AtPosition(hit.hit.position) if hit.hit.position else None,
            hit.hit.column,
        )
        if not hit.hit.position and not isinstance(hit.hit.value, Clipped):
            # A view's row cannot be gone to, but found by what it holds.
            from jondel.core.model.filters import ColumnCondition, Filter

            known = desk.workspace.sheets.of(hit.table.id)
            condition = ColumnCondition(hit.hit.column, "is", (hit.hit.value,))
            stack = (known.filter or Filter()).with_layer(condition)
            there = there._replace(sheet=known._replace(filter=stack, row=0))
        desk.navigator.go(there, view="records", leaving=leaving, focus=True)
