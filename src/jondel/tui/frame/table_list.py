"""The list of tables and views, with row counts and the selected step's change counts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.text import Text
from textual.binding import Binding
from textual.message import Message
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, safe_name
from jondel.core.model.changes import MARKS, ChangeCounts, ChangeKind
from jondel.core.model.schema import Table
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.sheet.row_marks import DRAFT_MARK
from jondel.tui.widgets.styles import change_style, ink

COUNTING = "…"
UNREADABLE = "!"


class TableList(OptionList):
    """Tables by name; the highlighted one is the one shown."""

    BINDINGS = [Binding("enter", "screen.focus_view", "to the table's records", show=False)]
    DEFAULT_CSS = """
    TableList {
        border: none;
        padding: 0 0 0 1;
        background: $surface;
        height: 1fr;
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

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id, markup=False)
        self._tables: Sequence[Table] = ()
        self._followed: str | None = None
        """The table that was last gone to by the list, or highlighted because one is there."""
        self._counts: Mapping[str, int | None] = {}
        self._changes: Mapping[str, ChangeCounts] = {}
        self._drafted: Mapping[str, int] = {}
        self._prompts_for: list[tuple[object, ...]] = []

    @property
    def tables(self) -> Sequence[Table]:
        return self._tables

    @property
    def current(self) -> Table | None:
        """The highlighted table."""
        index = self.highlighted
        return self._tables[index] if index is not None and index < len(self._tables) else None

    def show(
        self,
        tables: Sequence[Table],
        counts: Mapping[str, int | None],
        changes: Mapping[str, ChangeCounts],
        drafted: Mapping[str, int] | None = None,
    ) -> None:
        """Show these tables; ``drafted`` counts what a draft has for them.

        Counts that are not known yet are left out of the mappings; None is for a table whose rows
        cannot be counted.
        """
        name = self.current.name if self.current else None
        same = [(t.name, t.kind) for t in self._tables] == [(t.name, t.kind) for t in tables]
        self._tables, self._counts, self._changes = tables, counts, changes
        self._drafted = drafted or {}
        prompts_for = [self._prompt_key(table) for table in tables]
        before, self._prompts_for = self._prompts_for, prompts_for
        if same:
            for index, (key, earlier) in enumerate(zip(prompts_for, before, strict=True)):
                if key != earlier:
                    self.replace_option_prompt_at_index(index, self._prompt(tables[index]))
            return
        with self.prevent(OptionList.OptionHighlighted):
            self.clear_options()
            self.add_options([Option(self._prompt(table)) for table in tables])
            names = [table.name for table in tables]
            if name in names:
                self.highlighted = names.index(name)

    def highlight(self, name: str) -> None:
        """Highlight a table without announcing it; not where a person has just gone on to another,
        which has not been followed yet."""
        names = [table.name for table in self._tables]
        if name in names and not self._is_ahead:
            self._followed = name
            with self.prevent(OptionList.OptionHighlighted):
                self.highlighted = names.index(name)

    def followed(self) -> None:
        """What is highlighted is where one goes."""
        self._followed = self.current.name if self.current is not None else None

    @property
    def _is_ahead(self) -> bool:
        current, followed = self.current, self._followed
        return current is not None and followed is not None and current.name != followed

    def _prompt_key(self, table: Table) -> tuple[object, ...]:
        """What a table's prompt depends on."""
        name = table.name
        return (
            self.app.current_theme.name,
            table.unreadable,
            name in self._counts,
            self._counts.get(name),
            self._changes.get(name),
            self._drafted.get(name, 0),
        )

    def _prompt(self, table: Table) -> Text:
        width = max(8, self.scrollable_content_region.width or 24)
        count = self._counts.get(table.name)
        right = COUNTING if count is None else grouped(count)
        if table.unreadable or (count is None and table.name in self._counts):
            right = UNREADABLE
        kind = {"view": "view ", "virtual table": "virtual "}.get(table.kind, "")
        if kind and len(kind) + len(right) + len(table.name) + 1 > width:
            kind = kind[0] + " "
        tail = f" {kind}{right}"
        text = Text(fitted_text(safe_name(table.name), max(3, width - len(tail))), no_wrap=True)
        text.append(tail, ink(self, "sand-dim"))
        counts = self._changes.get(table.name)
        drafted = self._drafted.get(table.name, 0)
        if drafted or (counts and counts.total):
            text.append("\n  ")
        if drafted:
            text.append(f"{DRAFT_MARK}{grouped(drafted)} ", ink(self, "draft", bold=True))
        if counts and counts.total:
            kinds: tuple[ChangeKind, ...] = ("added", "changed", "removed")
            for kind_of_change in kinds:
                number = getattr(counts, kind_of_change)
                if number:
                    mark = f"{MARKS[kind_of_change]}{grouped(number)} "
                    text.append(mark, change_style(self, kind_of_change))
        return text

    def on_resize(self) -> None:
        for index, table in enumerate(self._tables):
            self.replace_option_prompt_at_index(index, self._prompt(table))

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        if self.current is not None:
            self.post_message(self.TableHighlighted(self, self.current))
