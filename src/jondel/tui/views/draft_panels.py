"""The panels of the draft: its entries, its statements, its conflicts; entering whole values."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.widgets import Input, OptionList, Static, TextArea
from textual.widgets.option_list import Option

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.links import LinkedRecord
from jondel.core.draft.draft import Entry
from jondel.core.draft.planning import DraftPlan, entry_words
from jondel.core.draft.writing import Conflict
from jondel.core.errors import JondelError
from jondel.core.model.schema import Column, Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import StoredValue, Value, identical
from jondel.tui.views.panel import Panel
from jondel.tui.widgets.link_nodes import record_words
from jondel.tui.widgets.sheet_columns import remark

_MOST_STATEMENTS = 500
_SHOWN_CHARACTERS = 200


class DraftPanel(Panel[tuple[str, int] | None]):
    """Lists the draft's entries; returns what is wanted (``go``, ``drop``, ``all``, ``write``)
    and of which entry."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("delete,minus", "wish('drop')", "drop"),
        Binding("D", "wish('all')", "drop all"),
        Binding("W", "wish('write')", "write"),
    ]

    def __init__(self, entries: Sequence[Entry], place: int = 0) -> None:
        super().__init__()
        self._entries = entries
        self._place = place

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            count = len(self._entries)
            title = f"The draft: {count} record{'' if count == 1 else 's'}, nothing written yet"
            yield Static(title, classes="panel-title", markup=False)
            words = [line(entry_words(entry), _SHOWN_CHARACTERS) for entry in self._entries]
            yield OptionList(*(Option(Text(w, no_wrap=True)) for w in words), markup=False)
            yield Static(
                "Enter goes to the record · Del drops it · D drops all · W writes · Escape closes",
                classes="panel-foot",
                markup=False,
            )

    def on_mount(self) -> None:
        if self._entries:
            self.query_one(OptionList).highlighted = min(self._place, len(self._entries) - 1)

    def action_wish(self, wish: str) -> None:
        self.dismiss((wish, self.query_one(OptionList).highlighted or 0))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(("go", event.option_index))


class WritePanel(Panel[bool]):
    """Shows the statements that would write a draft; returns whether to run them."""

    BINDINGS = [
        Binding("escape", "dismiss(False)", "not now"),
        Binding("enter", "dismiss(True)", "write"),
    ]

    def __init__(self, planned: DraftPlan, statements: Sequence[Statement]) -> None:
        super().__init__()
        self._planned = planned
        self._statements = statements

    def compose(self) -> ComposeResult:
        count = len(self._statements)
        with Vertical(classes="panel full"):
            title = f"{count} statement{'' if count == 1 else 's'}, one transaction, in this order"
            yield Static(title, classes="panel-title", markup=False)
            with VerticalScroll():
                yield Static(self._text(), id="confirm-text", markup=False)
            cascaded = self._planned.cascaded
            more = f"{cascaded} of them go with what is deleted · " if cascaded else ""
            yield Static(
                f"{more}Enter writes them, all or none · Escape does not",
                classes="panel-foot",
                markup=False,
            )

    def on_mount(self) -> None:
        self.set_focus(self.query_one(VerticalScroll))

    def _text(self) -> Text:
        colours = self.app.theme_variables
        dim, brass = Style(color=colours["sand-dim"]), Style(color=colours["brass"])
        text = Text()
        for number, statement in enumerate(self._statements[:_MOST_STATEMENTS], 1):
            text.append(f"{number:>3}  ", brass)
            text.append(line(statement.text(), 4000))
            values = ", ".join(_written(value) for value in statement.values)
            text.append(f"\n     {values or 'no values'}\n", dim)
        if len(self._statements) > _MOST_STATEMENTS:
            text.append(f"     … {len(self._statements) - _MOST_STATEMENTS} more", dim)
        return text


def _written(value: StoredValue) -> str:
    shown = line(value, 80)
    return f"'{shown}'" if isinstance(value, str) and value else shown


class ConflictPanel(Panel[list[bool] | None]):
    """Shows what the app changed meanwhile beside what was edited; returns for each record
    whether mine is kept."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "later"),
        Binding("m", "choose(True)", "mine"),
        Binding("t", "choose(False)", "theirs"),
        Binding("down", "step(1)", "next", show=False),
        Binding("up", "step(-1)", "previous", show=False),
        Binding("enter", "take", "take it"),
    ]

    def __init__(self, conflicts: Sequence[Conflict]) -> None:
        super().__init__()
        self._conflicts = conflicts
        self._chosen: list[bool | None] = [None] * len(conflicts)
        self._place = 0

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield Static(
                "Nothing was written: the app changed these meanwhile",
                classes="panel-title",
                markup=False,
            )
            with VerticalScroll():
                yield Static("", id="conflict-text", markup=False)
            yield Static("", id="conflict-problem", classes="problem", markup=False)
            yield Static(
                "↑ ↓ from record to record · m keeps mine · t keeps theirs\n"
                "Enter goes on when all are chosen · Escape leaves the draft as it is",
                classes="panel-foot",
                markup=False,
            )

    def on_mount(self) -> None:
        self._show()
        self.focus()

    def _show(self) -> None:
        colours = self.app.theme_variables
        dim, brass = Style(color=colours["sand-dim"]), Style(color=colours["brass"], bold=True)
        text = Text()
        for number, conflict in enumerate(self._conflicts):
            here = number == self._place
            words = {None: "not chosen", True: "mine", False: "theirs"}[self._chosen[number]]
            text.append("› " if here else "  ", brass)
            position = " · ".join(line(value, 30) for value in conflict.edit.position)
            text.append(f"{safe_name(conflict.edit.table)} {position}", brass if here else None)
            text.append(f"   {words}\n", dim)
            if here:
                self._append_cells(text, conflict, dim)
        self.query_one("#conflict-text", Static).update(text)

    def _append_cells(self, text: Text, conflict: Conflict, dim: Style) -> None:
        edit = conflict.edit
        rows = [("", "as it was", "theirs, now", "mine")]
        original = dict(edit.original)
        theirs = dict(zip(conflict.table.column_names, conflict.theirs or (), strict=False))
        for name in conflict.table.column_names:
            before, now = original.get(name), theirs.get(name)
            moved = conflict.theirs is not None and not identical(before, now)
            if moved or name in edit.values:
                mine = edit.values.get(name, before)
                rows.append((safe_name(name), line(before, 26), line(now, 26), line(mine, 26)))
        if conflict.theirs is None:
            rows.append(("", "", "deleted", "" if edit.values else "deleted"))
        if edit.deleted:
            rows.append(("", "", "", "delete the record"))
        for number, (name, before, now, mine) in enumerate(rows):
            style = dim if number == 0 else None
            text.append(f"      {name:<16} {before:<27} {now:<27} {mine}\n", style)

    def action_step(self, places: int) -> None:
        self._place = max(0, min(self._place + places, len(self._conflicts) - 1))
        self._show()

    def action_choose(self, mine: bool) -> None:
        self._chosen[self._place] = mine
        following = [n for n, chosen in enumerate(self._chosen) if chosen is None]
        self._place = following[0] if following else self._place
        self._show()

    def action_take(self) -> None:
        if None in self._chosen:
            words = "choose m or t for every record first"
            self.query_one("#conflict-problem", Static).update(words)
        else:
            self.dismiss([bool(chosen) for chosen in self._chosen])


class ValuePanel(Panel[str | None]):
    """A full editor for a long text or JSON; returns the text, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "take it"),
        Binding("ctrl+k", "as_typed", "as typed"),
        Binding("ctrl+j", "lay_out", "lay JSON out"),
    ]

    def __init__(self, title: str, text: str, *, json: bool) -> None:
        """``json``: what is typed must be JSON, unless it is taken as typed on purpose."""
        super().__init__()
        self._title = title
        self._text = text
        self._json = json

    def compose(self) -> ComposeResult:
        with Vertical(classes="panel full"):
            yield Static(line(self._title, 200), classes="panel-title", markup=False)
            yield TextArea(self._text, id="value", classes="field", compact=True)
            yield Static("", id="value-problem", classes="problem", markup=False)
            also = (
                " · Ctrl+J lays JSON out · Ctrl+K takes it though it is none" if self._json else ""
            )
            yield Static(
                f"Ctrl+S takes it{also} · Escape leaves it as it was",
                classes="panel-foot",
                markup=False,
            )

    def on_mount(self) -> None:
        self._check()

    def on_text_area_changed(self, event: TextArea.Changed) -> None:
        event.stop()
        self._check()

    def _check(self) -> bool:
        problem = ""
        if self._json:
            import json

            try:
                json.loads(self.query_one(TextArea).text)
            except ValueError as error:
                problem = f"not JSON: {error}"
        self.query_one("#value-problem", Static).update(line(problem, 300) if problem else "")
        return not problem

    def action_take(self) -> None:
        if self._check():
            self.dismiss(self.query_one(TextArea).text)

    def action_as_typed(self) -> None:
        self.dismiss(self.query_one(TextArea).text)

    def action_lay_out(self) -> None:
        import json

        if self._json and self._check():
            laid_out = json.loads(self.query_one(TextArea).text)
            self.query_one(TextArea).text = json.dumps(laid_out, indent=2, ensure_ascii=False)


class EntryPanel(Panel[str | None]):
    """Asks for one value; returns what was typed (``\\x00`` and a way for the other ways)."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+n", "dismiss('\\x00null')", "NULL"),
        Binding("ctrl+u", "dismiss('\\x00empty')", "empty text"),
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
            yield Static(line(self._title, 200), classes="panel-title", markup=False)
            yield Input(self._text, id="entry", classes="field", compact=True)
            ways = "Ctrl+N NULL · Ctrl+U empty text · Ctrl+L default · Ctrl+T now"
            foot = f"Enter takes it · {ways}\n{self._foot or 'Escape closes'}"
            yield Static(foot, classes="panel-foot", markup=False)

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
            yield Static(title, classes="panel-title", markup=False)
            yield OptionList(id="record-columns", markup=False)
            yield Static("", id="record-problem", classes="problem", markup=False)
            yield Static(
                "Enter fills a column in · Del leaves it to its default\n"
                "Ctrl+S puts the record into the draft · Escape closes",
                classes="panel-foot",
                markup=False,
            )

    def on_mount(self) -> None:
        self._fill(0)

    def _fill(self, place: int) -> None:
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options([self._option(column) for column in self._columns])
        if self._columns:
            options.highlighted = place

    def _option(self, column: Column) -> Option:
        colours = self.app.theme_variables
        dim, red = Style(color=colours["sand-dim"]), Style(color=colours["removed"])
        text = Text(f"{safe_name(column.name):<24} ", no_wrap=True)
        if column.name in self._values:
            text.append(f"{line(self._values[column.name], 40):<30}")
        elif self._required(column):
            text.append(f"{'required':<30}", red)
        elif column.default is not None:
            text.append(f"{'default ' + line(column.default, 30):<30}", dim)
        elif self._numbers_itself(column):
            text.append(f"{'numbers itself':<30}", dim)
        else:
            text.append(f"{'∅':<30}", dim)
        text.append(f"  {remark(self._table, column)}", dim)
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
        from jondel.core.draft.entering import as_entered

        def take(typed: str | None) -> None:
            if typed is not None:
                self._entered(place, column, typed, before)

        title = f"{safe_name(column.name)}, {remark(self._table, column)}"
        self.app.push_screen(EntryPanel(title, as_entered(before)), take)

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
            yield Static(title, classes="panel-title", markup=False)
            yield Input(id="pick-words", classes="field", compact=True, placeholder="words")
            yield OptionList(id="pick-found", markup=False)
            yield Static("", id="pick-problem", classes="problem", markup=False)
            yield Static("Enter takes it · Escape closes", classes="panel-foot", markup=False)

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
