"""The list of tables and views, with row counts and the selected step's change counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.cells import cell_len
from rich.style import Style
from rich.text import Text
from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, safe_name
from jondel.core.browse.name_cuts import cut_names
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS, ChangeKind
from jondel.core.model.schema import Table, TableKind
from jondel.tui.frame.listed_tables import (
    Entry,
    FoldedTables,
    TableFacts,
    changed_first,
    folded,
    found_tables,
    shown_names,
)
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.sheet.row_marks import DRAFT_MARK
from jondel.tui.widgets.styles import change_style, ink

COUNTING = "…"
UNREADABLE = "!"
_COUNT_CELLS = 8
"""Room for most counts, without waiting for them."""
_LONGEST_TAIL = 24
"""A count has no more digits, behind the word for a view or a virtual table."""
_NAME_SIGNS = frozenset("_$.- ")
"""Characters that are typed to find a table, once a letter was."""


class TableList(OptionList):
    """Tables by name; the highlighted one is the one shown. What is typed finds one."""

    BINDINGS = [
        # At once and not by a message: the next key may be for the records already.
        Binding("enter", "screen.enter_table", "to the table's records", show=False),
        Binding("space", "fold_empty", "tables without rows in one line, or all", show=False),
    ]
    DEFAULT_CSS = """
    TableList {
        border: none;
        padding: 0 0 0 1;
        background: $surface;
        height: 1fr;
        scrollbar-gutter: stable;
        &:focus { border: none; background-tint: transparent 0%; }
        & > .option-list--option-highlighted { background: $row-current; color: $sand; }
        &:focus > .option-list--option-highlighted { background: $brass; color: $ink; }
    }
    """

    class TableHighlighted(Message):
        """Another table is to be shown."""

        def __init__(self, table_list: TableList, table: Table) -> None:
            super().__init__()
            self.table_list = table_list
            self.table = table

        @property
        def control(self) -> TableList:
            return self.table_list

    class FoldToggled(Message):
        """Tables without rows are to be one line, or listed each."""

        def __init__(self, table_list: TableList, *, folded: bool) -> None:
            super().__init__()
            self.table_list = table_list
            self.folded = folded

        @property
        def control(self) -> TableList:
            return self.table_list

    class FindChanged(Message):
        """What was typed to find a table is another text now."""

        def __init__(self, table_list: TableList) -> None:
            super().__init__()
            self.table_list = table_list

        @property
        def control(self) -> TableList:
            return self.table_list

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id, markup=False)
        self._tables: Sequence[Table] = ()
        self._entries: Sequence[Entry] = ()
        self._followed: TableId | None = None
        """The table that was last gone to by the list, or highlighted because one is there."""
        self._facts = TableFacts()
        self._changed_first = False
        self._cuts: Mapping[TableId, str] = {}
        self._prompts_for: list[tuple[object, ...]] = []
        self._measured: list[TableId] = []
        self._names: Mapping[TableId, str] = {}
        self.wanted_width = 0
        """How many cells would show all names whole."""
        self.typed = ""
        """What was typed to find a table."""
        self.empty_folded = False
        """Whether tables without rows are one line."""

    @property
    def tables(self) -> Sequence[Table]:
        """All tables, whether or not they are listed now."""
        return self._tables

    @property
    def listed(self) -> list[TableId]:
        """The tables that are listed now, from the top."""
        return [line.id for line in self._entries if isinstance(line, Table)]

    @property
    def current(self) -> Table | None:
        """The highlighted table."""
        index = self.highlighted
        line = self._entries[index] if index is not None and index < len(self._entries) else None
        return line if isinstance(line, Table) else None

    # What is listed

    def show(
        self, tables: Sequence[Table], facts: TableFacts, *, changed_first: bool = False
    ) -> None:
        """Show these tables; those that changed come first if that is wanted."""
        addresses = [table.id for table in tables]
        if addresses != self._measured:
            self._measured, self.wanted_width = addresses, _wanted_width(tables)
            self._names = shown_names(tables)
        self._tables, self._facts, self._changed_first = tables, facts, changed_first
        self._relist()

    def _relist(self) -> None:
        """Bring the lines in line with what is known and wanted."""
        address = self.current.id if self.current else None
        lines = self._wanted_lines()
        same = [_identity(line) for line in self._entries] == [_identity(line) for line in lines]
        self._entries = lines
        self._cut_names()
        if same:
            self._redraw_changed()
            return
        self._prompts_for = self._prompt_keys()
        with self.prevent(OptionList.OptionHighlighted):
            self.clear_options()
            self.add_options([Option(self._prompt(line)) for line in lines])
            addresses = self._addresses
            if address in addresses:
                self.highlighted = addresses.index(address)

    def _redraw_changed(self) -> None:
        """Draw those lines anew that are not as they were drawn."""
        before = self._prompts_for
        self._prompts_for = self._prompt_keys()
        for index, (key, earlier) in enumerate(zip(self._prompts_for, before, strict=True)):
            if key != earlier:
                self.replace_option_prompt_at_index(index, self._prompt(self._entries[index]))

    @property
    def _lit(self) -> Entry | None:
        """The line drawn on the colour of the cursor, where nothing dim can be read."""
        index = self.highlighted
        if not self.has_focus or index is None or index >= len(self._entries):
            return None
        return self._entries[index]

    def _wanted_lines(self) -> list[Entry]:
        if self.typed:
            return list(found_tables(self._tables, self.typed))
        tables = self._tables
        if self._changed_first:
            tables = changed_first(tables, self._facts)
        return folded(tables, self._facts, self._followed) if self.empty_folded else list(tables)

    @property
    def _addresses(self) -> list[TableId | None]:
        return [line.id if isinstance(line, Table) else None for line in self._entries]

    def highlight(self, table: TableId) -> None:
        """Highlight a table without announcing it; not where a person has just gone on to another,
        which has not been followed yet."""
        if not self._is_ahead:
            self._followed = table
            if table not in self._addresses:
                self._relist()
            if table in self._addresses:
                with self.prevent(OptionList.OptionHighlighted):
                    self.highlighted = self._addresses.index(table)

    def followed(self) -> None:
        """What is highlighted is where one goes."""
        self._followed = self.current.id if self.current is not None else None

    @property
    def _is_ahead(self) -> bool:
        current, followed = self.current, self._followed
        return current is not None and followed is not None and current.id != followed

    # How it is drawn

    def _prompt_keys(self) -> list[tuple[object, ...]]:
        """What the lines' prompts depend on."""
        theme, lit, facts, cuts = self.app.current_theme.name, self._lit, self._facts, self._cuts
        return [
            (theme, line is lit, line.tables)
            if isinstance(line, FoldedTables)
            else (
                theme,
                line is lit,
                line.unreadable,
                cuts.get(line.id),
                facts.counts.get(line.id, COUNTING),
                facts.changes.get(line.id),
                facts.drafted.get(line.id, 0),
            )
            for line in self._entries
        ]

    @property
    def _room(self) -> int:
        return max(8, self.scrollable_content_region.width or 24)

    def _named(self, table: Table) -> str:
        return self._names.get(table.id, table.title)

    def _tail(self, table: Table, room: int) -> str:
        """What stands at the end of a table's line."""
        counts = self._facts.counts
        count = counts.get(table.id)
        right = COUNTING if count is None else grouped(count)
        if table.unreadable or (count is None and table.id in counts):
            right = UNREADABLE
        kind = {"view": "view ", "virtual table": "virtual "}.get(table.kind, "")
        if kind and len(kind) + len(right) + len(self._named(table)) + 1 > room:
            kind = kind[0] + " "
        return f" {kind}{right}"

    def _cut_names(self) -> None:
        """Cut the names that do not fit before what stands at the end of their lines."""
        room = self._room
        rooms: dict[str, int] = {}
        shown: dict[TableId, str] = {}
        for table in self._entries:
            # Most names are short, and there may be thousands of them.
            if isinstance(table, Table) and len(self._named(table)) + _LONGEST_TAIL > room:
                shown[table.id] = safe_name(self._named(table))
                rooms[shown[table.id]] = max(3, room - len(self._tail(table, room)))
        cuts = cut_names(list(rooms), rooms)
        self._cuts = {name: cuts[text] for name, text in shown.items()}

    def _prompt(self, line: Entry) -> Text:
        if isinstance(line, FoldedTables):
            words = f"▸ {line.tables} empty table{'' if line.tables == 1 else 's'}"
            style = Style.null() if line is self._lit else ink(self, "sand-dim")
            return Text(words, style, no_wrap=True, overflow="ellipsis")
        room = self._room
        table, tail = line, self._tail(line, room)
        name = self._cuts.get(table.id) or safe_name(self._named(table))
        text = Text(fitted_text(name, max(3, room - len(tail))), no_wrap=True)
        lit = table is self._lit
        text.append(tail, None if lit else ink(self, "sand-dim"))
        counts = self._facts.changes.get(table.id)
        drafted = self._facts.drafted.get(table.id, 0)
        if drafted or (counts and counts.total):
            text.append("\n  ")
        if drafted:
            style = Style(bold=True) if lit else ink(self, "draft", bold=True)
            text.append(f"{DRAFT_MARK}{grouped(drafted)} ", style)
        if counts and counts.total:
            kinds: tuple[ChangeKind, ...] = ("added", "changed", "removed")
            for kind_of_change in kinds:
                number = getattr(counts, kind_of_change)
                if number:
                    mark = f"{MARKS[kind_of_change]}{grouped(number)} "
                    style = Style(bold=True) if lit else change_style(self, kind_of_change)
                    text.append(mark, style)
        return text

    def on_resize(self) -> None:
        self._cut_names()
        self._prompts_for = self._prompt_keys()
        for index, line in enumerate(self._entries):
            self.replace_option_prompt_at_index(index, self._prompt(line))

    # Finding a table by typing

    def takes(self, event: events.Key) -> bool:
        """Whether a key is for the list alone: it is typed to find a table, or takes that back."""
        if event.key in ("backspace", "escape"):
            return bool(self.typed)
        character = event.character
        if character is None or not event.is_printable or event.key.startswith("ctrl+"):
            return False
        if character.isalpha() or character == "_":
            return True
        return bool(self.typed) and (character.isalnum() or character in _NAME_SIGNS)

    async def on_key(self, event: events.Key) -> None:
        if not self.takes(event):
            return
        event.stop()
        event.prevent_default()
        if event.key == "escape":
            self.find("")
        elif event.key == "backspace":
            self.find(self.typed[:-1])
        else:
            self.find(self.typed + (event.character or ""))

    def find(self, typed: str) -> None:
        """List the tables that have a text in their names, and highlight the best of them."""
        if typed and not found_tables(self._tables, typed):
            self.app.bell()
            return
        ended = not typed and self.typed
        self.typed = typed
        self._relist()
        if typed:
            self.highlighted = 0
        elif ended and self._followed in self._addresses:
            self.highlighted = self._addresses.index(self._followed)
        self.post_message(self.FindChanged(self))

    def on_blur(self) -> None:
        if self.typed:
            self.find("")
        self.post_message(self.FindChanged(self))

    def watch_has_focus(self, value: bool) -> None:
        super().watch_has_focus(value)
        self._redraw_changed()

    def on_focus(self) -> None:
        self.post_message(self.FindChanged(self))

    # Going on

    def unfolds(self) -> bool:
        """Unfold the tables without rows where their line is highlighted; whether it was that."""
        on_fold = self.current is None and self.highlighted is not None
        if on_fold:
            self.action_fold_empty()
        return on_fold

    def action_fold_empty(self) -> None:
        """Have the tables without rows in one line, or each in its own again."""
        self.empty_folded = not self.empty_folded
        self._relist()
        self.post_message(self.FoldToggled(self, folded=self.empty_folded))

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        self._redraw_changed()
        if self.current is not None:
            self.post_message(self.TableHighlighted(self, self.current))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """A click; Enter does not come here."""
        event.stop()
        if self.current is None:
            self.action_fold_empty()


def _identity(line: Entry) -> tuple[TableId, TableKind] | None:
    return None if isinstance(line, FoldedTables) else (line.id, line.kind)


def _wanted_width(tables: Sequence[Table]) -> int:
    shown = shown_names(tables).values()
    names = max((cell_len(safe_name(name)) for name in shown), default=0)
    views = any(table.kind != "table" for table in tables)
    return names + 2 + _COUNT_CELLS + (2 if views else 0)
