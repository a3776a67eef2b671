"""The dialog that finds a value anywhere in the database, or among the changes of a step."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import aclosing
from typing import TypeAlias

from rich.style import Style
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import grouped, line, safe_name
from jondel.core.browse.value_search import (
    FoundCell,
    FoundChange,
    Searched,
    find_in_changes,
)
from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.changes import MARKS, Changes
from jondel.core.model.schema import Table
from jondel.tui.frame.dialog import Dialog, field_heading, foot, heading
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import RowService
from jondel.tui.widgets.cell_text import fitted_text
from jondel.tui.widgets.text_fields import TextField, entered_text

Found: TypeAlias = FoundCell | FoundChange

_MOST_LISTED = 1000
_NAME_CELLS = 34


class FindDialog(Dialog[Found | None]):
    """Searches as soon as Enter is pressed; returns the hit that was chosen, or None."""

    BINDINGS = [
        Binding("escape", "leave", "stop, close"),
        Binding("ctrl+o", "whole", "whole values"),
        Binding("ctrl+t", "changes", "changes only"),
    ]

    def __init__(
        self,
        rows: RowService,
        moment: Moment,
        tables: Sequence[Table],
        changes: Changes | None,
    ) -> None:
        """``tables`` in the order in which they are searched."""
        super().__init__()
        self._rows = rows
        self._moment = moment
        self._tables = tables
        self._changes = changes
        self._whole = False
        self._in_changes = False
        self._hits: list[Found] = []
        self._count = 0
        self._searched = 0
        self._problems: list[str] = []
        self._searching = False
        self._asked = ""

    def compose(self) -> ComposeResult:
        with Vertical(classes="dialog full"):
            yield heading("Find a value")
            yield TextField(id="find-text", classes="field")
            yield field_heading("", id="find-state")
            yield OptionList(id="find-hits", markup=False)
            yield foot(
                "Enter searches, and goes to a hit · Ctrl+O whole values or parts\n"
                "Ctrl+T everywhere or only in changes · Escape stops, then closes"
            )

    def opened(self) -> None:
        self._show_state()

    # Searching

    def on_input_submitted(self, event: TextField.Submitted) -> None:
        event.stop()
        text = entered_text(event)
        if text == self._asked and self._hits:
            self.dismiss(self._hits[0])  # while the rest is still searched
        elif text:
            self._search(text)

    def action_whole(self) -> None:
        self._whole = not self._whole
        self._search_again()

    def action_changes(self) -> None:
        if self._changes is None:
            self._show_state("there are no changes to search here")
            return
        self._in_changes = not self._in_changes
        self._search_again()

    def _search_again(self) -> None:
        self._show_state()
        typed = self.query_one(TextField).entered
        if typed and (self._hits or self._searched):
            self._search(typed)

    @work(group="find", exclusive=True)
    async def _search(self, text: str) -> None:
        self._hits, self._count, self._searched, self._problems = [], 0, 0, []
        self._asked = text
        self.query_one(OptionList).clear_options()
        self._searching = True
        self._show_state()
        try:
            if self._in_changes and self._changes is not None:
                self._take(list(find_in_changes(self._changes, text, whole=self._whole)))
            else:
                await self._search_tables(text)
        except Cancelled:
            self._searching = False
            self._show_state("stopped")
        except JondelError as error:
            self._searching = False
            self._show_state(str(error))
        else:
            self._searching = False
            self._show_state()
            if self._hits and self.query_one(TextField).entered == text:
                self.query_one(OptionList).highlighted = 0
                self.set_focus(self.query_one(OptionList))
        finally:
            self._searching = False

    async def _search_tables(self, text: str) -> None:
        search = self._rows.search(self._moment, self._tables, text, whole=self._whole)
        async with aclosing(search) as batches:
            async for batch in batches:
                self._take(batch)

    def _take(self, batch: Sequence[Found | Searched]) -> None:
        """List what was found, as far as there is room."""
        options = []
        for hit in batch:
            if isinstance(hit, Searched):
                self._searched += 1
                if hit.problem:
                    self._problems.append(hit.table.title)
                continue
            self._count += 1
            if len(self._hits) < _MOST_LISTED:
                self._hits.append(hit)
                options.append(self._option(hit))
        self.query_one(OptionList).add_options(options)
        self._show_state()

    def _option(self, hit: Found) -> Option:
        dim = Style(color=self.app.theme_variables["sand-dim"])
        if isinstance(hit, FoundCell):
            table, column, value = hit.table.id, hit.hit.column, hit.hit.value
            where = " · ".join(line(part, 20) for part in hit.hit.position)
        else:
            table, column, value = hit.table.table, hit.column, hit.value
            where = f"{MARKS[hit.record.kind]} "
            where += " · ".join(line(part, 20) for part in hit.record.key)
        place = f"{safe_name(table)} {where}"
        text = Text(fitted_text(place, _NAME_CELLS) + " ", no_wrap=True)
        text.append(f"{safe_name(column)}  ", dim)
        text.append(line(value, 120))
        return Option(text)

    def _show_state(self, words: str = "") -> None:
        parts = ["whole values" if self._whole else "any part of a value"]
        parts.append("in changes only" if self._in_changes else "in every table")
        if self._searched or self._hits or self._searching:
            hits = f"{grouped(self._count)} hit{'' if self._count == 1 else 's'}"
            if self._count > len(self._hits):
                hits += f", {grouped(len(self._hits))} listed"
            parts.append(hits)
        if self._searching and not self._in_changes:
            parts.append(f"searching, {self._searched} of {len(self._tables)} tables done")
        if self._problems:
            parts.append("could not be searched: " + ", ".join(map(safe_name, self._problems[:4])))
        if words:
            parts.append(line(words, 300))
        self.query_one("#find-state", Static).update(" · ".join(parts))

    # Leaving

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self._hits[event.option_index])

    def action_leave(self) -> None:
        """Stop the search, if there is one; else close."""
        if self._searching:
            self.workers.cancel_group(self, "find")
            self._searching = False
            self._show_state("stopped")
        else:
            self.dismiss(None)
