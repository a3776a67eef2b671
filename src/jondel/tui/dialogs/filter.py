"""The dialog of a sheet's filter: words, conditions and SQL, each showing what the others say."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.condition_words import condition_words
from jondel.core.browse.display import line, safe_name
from jondel.core.browse.filter_edit import (
    FilterLine,
    lines_of,
    with_condition,
    with_line,
    with_other_joint,
    with_words,
    words_in,
)
from jondel.core.browse.sheet_states import SheetState
from jondel.core.errors import JondelError
from jondel.core.model.filters import Arrangement, Condition, Filter, Layer
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.conditions import condition_of
from jondel.core.sql.values_in_sql import styled
from jondel.tui.dialogs.condition import ConditionDialog
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading, problem_line
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import RowService
from jondel.tui.widgets.sql_field import SqlField
from jondel.tui.widgets.text_fields import TextField, entered_text

_HUSH_SECONDS = 0.6
"""A word that is being typed is wrong until its end; nobody wants to hear that at every letter."""
_MOST_VALUES = 500
"""So many of a column's values are offered to choose from."""


class ConditionList(OptionList):
    """The conditions of the filter, one a line."""

    BINDINGS = [
        Binding("space", "screen.switch", "on or off"),
        Binding("delete", "screen.drop", "drop"),
        Binding("plus,a", "screen.add", "add"),
        Binding("o", "screen.joint", "and / or"),
    ]


class FilterDialog(Dialog[SheetState | None]):
    """Changes a filter; returns the sheet's state with it, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        # At once, so that what is typed next goes into the next field.
        Binding("tab", "app.focus_next", "on", priority=True),
        Binding("shift+tab", "app.focus_previous", "back", priority=True),
        Binding("ctrl+s", "take", "filter"),
    ]

    def __init__(
        self, rows: RowService, moment: Moment, table: Table, state: SheetState, column: str
    ) -> None:
        super().__init__()
        self._rows = rows
        self._moment = moment
        self._table = table
        self._state = state
        self._column = column
        self._filter = state.filter if state.filter is not None else Filter()
        self._lines: list[FilterLine] = []
        self._values: dict[str, Sequence[StoredValue]] = {}

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            title = f"Filter {safe_name(self._table.id)}"
            yield heading(title)
            yield field_heading("words in any column")
            yield TextField(id="filter-words", classes="field")
            yield field_heading("conditions")
            yield ConditionList(id="conditions", markup=False)
            yield field_heading("the same in SQL")
            dialect = self._rows.dialect(self._moment)
            field = SqlField(
                self._table, self._values_of, dialect, id="filter-sql", classes="field"
            )
            yield field
            yield field.ways
            yield problem_line("filter-problem")
            yield foot(
                "Enter in a field, or Ctrl+S, filters · Tab next field · Escape closes\n"
                "in the list: Enter edits · + adds · Space on or off · o and / or · "
                "Del removes"
            )

    def opened(self) -> None:
        self._show_lines()
        self._show_words()
        self._show_sql()
        self.set_focus(self.query_one("#filter-words", TextField))

    # What is shown

    def _show_lines(self) -> None:
        self._lines = lines_of(self._filter)
        options = self.query_one(ConditionList)
        place = options.highlighted or 0
        options.clear_options()
        options.add_options([*map(self._option, self._lines), Option(Text("+ a condition"))])
        options.highlighted = min(place, len(self._lines))

    def _option(self, shown: FilterLine) -> Option:
        colours = self.app.theme_variables
        dim = Style(color=colours["sand-dim"])
        mark = "✓" if shown.on else "·"
        text = Text(f"{mark} ", no_wrap=True)
        text.append(f"{shown.joint:<4}", dim)
        text.append("  " * (len(shown.path) - 1))
        text.append(condition_words(shown.condition), None if shown.on else dim)
        if not shown.on:
            text.append("  off", dim)
        return Option(text)

    def _show_words(self) -> None:
        self._put("#filter-words", words_in(self._filter))

    @work(group="sql", exclusive=True)
    async def _show_sql(self) -> None:
        condition = self._filter.condition
        if condition is None:
            self._put("#filter-sql", "")
            self._say("")
            return
        arrangement = Arrangement(condition)
        try:
            statement = await self._rows.ask(
                self._moment,
                lambda database: database.finder.statement(self._table, arrangement, ["x"]),
            )
        except JondelError as error:
            self._say(str(error))
            return
        text, _ = styled(statement, "literals")
        self._put("#filter-sql", text.partition(" WHERE ")[2].strip())
        await self._check(condition)

    def _put(self, field: str, text: str) -> None:
        """Put text into a field without taking it for typed."""
        box = self.query_one(field, TextField)
        if box.entered != text:
            with self.prevent(TextField.Changed):
                box.entered = text

    def _say(self, words: str) -> None:
        self.query_one("#filter-problem", Static).update(line(words, 1000) if words else "")

    async def _values_of(self, column: str) -> Sequence[StoredValue]:
        """Some of a column's values, to choose from."""
        if column not in self._values:
            with suppress(JondelError):  # then there are none to offer
                self._values[column] = await self._rows.ask(
                    self._moment,
                    lambda database: database.rows.distinct_values(
                        self._table, column, _MOST_VALUES
                    ),
                )
        return self._values.get(column, ())

    async def _check(self, condition: Condition, *, hush: float = 0.0) -> bool:
        """Whether the engine takes it; why not is said after ``hush`` seconds."""
        try:
            await self._rows.ask(
                self._moment,
                lambda database: database.finder.check_condition(self._table, condition),
            )
        except JondelError as error:
            await asyncio.sleep(hush)
            self._say(str(error))
            return False
        self._say("")
        return True

    # What is typed

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        if event.input.id == "filter-words":
            self._filter = with_words(self._filter, entered_text(event))
            self._show_lines()
            self._show_sql()
        elif event.input.id == "filter-sql":
            self._take_sql(entered_text(event))

    @work(group="sql", exclusive=True)
    async def _take_sql(self, text: str) -> None:
        condition = condition_of(text, self._table) if text.strip() else None
        if condition is not None and not await self._check(condition, hush=_HUSH_SECONDS):
            return
        self._say("")
        self._filter = with_condition(self._filter, condition)
        self._show_lines()
        self._show_words()

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        self.action_take()

    @work(group="take", exclusive=True)
    async def action_take(self) -> None:
        """Filter by what is there, unless it cannot be a filter."""
        typed = self.query_one("#filter-sql", TextField).entered
        if self.query_one("#filter-sql", TextField).has_focus:
            condition = condition_of(typed, self._table) if typed.strip() else None
            self._filter = with_condition(self._filter, condition)
        condition = self._filter.condition
        if condition is None or await self._check(condition):
            self.dismiss(self._state._replace(filter=self._filter if self._filter.layers else None))

    # The list

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        if event.option_index < len(self._lines):
            self._change(self._lines[event.option_index])
        else:
            self.action_add()

    @property
    def _current(self) -> FilterLine | None:
        place = self.query_one(ConditionList).highlighted
        return self._lines[place] if place is not None and place < len(self._lines) else None

    def _take_filter(self, changed: Filter) -> None:
        self._filter = changed
        self._show_lines()
        self._show_words()
        self._show_sql()

    def _change(self, chosen: FilterLine) -> None:
        def take(condition: Condition | None) -> None:
            if condition is not None:
                self._take_filter(with_line(self._filter, chosen.path, condition))

        self.app.push_screen(ConditionDialog(self._table, self._column, chosen.condition), take)

    def action_add(self) -> None:
        def take(condition: Condition | None) -> None:
            if condition is not None:
                self._take_filter(Filter((*self._filter.layers, Layer(condition))))

        self.app.push_screen(ConditionDialog(self._table, self._column, None), take)

    def action_switch(self) -> None:
        if self._current is not None:
            number = self._current.path[0]
            layer = self._filter.layers[number]
            self._take_filter(self._filter.changed(number, replace(layer, on=not layer.on)))

    def action_drop(self) -> None:
        if self._current is not None:
            self._take_filter(with_line(self._filter, self._current.path, None))

    def action_joint(self) -> None:
        if self._current is not None:
            self._take_filter(with_other_joint(self._filter, self._current.path))
