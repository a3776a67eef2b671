"""The dialog of a record with all that it needs: what comes along, and how it is written."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, line
from jondel.core.browse.links import Link
from jondel.core.errors import JondelError
from jondel.core.exports.masking import MaskedColumn, masked, why_not_masked
from jondel.core.exports.record_set import RecordSet, links_to, renumbered
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.tui.dialogs.exporting import TablesDialog
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading, problem_line

Gather = Callable[[frozenset[Link]], Awaitable[RecordSet]]


class ChildList(OptionList):
    """Links by which records point at those of the set, one a line."""

    BINDINGS = [
        Binding("space", "screen.toggle_link", "with what points at it"),
        Binding("r", "screen.renumber", "other numbers"),
        Binding("m", "screen.mask", "mask columns"),
    ]


class RecordSetDialog(Dialog[RecordSet | None]):
    """Changes what comes along with a record; returns the records, or None."""

    BINDINGS = [
        Binding("escape", "dismiss(None)", "close"),
        Binding("ctrl+s", "take", "export"),
    ]

    def __init__(self, title: str, table: TableId, first: RecordSet, gather: Gather) -> None:
        """``gather`` finds the records anew, with what points at them by some links."""
        super().__init__()
        self._title, self._table = title, table
        self._found, self._gather = first, gather
        self._children: frozenset[Link] = frozenset()
        self._listed: list[Link] = []
        self._renumbers = False
        self._masks: tuple[MaskedColumn, ...] = ()

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog wide"):
            yield heading(line(self._title, 60))
            yield Static("", id="set-counts", markup=False)
            yield field_heading("also what points at it, by")
            yield ChildList(id="set-links", markup=False)
            yield Static("", id="set-how", markup=False)
            yield problem_line("set-problem")
            yield foot(
                "Space with what points at it · r other numbers · m mask\n"
                "Enter exports them · Escape closes"
            )

    def opened(self) -> None:
        self._show(0)
        self.query_one(ChildList).focus()

    def _show(self, place: int) -> None:
        counts = [f"{line(str(t), 30)} {grouped(n)}" for t, n in self._found.counts.items()]
        total = len(self._found.records)
        records = f"{grouped(total)} record{'' if total == 1 else 's'}"
        self.query_one("#set-counts", Static).update(f"{records}: {', '.join(counts)}")
        below = {self._table, *(link.child for link in self._children)}
        self._listed = links_to(self._found.links, below)
        options = self.query_one(ChildList)
        options.clear_options()
        options.add_options(map(self._option, self._listed))
        if self._listed:
            options.highlighted = min(place, len(self._listed) - 1)
        numbers = "other numbers, from 1 on" if self._renumbers else "numbers as they are"
        masked_words = ", ".join(f"{table}.{column}" for table, column in self._masks) or "nothing"
        self.query_one("#set-how", Static).update(
            Text(f"{numbers}; masked: {line(masked_words, 200)}", self._dim)
        )
        self._say("")
        self.fit_height()

    @property
    def _dim(self) -> Style:
        return Style(color=self.app.theme_variables["sand-dim"])

    def _option(self, link: Link) -> Option:
        mark = "✓" if link in self._children else "·"
        text = Text(f"{mark} {line(link.words(), 60)}", no_wrap=True, overflow="ellipsis")
        return Option(text)

    def _say(self, words: str) -> None:
        self.query_one("#set-problem", Static).update(line(words, 400) if words else "")

    @work(exclusive=True)
    async def action_toggle_link(self) -> None:
        """Have what points at the records by a link come along, or not."""
        place = self.query_one(ChildList).highlighted
        if place is None or not self._listed:
            return
        wanted = self._children ^ {self._listed[place]}
        try:
            self._found = await self._gather(wanted)
        except JondelError as error:
            self._say(str(error))
            return
        self._children = wanted
        self._show(place)

    def action_renumber(self) -> None:
        """Have keys be other numbers, or what they are."""
        self._renumbers = not self._renumbers
        self._show(self.query_one(ChildList).highlighted or 0)

    @work(exclusive=True)
    async def action_mask(self) -> None:
        """Choose the columns whose values nobody is to see."""
        tables = {record.table.id: record.table for record in self._found.records}
        columns = [(t, c) for t in tables.values() for c in self._maskable(t)]
        names = [f"{table.title}.{column}" for table, column in columns]
        marked = [
            n for n, (table, column) in enumerate(columns) if (table.id, column) in self._masks
        ]
        dialog = TablesDialog(names, title="Which columns are masked?", chosen=marked)
        chosen = await self.app.push_screen_wait(dialog)
        if chosen is not None:
            self._masks = tuple((columns[n][0].id, columns[n][1]) for n in chosen)
            self._show(self.query_one(ChildList).highlighted or 0)

    def _maskable(self, table: Table) -> Sequence[str]:
        return [name for name in table.column_names if not why_not_masked(table, name, self._found)]

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.action_take()

    def action_take(self) -> None:
        """Take them as they are shown."""
        found = renumbered(self._found) if self._renumbers else self._found
        self.dismiss(masked(found, self._masks))
