"""The dialogs in which values are entered: one, a whole record, the record one points to."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import NULL_SIGN, line, safe_name
from jondel.core.browse.link_tree import record_words
from jondel.core.browse.links import LinkedRecord
from jondel.core.draft.value_entry import EntryWay, ValueEntry
from jondel.core.errors import JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.long_text_box import LongTextBox
from jondel.tui.widgets.sheet.headings import column_remark
from jondel.tui.widgets.text_fields import TextBox, TextField, entered_text

_CHECK_LONG_SECONDS = 0.4
"""A long text is checked when nothing has been typed for so long."""


class ValueDialog(Dialog[ValueEntry | None]):
    """A full editor for a long text or JSON."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "take it"),
        Binding("ctrl+r", "as_typed", "as typed"),
        Binding("ctrl+j", "lay_out", "format JSON"),
    ]

    def __init__(
        self, title: str, text: str, problem_of: Callable[[str], str], *, json: bool, force: bool
    ) -> None:
        """``problem_of`` says why a text does not suit; empty where it does. ``force``: it can be
        taken all the same."""
        super().__init__()
        self._title = title
        self._box = LongTextBox(text, id="value", classes="field")
        self._laid_out: tuple[str, str] | None = None
        """The text before and after it was laid out."""
        self._problem_of = problem_of
        self._json = json
        self._force = force

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full tall"):
            yield heading("", id="value-title")
            yield self._box
            yield problem_line("value-problem")
            ways = ["Ctrl+S accepts it"]
            ways += ["Ctrl+R accepts it although it does not fit"] if self._force else []
            ways += ["Ctrl+J lays JSON out"] if self._json else []
            yield foot(" · ".join([*ways, "Escape cancels"]))

    def opened(self) -> None:
        self._box.on_part = self._show_title
        self._show_title()
        self._check()

    def _show_title(self) -> None:
        words, box = line(self._title, 200), self._box
        if box.parts > 1:
            words += f"   part {box.part + 1} of {box.parts}; the cursor leads on"
        self.query_one("#value-title", Static).update(words)

    def on_text_area_changed(self, event: TextBox.Changed) -> None:
        event.stop()
        self._check()

    @work(group="check", exclusive=True)
    async def _check(self) -> None:
        if self._box.parts > 1:
            await asyncio.sleep(_CHECK_LONG_SECONDS)
        await self._is_fit()

    async def _is_fit(self) -> bool:
        """Say what is wrong with the text, and whether nothing is."""
        text = self._entered
        if self._box.parts > 1:
            problem = await asyncio.to_thread(self._problem_of, text)
        else:
            problem = self._problem_of(text)
        self.query_one("#value-problem", Static).update(line(problem, 300) if problem else "")
        return not problem

    @property
    def _entered(self) -> str:
        """The text as it was before it was laid out to be read, if nothing else was changed."""
        text = self._box.entered
        return self._laid_out[0] if self._laid_out and text == self._laid_out[1] else text

    async def action_take(self) -> None:
        if await self._is_fit():
            self.dismiss(ValueEntry(self._entered))

    def action_as_typed(self) -> None:
        if self._force:
            self.dismiss(ValueEntry(self._entered, EntryWay.AS_TYPED))

    async def action_lay_out(self) -> None:
        if not self._json:
            return
        from jondel.core.browse.json_lines import laid_out

        text = self._entered
        laid = laid_out(text) if self._box.parts == 1 else await asyncio.to_thread(laid_out, text)
        self._laid_out = (text, laid)
        self._box.entered = laid


async def _takes_anything(_: ValueEntry) -> None:
    """Nothing that is entered is refused."""


class EntryDialog(Dialog[ValueEntry | None]):
    """Asks for one value; what is refused stays in the field."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+n", "way('NULL')", "NULL"),
        Binding("ctrl+y", "way('EMPTY')", "empty text"),
        Binding("ctrl+l", "way('DEFAULT')", "default"),
        Binding("ctrl+t", "way('NOW')", "now"),
    ]

    def __init__(
        self,
        title: str,
        text: str = "",
        foot: str = "",
        check: Callable[[ValueEntry], Awaitable[None]] = _takes_anything,
    ) -> None:
        """``check`` raises ``JondelError`` for what cannot be the value."""
        super().__init__()
        self._title = title
        self._text = text
        self._foot = foot
        self._check = check

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading(line(self._title, 200))
            yield TextField(self._text, id="entry", classes="field")
            yield problem_line("entry-problem")
            ways = "Ctrl+N NULL · Ctrl+Y empty text · Ctrl+L default · Ctrl+T now"
            keys = f"Enter accepts it · {ways}\n{self._foot or 'Escape closes'}"
            yield foot(keys)

    async def action_way(self, way: str) -> None:
        await self._take(ValueEntry("", EntryWay[way]))

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        self.query_one("#entry-problem", Static).update("")

    async def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        await self._take(ValueEntry(entered_text(event)))

    async def _take(self, entry: ValueEntry) -> None:
        # Not in work of its own: the next key is meant for what comes after this.
        try:
            await self._check(entry)
        except JondelError as error:
            self.query_one("#entry-problem", Static).update(line(str(error), 300))
        else:
            self.dismiss(entry)


Values = dict[str, StoredValue]


class RecordDialog(Dialog[Values | None]):
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
        enter: Callable[[Column, ValueEntry, StoredValue], Awaitable[StoredValue]],
    ) -> None:
        """``enter`` turns what ``EntryDialog`` returns into a value."""
        super().__init__()
        self._table = table
        self._values = dict(values)
        self._enter = enter
        self._columns = [column for column in table.columns if not column.generated]
        self._entered: StoredValue = None
        """The value that was entered last."""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            title = f"A new record of {safe_name(self._table.id)}"
            yield heading(title)
            yield OptionList(id="record-columns", markup=False)
            yield problem_line("record-problem")
            yield foot(
                "Enter edits a column · Del resets it to its default\n"
                "Ctrl+S adds the record to the draft · Escape closes"
            )

    def opened(self) -> None:
        self._fill(0)

    def on_resize(self) -> None:
        if self.children:
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
        elif column.numbered:
            words, style = "auto-numbered", dim
        else:
            words, style = NULL_SIGN, dim
        text.append(fitted_text(words, room // 2 - room // 6) + "  ", style)
        text.append(fitted_text(column_remark(self._table, column), room // 4 + room // 6), dim)
        return Option(text)

    def _required(self, column: Column) -> bool:
        return column.not_null and column.default is None and not column.numbered

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        place = event.option_index
        column = self._columns[place]
        before = self._values.get(column.name)
        from jondel.core.draft.value_entry import as_entered, untouched

        def stays(entry: ValueEntry) -> bool:
            return entry.way is EntryWay.TYPED and untouched(entry.text, before)

        async def check(entry: ValueEntry) -> None:
            if entry.way is not EntryWay.DEFAULT and not stays(entry):
                self._entered = await self._enter(column, entry, before)

        def take(entry: ValueEntry | None) -> None:
            if entry is None:
                return
            if entry.way is EntryWay.DEFAULT:
                self._take(place, column, None, given=False)
            elif stays(entry):
                self._fill(min(place + 1, len(self._columns) - 1))
            else:
                self._take(place, column, self._entered, given=True)

        title = f"{safe_name(column.name)}, {column_remark(self._table, column)}"
        about = "it holds a blob, which typed text replaces" if isinstance(before, bytes) else ""
        self.app.push_screen(EntryDialog(title, as_entered(before), about, check), take)

    def _take(self, place: int, column: Column, value: StoredValue, *, given: bool) -> None:
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
            words = f"{', '.join(map(safe_name, missing))}: a value is required"
            self.query_one("#record-problem", Static).update(words)
        else:
            self.dismiss(self._values)


Search = Callable[[str], Awaitable[list[LinkedRecord]]]


class PickDialog(Dialog[LinkedRecord | None]):
    """Finds a record of a table by words; returns it."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("down", "into_list", "to the records", show=False),
    ]

    def __init__(self, table: TableId, search: Search) -> None:
        super().__init__()
        self._table = table
        self._search_for = search
        self._found: list[LinkedRecord] = []
        self._found_for: str | None = None
        self._taken = False

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            title = f"Pick a record of {safe_name(self._table)}"
            yield heading(title)
            yield TextField(id="pick-words", classes="field", placeholder="words")
            yield OptionList(id="pick-found", markup=False)
            yield problem_line("pick-problem")
            yield foot("Enter accepts it · Escape closes")

    def opened(self) -> None:
        self._search("")

    def on_input_changed(self, event: TextField.Changed) -> None:
        event.stop()
        self._taken = False
        self._search(entered_text(event))

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

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        place = self.query_one(OptionList).highlighted
        if self._found_for != entered_text(event):
            self._taken = True  # as soon as it is found
        elif place is not None and place < len(self._found):
            self.dismiss(self._found[place])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._found[event.option_index])


def _pick_words(record: LinkedRecord) -> str:
    others = [value for value in record.row if isinstance(value, str) and value][1:3]
    return "  ".join([record_words(record), *(line(value, 24) for value in others)])
