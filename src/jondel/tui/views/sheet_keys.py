"""What a person can do with a sheet: sort it, filter it, lay out its columns, go about in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import events, work
from textual.binding import Binding

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.errors import Cancelled, ConditionInvalid, JondelError
from jondel.core.model.values import Clipped
from jondel.tui.views.moment_screen import MomentScreen
from jondel.tui.widgets.sheet import Sheet

if TYPE_CHECKING:
    from jondel.core.browse.sheet_states import SheetState
    from jondel.core.model.filters import Condition
    from jondel.core.model.schema import Table
    from jondel.tui.views.sheet_pane import SheetPane

_WIDTH_STEP = 4
_BESIDE_CELLS = 130
"""From this width of the terminal on, two sheets have room side by side."""


class SheetKeys(MomentScreen):
    """Adds the keys of the sheet to what is shown of a moment."""

    BINDINGS = [
        Binding("o", "sort(False)", "sort by this column: up, down, not"),
        Binding("O", "sort(True)", "sort by this column too, among equals"),
        Binding("f", "filter", "filter: by words, column by column, or in SQL"),
        Binding("F", "filter_off", "put the whole filter off, or on again"),
        Binding("equals_sign", "only_this(True)", "only rows with this value"),
        Binding("exclamation_mark", "only_this(False)", "everything but this value"),
        Binding("j", "jump", "go to a row by its number or its key"),
        Binding("k", "columns", "columns: show, hide, move, freeze"),
        Binding("less_than_sign", "width(-1)", "the column narrower"),
        Binding("greater_than_sign", "width(1)", "the column wider"),
        Binding("left_curly_bracket", "move_column(-1)", "the column to the left"),
        Binding("right_curly_bracket", "move_column(1)", "the column to the right"),
        Binding("z", "hide_column", "hide the column; k shows it again"),
        Binding("y", "tally", "add up this column, over the filtered or the chosen rows"),
        Binding("q", "statement", "the statement behind the sheet"),
        Binding("slash", "find", "find a value anywhere in the database"),
        Binding("comma", "next_open(-1)", "to the open table before"),
        Binding("full_stop", "next_open(1)", "to the next open table; 1 to 9 go there at once"),
        Binding("0", "close_open", "close this table"),
        Binding("vertical_line", "beside", "a second sheet beside this one, or only one"),
    ]

    @property
    def _pane(self) -> SheetPane:
        return self._records.pane

    @property
    def _known_table(self) -> Table | None:
        """The current table, also where its rows cannot be shown."""
        if self._view != "records":
            return None
        return next((table for table in self._tables if table.name == self._table_name), None)

    def _change_state(self, state: SheetState) -> None:
        """Show the current table by another filter or order."""
        if self._sheet.table is None and not self._sheet.problem:
            return
        self._arrange(state)

    @work(group="sheet", exclusive=True)
    async def _arrange(self, state: SheetState) -> None:
        try:
            with self._busy_with("filtering and sorting"):
                await self._pane.arrange_anew(state)
        except Cancelled:
            self._message.say("stopped: only the first rows are in this order")
        except JondelError as error:
            self._message.say(str(error), problem=True)
        self._mark_sheet()

    # Order

    def action_sort(self, further: bool) -> None:
        """Sort by the current column: upwards, then downwards, then no more."""
        from jondel.core.model.filters import OrderKey

        name = self._sheet.column_name
        if not name or self._view != "records":
            return
        order = self._pane.state.order
        known = next((key for key in order if key.column == name), None)
        if known is None:
            wanted: tuple[OrderKey, ...] = (OrderKey(name),)
        else:
            wanted = () if known.descending else (OrderKey(name, True),)
        if further:
            place = order.index(known) if known is not None else len(order)
            wanted = (*order[:place], *wanted, *order[place + 1 :])
        self._change_state(self._pane.state._replace(order=wanted))

    def on_sheet_heading_clicked(self, event: Sheet.HeadingClicked) -> None:
        event.stop()
        self.action_sort(False)

    # Filter

    def action_filter(self) -> None:
        """Open the panel of the filter."""
        table = self._known_table
        if table is None or table.unreadable:
            return
        from jondel.tui.views.filter_panel import FilterPanel

        def take(state: SheetState | None) -> None:
            if state is not None:
                self._change_state(state)

        pane = self._pane
        self.app.push_screen(
            FilterPanel(self._workspace, pane.moment, table, pane.state, self._sheet.column_name),
            take,
        )

    def action_filter_off(self) -> None:
        """Switch all conditions off, or on again."""
        from dataclasses import replace

        state = self._pane.state
        if state.filter is None or not state.filter.layers:
            self._message.say("there is no filter here; f makes one")
            return
        on = state.condition is None
        layers = tuple(replace(layer, on=on) for layer in state.filter.layers)
        self._change_state(state._replace(filter=type(state.filter)(layers)))

    def action_only_this(self, only: bool) -> None:
        """Filter by the value of the current cell."""
        from jondel.core.model.filters import ColumnCondition

        value = self._sheet.current_value
        name = self._sheet.column_name
        known = self._sheet.record_at(self._sheet.cursor_row)
        if not name or self._view != "records" or self._sheet.current_row is None or not known:
            return
        if isinstance(value, Clipped):
            self._message.say(f"{name}: the value is too large to filter by", problem=True)
            return
        if value is None:
            self._add_condition(ColumnCondition(name, "is NULL" if only else "is not NULL"))
        elif value == "":
            self._add_condition(ColumnCondition(name, "is empty" if only else "is not empty"))
        else:
            self._add_condition(ColumnCondition(name, "is" if only else "is not", (value,)))

    def _add_condition(self, condition: Condition) -> None:
        from jondel.core.model.filters import Filter

        state = self._pane.state
        known = state.filter if state.filter is not None else Filter()
        self._change_state(state._replace(filter=known.with_layer(condition)))

    # Going about

    def action_jump(self) -> None:
        """Ask for a row's number or key, and go there."""
        table = self._sheet.table
        if table is None or self._view != "records":
            return
        from jondel.tui.views.panels import JumpPanel

        def take(typed: str | None) -> None:
            if typed:
                self._jump_to(typed)

        self.app.push_screen(JumpPanel(table, self._sheet.rows), take)

    @work(group="sheet", exclusive=True)
    async def _jump_to(self, typed: str) -> None:
        table, pane, cache = self._sheet.table, self._pane, self._sheet.cache
        if table is None or cache is None:
            return
        number = typed.removeprefix("#").replace(" ", "")
        try:
            if typed.startswith("#") or not table.primary_key:
                if not number.isdigit() or not 1 <= int(number) <= self._sheet.rows:
                    rows = grouped(self._sheet.rows)
                    self._message.say(f"{typed}: rows are numbered from 1 to {rows}", problem=True)
                    return
                self._sheet.go_to(int(number) - 1)
                return
            place = await self._workspace.place_of_key(pane.moment, cache, typed)
        except JondelError as error:
            self._message.say(str(error), problem=True)
            return
        if place is None:
            keys = ", ".join(table.primary_key)
            filtered = " among the filtered rows" if pane.state.condition is not None else ""
            self._message.say(
                f"{safe_name(table.name)}: no record with {safe_name(keys)} {line(typed)}"
                f"{filtered}",
                problem=True,
            )
        else:
            self._sheet.go_to(place)

    # Columns

    def action_columns(self) -> None:
        """Open the panel of the columns."""
        table = self._sheet.table
        if table is None or self._view != "records":
            return
        from jondel.core.browse.layout import ColumnLayout
        from jondel.tui.views.column_panel import ColumnPanel

        def take(layout: ColumnLayout | None) -> None:
            if layout is not None:
                self._lay_out(layout)

        self.app.push_screen(
            ColumnPanel(table, self._pane.state.layout, self._sheet.column_name), take
        )

    def _lay_out(self, layout: object) -> None:
        state = self._pane.state._replace(layout=layout)  # type: ignore[arg-type]
        self._pane.change_state(state)
        self._sheet.lay_out(state.layout)
        self._pane.show_title()
        self._show_card()

    def action_width(self, way: int) -> None:
        name, layout = self._sheet.column_name, self._pane.state.layout
        if name and self._view == "records":
            from jondel.tui.widgets.sheet_columns import NARROWEST, WIDEST

            width = self._sheet.current_width + way * _WIDTH_STEP
            self._lay_out(layout.with_width(name, max(NARROWEST, min(width, WIDEST))))

    def action_move_column(self, places: int) -> None:
        name, table = self._sheet.column_name, self._sheet.table
        if name and table is not None and self._view == "records":
            layout = self._pane.state.layout
            self._lay_out(layout.moved(table.column_names, name, places))

    def action_hide_column(self) -> None:
        name, table = self._sheet.column_name, self._sheet.table
        if not name or table is None or self._view != "records":
            return
        layout = self._pane.state.layout.with_hidden(name, True)
        if not layout.shown(table.column_names):
            self._message.say("the last column stays")
            return
        self._lay_out(layout)

    # Adding up

    def action_tally(self) -> None:
        """Add up the current column; again, close the tally."""
        if self._view == "records" and self._sheet.table is not None:
            self._pane.toggle_tally()

    # The statement, and finding

    def action_statement(self) -> None:
        """Show the statement behind the sheet."""
        table = self._known_table
        if table is None or table.unreadable:
            return
        from jondel.tui.views.statement_panel import StatementPanel

        columns = self._pane.state.layout.shown(table.column_names)
        names = [table.column_names[index] for index in columns]
        self._show_statement(StatementPanel, names)

    @work(group="statement", exclusive=True)
    async def _show_statement(self, panel: type, names: list[str]) -> None:
        table, pane = self._known_table, self._pane
        if table is None:
            return
        arrangement = pane.state.arrangement
        try:
            statement = await self._workspace.ask(
                pane.moment, lambda database: database.statement(table, arrangement, names)
            )
            schema = await self._workspace.schema(pane.moment)
        except ConditionInvalid as error:
            self._message.say(str(error), problem=True)
            return

        def take(pasted: object) -> None:
            if pasted is not None:
                self._take_sheetlike(pasted)

        self.app.push_screen(panel(statement, schema), take)

    @work(group="sheet", exclusive=True)
    async def _take_sheetlike(self, pasted: object) -> None:
        """Show what a pasted SELECT reads as a sheet."""
        from jondel.core.model.filters import Filter
        from jondel.core.sql.conditions import Sheetlike

        assert isinstance(pasted, Sheetlike)
        table = pasted.table
        state = self._workspace.sheets.of(table.name)
        condition = pasted.arrangement.condition
        layout = state.layout
        if pasted.columns is not None:
            others = [name for name in table.column_names if name not in pasted.columns]
            layout = layout._replace(
                order=(*pasted.columns, *others), hidden=frozenset(others), frozen=0
            )
        state = state._replace(
            filter=Filter().with_layer(condition) if condition is not None else None,
            order=pasted.arrangement.order,
            layout=layout,
            row=0,
        )
        self._pane.leave()
        self._pane.put_state(table.name, state)
        await self._show_table(table.name)

    async def _show_table(self, name: str, place: int | None = None) -> None:
        """Go to a table in the current sheet."""
        self._switch("records")
        self._table_name = name
        self._table_list.highlight(name)
        self._sheet.expect()
        try:
            await self._load_sheet(self._moment, keep_place=False, place=place)
        except Cancelled:
            self._sheet.expect_no_more()
        except JondelError as error:
            self._show_problem(error)
        self._records.remember_open()

    def action_find(self) -> None:
        """Open the panel that finds a value anywhere."""
        from jondel.tui.views.find_panel import FindPanel

        current = self._table_name
        tables = sorted(self._tables, key=lambda table: table.name != current)
        changes = self._changes if self._changes is not None and self._changes.tables else None

        def take(found: object) -> None:
            if found is not None:
                self._go_to_found(found)

        self.app.push_screen(FindPanel(self._workspace, self._moment, tables, changes), take)

    @work(group="sheet", exclusive=True)
    async def _go_to_found(self, found: object) -> None:
        from jondel.core.browse.find_value import FoundCell, FoundChange

        if isinstance(found, FoundChange):
            self._switch("changes")
            self._changes_view.changes.find(found.table.table, found.record.key)
            return
        assert isinstance(found, FoundCell)
        hit, table = found.hit, found.table
        place = 0
        if hit.position:
            place = await self._workspace.ask(
                self._moment, lambda database: database.ordinal_of(table, hit.position)
            )
        self._pane.leave()
        await self._show_table(table.name, place)
        self._sheet.go_to(place, hit.column)
        if not hit.position:
            from jondel.core.model.filters import ColumnCondition
            from jondel.core.model.values import Clipped

            # A view's row cannot be gone to, but found by what it holds.
            if not isinstance(hit.value, Clipped):
                self._add_condition(ColumnCondition(hit.column, "is", (hit.value,)))

    # Several tables

    def action_next_open(self, ways: int) -> None:
        """Go to the next of the open tables, or the one before."""
        self._records.remember_open()
        names = self._records.open_tables
        if len(names) < 2 or self._sheet.table is None:
            self._message.say("no other table is open: t lists them all")
            return
        place = names.index(self._sheet.table.name) + ways
        self.go_to_table(names[place % len(names)])

    def on_key(self, event: events.Key) -> None:
        """1 to 9 go to the open tables."""
        if event.character is not None and event.character in "123456789" and not self._typing:
            names = self._records.open_tables
            place = int(event.character) - 1
            if self._view == "records" and place < len(names):
                event.stop()
                self.go_to_table(names[place])

    @property
    def _typing(self) -> bool:
        return self.app.screen is not self

    @work(group="sheet", exclusive=True)
    async def go_to_table(self, name: str) -> None:
        """Go to a table by its name."""
        if name in {table.name for table in self._tables}:
            await self._show_table(name)
        else:
            self._records.forget_open(name)
            self._message.say(f"{safe_name(name)} is not there any more", problem=True)

    def action_close_open(self) -> None:
        """Close the current table and go to another open one."""
        table = self._sheet.table
        names = self._records.open_tables
        if table is None or len(names) < 2 or table.name not in names:
            return
        place = names.index(table.name)
        self._records.forget_open(table.name)
        self.go_to_table(self._records.open_tables[max(0, place - 1)])

    @work(group="beside")
    async def action_beside(self) -> None:
        """Show the table that one was in before beside the current one, or only one table."""
        if len(self._records.panes) > 1:
            await self._records.close_beside()
            self._follow_pane(self._records.pane)
            self._focus_view()
            return
        if self.size.width < _BESIDE_CELLS:
            self._message.say(
                f"two sheets need a terminal of {_BESIDE_CELLS} columns", problem=True
            )
            return
        if self._sheet.table is None or self._view != "records":
            return
        self._records.remember_open()
        current = self._sheet.table.name
        others = [name for name in self._records.open_tables if name != current]
        pane = await self._records.put_beside()
        self._take_sheet(pane)
        self._follow_pane(pane)
        await self._show_table(others[-1] if others else current)
        self.set_focus(pane.sheet)

    def on_sheet_entered(self, event: Sheet.Entered) -> None:
        """Things are done to the sheet that has the focus."""
        event.stop()
        pane = next((p for p in self._records.panes if p.sheet is event.sheet), None)
        if pane is not None and pane is not self._records.pane:
            self._follow_pane(pane)
        self._records.remember_open()

    def _follow_pane(self, pane: SheetPane) -> None:
        self._records.go_to_pane(pane)
        table = pane.sheet.table
        if table is not None:
            self._table_name = table.name
            self._table_list.highlight(table.name)
        self._show_card()
