"""The dialog of a new table: its columns, from which its CREATE TABLE is written."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line
from jondel.core.errors import JondelError
from jondel.core.imports.destination import new_table_id
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, ForeignKey, Schema, Table
from jondel.core.sql.create_table import create_table
from jondel.core.sql.dialect import Dialect
from jondel.tui.dialogs.choice import ChoiceDialog
from jondel.tui.dialogs.entries import LineDialog
from jondel.tui.frame.dialog import Dialog, foot, heading, problem_line
from jondel.tui.widgets.cell_text import fitted_text

_NAME_CELLS, _TYPE_CELLS = 20, 18


class NewColumns(OptionList):
    """The columns, one a line, in their order."""

    BINDINGS = [
        Binding("plus,a", "screen.add", "a column"),
        Binding("delete", "screen.drop", "drop"),
        Binding("y", "screen.change_type", "type"),
        Binding("k", "screen.toggle_mark('key')", "key"),
        Binding("n", "screen.toggle_mark('not null')", "not null"),
        Binding("d", "screen.change_default", "default"),
        Binding("p", "screen.change_link", "points at"),
        Binding("left_curly_bracket", "screen.shift(-1)", "up"),
        Binding("right_curly_bracket", "screen.shift(1)", "down"),
        Binding("t", "screen.change_name", "the table's name"),
    ]


class NewTableDialog(Dialog[str | None]):
    """Puts a table together; returns the statement that makes it, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "into the box"),
    ]

    def __init__(self, schema: Schema, dialect: Dialect) -> None:
        super().__init__()
        self._schema, self._dialect = schema, dialect
        self._called = ""
        first = next(kind for kind in dialect.types if kind.kind == "integer")
        self._columns = [Column("id", first, key_position=1)]
        self._links: dict[str, tuple[TableId, str]] = {}
        """What columns point at, by their names."""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("A new table", id="new-table-title")
            yield NewColumns(id="new-columns", markup=False)
            yield Static("", id="new-table-sql", markup=False)
            yield problem_line("new-table-problem")
            yield foot(
                "+ a column · Enter its name · y type · k key · n not null · d default\n"
                "p points at · { } moves · Del removes · t the table's name\n"
                "Ctrl+S brings the statement into the box · Escape closes"
            )

    def opened(self) -> None:
        self._show(0)
        self.query_one(NewColumns).focus()
        self.action_change_name()

    # What is shown

    def _show(self, place: int) -> None:
        title = f"A new table {line(self._called, 50)}" if self._called else "A new table"
        self.query_one("#new-table-title", Static).update(title)
        options = self.query_one(NewColumns)
        options.clear_options()
        options.add_options(map(self._option, self._columns))
        if self._columns:
            options.highlighted = min(place, len(self._columns) - 1)
        dim = Style(color=self.app.theme_variables["sand-dim"])
        self.query_one("#new-table-sql", Static).update(Text(f"\n{line_by_line(self._sql())}", dim))
        self._say("")
        self.fit_height()

    def _option(self, column: Column) -> Option:
        text = Text(no_wrap=True, overflow="ellipsis")
        text.append(f"{fitted_text(line(column.name, 60), _NAME_CELLS)} ")
        text.append(f"{fitted_text(line(column.type.name, 60), _TYPE_CELLS)} ")
        parts = ["key"] if column.key_position else []
        parts += ["not null"] if column.not_null else []
        parts += [f"default {line(column.default, 40)}"] if column.default else []
        link = self._links.get(column.name)
        parts += [f"→ {link[0]}.{link[1]}"] if link else []
        return Option(text.append(" · ".join(parts)))

    def _say(self, words: str) -> None:
        self.query_one("#new-table-problem", Static).update(line(words, 400) if words else "")

    def _sql(self) -> str:
        links = tuple(
            ForeignKey((name,), table, (column,)) for name, (table, column) in self._links.items()
        )
        name = TableId.parsed(self._called) if self._called else TableId("name")
        return create_table(Table(name, "table", tuple(self._columns), links), self._dialect)

    # What is changed

    @property
    def _place(self) -> int:
        return self.query_one(NewColumns).highlighted or 0

    def _put(self, column: Column) -> None:
        old = self._columns[self._place]
        if old.name != column.name and old.name in self._links:
            self._links[column.name] = self._links.pop(old.name)
        self._columns[self._place] = column
        keys = [n for n, one in enumerate(self._columns) if one.key_position]
        for number, place in enumerate(keys, 1):
            self._columns[place] = self._columns[place]._replace(key_position=number)
        self._show(self._place)

    async def _asked(self, title: str, text: str, hint: str = "") -> str | None:
        return await self.app.push_screen_wait(LineDialog(title, text, hint))

    @work(exclusive=True)
    async def action_change_name(self) -> None:
        """Name the table."""
        name = await self._asked("What is the new table called?", self._called)
        if name:
            try:
                new_table_id(name, self._schema, self._dialect)
            except JondelError as error:
                self._say(str(error))
                return
            self._called = name
            self._show(self._place)

    @work(exclusive=True)
    async def action_add(self) -> None:
        """Add a column behind the others."""
        name = await self._asked("The new column's name", "")
        if name and self._free(name):
            text = next(kind for kind in self._dialect.types if kind.kind == "text")
            self._columns.append(Column(name, text))
            self._show(len(self._columns) - 1)

    def _free(self, name: str, besides: str = "") -> bool:
        taken = any(
            c.name.casefold() == name.casefold() for c in self._columns if c.name != besides
        )
        if taken:
            self._say(f"there is a column {name} already")
        return not taken

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self._rename()

    @work(exclusive=True)
    async def _rename(self) -> None:
        column = self._columns[self._place]
        name = await self._asked("The column's name", column.name)
        if name and self._free(name, column.name):
            self._put(column._replace(name=name))

    @work(exclusive=True)
    async def action_change_type(self) -> None:
        """Choose the column's type."""
        if not self._columns:
            return
        column = self._columns[self._place]
        names = [kind.name for kind in self._dialect.types]
        dialog = ChoiceDialog(f"The type of {column.name}", names, new="takes it as typed")
        chosen = await self.app.push_screen_wait(dialog)
        if isinstance(chosen, int):
            self._put(column._replace(type=self._dialect.types[chosen]))
        elif chosen is not None:
            self._put(column._replace(type=self._dialect.type_named(chosen)))

    def action_toggle_mark(self, what: str) -> None:
        """Have a column be part of the key, or never NULL; or no more."""
        if not self._columns:
            return
        column = self._columns[self._place]
        if what == "key":
            self._put(column._replace(key_position=0 if column.key_position else 99))
        else:
            self._put(column._replace(not_null=not column.not_null))

    @work(exclusive=True)
    async def action_change_default(self) -> None:
        """Give the column a default."""
        if not self._columns:
            return
        column = self._columns[self._place]
        hint = "an expression of SQL: 0, 'free', CURRENT_TIMESTAMP"
        text = await self._asked(f"The default of {column.name}", column.default or "", hint)
        if text is not None:
            self._put(column._replace(default=text or None))

    @work(exclusive=True)
    async def action_change_link(self) -> None:
        """Choose what the column points at."""
        if not self._columns:
            return
        column = self._columns[self._place]
        keys = [
            (table, table.primary_key[0])
            for table in self._schema.tables
            if len(table.primary_key) == 1 and not table.internal
        ]
        words = ["nothing", *(f"{table.title}.{name}" for table, name in keys)]
        chosen = await self.app.push_screen_wait(
            ChoiceDialog(f"What {column.name} points at", words)
        )
        if chosen == 0:
            self._links.pop(column.name, None)
            self._put(column)
        elif isinstance(chosen, int):
            table, name = keys[chosen - 1]
            self._links[column.name] = (table.id, name)
            target = table.column(name)
            self._put(column._replace(type=target.type) if target is not None else column)

    def action_drop(self) -> None:
        """Remove the column."""
        if self._columns:
            self._links.pop(self._columns.pop(self._place).name, None)
            self._show(self._place)

    def action_shift(self, places: int) -> None:
        """Move the column."""
        one, other = self._place, self._place + places
        if 0 <= other < len(self._columns):
            columns = self._columns
            columns[one], columns[other] = columns[other], columns[one]
            self._show(other)

    def action_take(self) -> None:
        """Bring the statement into the box."""
        if not self._called:
            self._say("the table has no name: t gives it one")
        elif not self._columns:
            self._say("the table has no column: + adds one")
        else:
            self.dismiss(f"{self._sql()};\n")


def line_by_line(text: str) -> str:
    """A text of several lines, safe to be shown."""
    parts = []
    for part in text.split("\n"):
        plain = part.lstrip(" ")
        parts.append(" " * (len(part) - len(plain)) + (line(plain, 200) if plain else ""))
    return "\n".join(parts)
