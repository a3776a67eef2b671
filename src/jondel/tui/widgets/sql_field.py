"""A field for an SQL condition, and the line under it that says how it can go on."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from rich.cells import cell_len
from textual import events, work
from textual.binding import Binding

from jondel.core.browse.display import line
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.completion import Completion, completions, opening_of
from jondel.core.sql.dialect import Dialect
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.text_fields import TextField

_HINT = "→ accept · ↓ next"


class SqlField(TextField):
    """Takes a condition on a table; what it can go on with is shown by ``ways``."""

    BINDINGS = [
        Binding("down", "choose(1)", "next way to go on", show=False),
        Binding("up", "choose(-1)", "way before", show=False),
    ]

    def __init__(
        self,
        table: Table,
        values_of: Callable[[str], Awaitable[Sequence[StoredValue]]],
        dialect: Dialect,
        *,
        id: str | None = None,
        classes: str | None = None,
    ) -> None:
        super().__init__(id=id, classes=classes, select_on_focus=False)
        self.ways = Band()
        """The line that shows how what is typed can go on."""
        self._table = table
        self._values_of = values_of
        self._dialect = dialect
        self._ways: list[Completion] = []
        self._chosen_way = 0

    def on_input_changed(self) -> None:
        self._complete()

    def on_focus(self) -> None:
        self._complete()

    def on_blur(self) -> None:
        self._show_ways([])

    async def _on_key(self, event: events.Key) -> None:
        await super()._on_key(event)
        self.call_later(self._follow_cursor)

    @work(group="complete", exclusive=True)
    async def _complete(self) -> None:
        typed = self.entered
        opening = opening_of(typed, self._table, self._dialect) if self.has_focus else None
        if opening is None:
            self._show_ways([])
            return
        values = await self._values_of(opening.column) if opening.column is not None else ()
        if typed == self.entered:
            self._show_ways(completions(typed, opening, values))

    def _show_ways(self, ways: list[Completion]) -> None:
        self._ways, self._chosen_way = ways, 0
        self._follow_cursor()

    def _follow_cursor(self) -> None:
        """Show the ways to go on while the cursor is where they would go."""
        if not self._ways or not self.cursor_at_end:
            self.ways.show(())
            return
        shown = [line(way.words, 80) for way in self._ways]
        room = self.ways.size.width - cell_len(_HINT) - 4
        first = self._chosen_way
        room -= cell_len(shown[first]) + 2
        while first and cell_len(shown[first - 1]) + 2 <= room:
            first -= 1
            room -= cell_len(shown[first]) + 2
        parts = [(" ", "dim")]
        for place, words in enumerate(shown[first:], first):
            parts += [(words, "strong" if place == self._chosen_way else "plain"), ("  ", "dim")]
        self.ways.show(parts, [(f"{_HINT} ", "dim")])

    def action_choose(self, places: int) -> None:
        """Go to another of the ways to go on."""
        if self._ways:
            self._chosen_way = (self._chosen_way + places) % len(self._ways)
            self._follow_cursor()

    def action_cursor_right(self, select: bool = False) -> None:
        if self.cursor_at_end and self._ways and not select:
            self.entered = self._ways[self._chosen_way].text
            self.cursor_position = len(self.value)
        else:
            super().action_cursor_right(select)
