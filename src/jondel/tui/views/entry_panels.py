"""The panels in which values are entered: one, a whole record, or the record that one points to."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Input, OptionList, Static, TextArea
from textual.widgets.option_list import Option

from jondel.core.browse.display import NULL_SIGN, line, safe_name
from jondel.core.browse.links import LinkedRecord
from jondel.core.errors import JondelError
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue, Value
from jondel.tui.views.panel import Panel, foot, heading, problem_line
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.link_nodes import record_words
from jondel.tui.widgets.sheet_columns import remark


class ValuePanel(Panel[tuple[str, bool] | None]):
    """A full editor for a long text or JSON; returns the text and whether it is to be taken as
    typed though it does not suit."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "take it"),
        Binding("ctrl+r", "as_typed", "as typed"),
        Binding("ctrl+j", "lay_out", "lay JSON out"),
    ]

    def __init__(
        self, title: str, text: str, problem_of: Callable[[str], str], *, json: bool, force: bool
    ) -> None:
        """``problem_of`` says why a text does not suit; empty where it does. ``force``: it can be
        taken all the same."""
        super().__init__()
        self._title = title
        self._text = text
        self._problem_of = problem_of
        self._json = json
        self._force = force

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield heading(line(self._title, 200))
            yield TextArea(self._text, id="value", classes="field", compact=True)
            yield problem_line("value-problem")
            ways = ["Ctrl+S takes it"]
            ways += ["Ctrl+R though it does not suit"] if self._force else []
            ways += ["Ctrl+J lays JSON out"] if self._json else []
            yield foot(" · ".join([*ways, "Escape leaves it as it was"]))

    def on_mount(self) -> None:
        self._check()

    def on_text_area_changed(self, event: TextArea.Changed) -> None:
        event.stop()
        self._check()

    def _check(self) -> bool:
        problem = self._problem_of(self.query_one(TextArea).text)
        self.query_one("#value-problem", Static).update(line(problem, 300) if problem else "")
        return not problem

    def action_take(self) -> None:
        if self._check():
            self.dismiss((self.query_one(TextArea).text, False))

    def action_as_typed(self) -> None:
        if self._force:
            self.dismiss((self.query_one(TextArea).text, True))

    def action_lay_out(self) -> None:
        if self._json:
            from jondel.core.browse.json_lines import laid_out

            self.query_one(TextArea).text = laid_out(self.query_one(TextArea).text)


class EntryPanel(Panel[str | None]):
    """Asks for one value; returns what was typed (``\\x00`` and a way for the other ways)."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+n", "dismiss('\\x00null')", "NULL"),
        Binding("ctrl+y", "dismiss('\\x00empty')", "empty text"),
        Binding("ctrl+l", "dismiss('\\x00default')", "default"),
        Binding("ctrl+t", "dismiss('\\x00now')", "now"),
    ]

    def __init__(self, title: str, text: str = "", foot: str = "") -> None:
        super().__init__()
        self._title = title
        self._text = text
        self._foot = foot

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel wide"):
            yield heading(line(self._title, 200))
            yield Input(self._text, id="entry", classes="field", compact=True)
            ways = "Ctrl+N NULL · Ctrl+Y empty text · Ctrl+L default · Ctrl+T now"
            keys = f"Enter takes it · {ways}\n{self._foot or 'Escape closes'}"
            yield foot(keys)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.dismiss(event.value)


Values = dict[str, StoredValue]


class RecordPanel(Panel[Values | None]):
    """Fills in a new record, column by column; returns the values that were given."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "into the draft"),
        Binding("delete", "clear", "leave to the default"),
    ]

    def __init__(
        self,
        table: Table,
        values: Values,
        enter: Callable[[Column, str, StoredValue], Awaitable[tuple[StoredValue, bool]]],
    ) -> None:
        """``enter`` turns what ``EntryPanel`` returns into a value; False for the default."""
        super().__init__()
        self._table = table
        self._values = dict(values)
        self._enter = enter
        self._columns = [column for column in table.columns if not column.generated]

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            title = f"A new record of {safe_name(self._table.name)}"
            yield heading(title)
            yield OptionList(id="record-columns", markup=False)
            yield problem_line("record-problem")
            yield foot(
                "Enter fills a column in · Del leaves it to its default\n"
                "Ctrl+S puts the record into the draft · Escape closes"
            )

    def on_mount(self) -> None:
        self._fill(0)

    def on_resize(self) -> None:
        self._fill(self.query_one(OptionList).highlighted or 0)

    def _fill(self, place: int) -> None:
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options([self._option(column) for column in self._columns])
        if self._columns:
            options.highlighted = place

    def _option(self, column: Column) -> Option:
        colours = self.app.theme_variables
        dim, red = Style(color=colours["sand-dim"]), Style(color=colours["removed"])
        room = max(20, self.query_one(OptionList).scrollable_content_region.width - 4)
        text = Text(fitted_text(safe_name(column.name), room // 4) + "  ", no_wrap=True)
        if column.name in self._values:
            words, style = line(self._values[column.name], room), Style.null()
        elif self._required(column):
            words, style = "required", red
        elif column.default is not None:
            words, style = f"default {line(column.default, room)}", dim
        elif self._numbers_itself(column):
            words, style = "numbers itself", dim
        else:
            words, style = NULL_SIGN, dim
        text.append(fitted_text(words, room // 2 - room // 6) + "  ", style)
        text.append(fitted_text(remark(self._table, column), room // 4 + room // 6), dim)
        return Option(text)

    def _required(self, column: Column) -> bool:
        bare = column.not_null and column.default is None
        in_key = bool(column.key_position) and self._table.without_row_id
        return (bare or in_key) and not self._numbers_itself(column)

    def _numbers_itself(self, column: Column) -> bool:
        alone = self._table.primary_key == (column.name,) and not self._table.without_row_id
        return alone and column.declared_type.upper() == "INTEGER"

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        place = event.option_index
        column = self._columns[place]
        before = self._values.get(column.name)
        from jondel.core.draft.entering import as_entered, untouched

        def take(typed: str | None) -> None:
            if typed is None:
                return
            if untouched(typed, before):
                self._fill(min(place + 1, len(self._columns) - 1))
            else:
                self._entered(place, column, typed, before)

        title = f"{safe_name(column.name)}, {remark(self._table, column)}"
        about = (
            "it holds a blob: what is typed takes its place" if isinstance(before, bytes) else ""
        )
        self.app.push_screen(EntryPanel(title, as_entered(before), about), take)

    @work(group="enter", exclusive=True)
    async def _entered(self, place: int, column: Column, typed: str, before: StoredValue) -> None:
        try:
            value, given = await self._enter(column, typed, before)
        except JondelError as error:
            self.query_one("#record-problem", Static).update(line(str(error), 300))
            return
        if given:
            self._values[column.name] = value
        else:
            self._values.pop(column.name, None)
        self.query_one("#record-problem", Static).update("")
        self._fill(min(place + 1, len(self._columns) - 1))

    def action_clear(self) -> None:
        place = self.query_one(OptionList).highlighted or 0
        self._values.pop(self._columns[place].name, None)
        self._fill(place)

    def action_take(self) -> None:
        missing = [
            c.name for c in self._columns if self._required(c) and c.name not in self._values
        ]
        if missing:
            places = [column.name for column in self._columns]
            self.query_one(OptionList).highlighted = places.index(missing[0])
            words = f"{', '.join(map(safe_name, missing))}: must be filled in"
            self.query_one("#record-problem", Static).update(words)
        else:
            self.dismiss(self._values)


Search = Callable[[str], Awaitable[list[LinkedRecord]]]


class PickPanel(Panel[LinkedRecord | None]):
    """Finds a record of a table by words; returns it."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("down", "into_list", "to the records", show=False),
    ]

    def __init__(self, table: str, search: Search) -> None:
        super().__init__()
        self._table = table
        self._search_for = search
        self._found: list[LinkedRecord] = []
        self._found_for: str | None = None
        self._taken = False

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel wide"):
            title = f"Which record of {safe_name(self._table)}"
            yield heading(title)
            yield Input(id="pick-words", classes="field", compact=True, placeholder="words")
            yield OptionList(id="pick-found", markup=False)
            yield problem_line("pick-problem")
            yield foot("Enter takes it · Escape closes")

    def on_mount(self) -> None:
        self._search("")

    def on_input_changed(self, event: Input.Changed) -> None:
        event.stop()
        self._taken = False
        self._search(event.value)

    @work(group="pick", exclusive=True)
    async def _search(self, words: str) -> None:
        try:
            self._found = await self._search_for(words)
        except JondelError as error:
            self.query_one("#pick-problem", Static).update(line(str(error), 300))
            return
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options([Option(Text(_pick_words(f), no_wrap=True)) for f in self._found])
        options.highlighted = 0 if self._found else None
        self._found_for = words
        if self._taken and self._found:
            self.dismiss(self._found[0])

    def action_into_list(self) -> None:
        self.set_focus(self.query_one(OptionList))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        place = self.query_one(OptionList).highlighted
        if self._found_for != event.value:
            self._taken = True  # as soon as it is found
        elif place is not None and place < len(self._found):
            self.dismiss(self._found[place])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._found[event.option_index])


def _pick_words(record: LinkedRecord) -> str:
    others: list[Value] = [v for v in record.row if isinstance(v, str) and v][1:3]
    return "  ".join([record_words(record), *(line(value, 24) for value in others)])
