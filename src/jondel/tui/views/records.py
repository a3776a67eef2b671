"""Records: one sheet, or two side by side, under a line of the tables that are open."""

from __future__ import annotations

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical

from jondel.core.browse.display import safe_name
from jondel.core.browse.ghosts import Ghost
from jondel.core.browse.windows import WindowCache
from jondel.core.model.changes import Changes
from jondel.core.model.schema import Table
from jondel.tui.moments import Moment
from jondel.tui.views.sheet_pane import SheetPane
from jondel.tui.widgets.bands import Band, show_band
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.sheet import Sheet
from jondel.tui.workspace import Workspace


class Sheets(PlainGround, Horizontal):
    """The sheets, side by side."""


class RecordsView(PlainGround, Vertical):
    """The sheets; what is done to "the sheet" is done to the one that was last gone to."""

    def __init__(self, workspace: Workspace, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._workspace = workspace
        self.pane = SheetPane(workspace, sheet_id="sheet")
        self._first = self.pane
        self._second: SheetPane | None = None
        self._open = Band(id="open-tables", classes="title")
        self._path = Band(id="path", classes="title")
        self.open_tables: list[str] = []
        """The tables that one has been in, in the order of their numbers."""

    def compose(self) -> ComposeResult:
        with Sheets(id="sheets"):
            yield self._first

    @property
    def sheet(self) -> Sheet:
        """The sheet that was last gone to."""
        return self.pane.sheet

    @property
    def panes(self) -> list[SheetPane]:
        """The sheets shown, from left to right."""
        return [self._first, self._second] if self._second is not None else [self._first]

    async def open_table(
        self, moment: Moment, table: Table, *, keep_place: bool, place: int | None = None
    ) -> None:
        """Show a table in the sheet last gone to; see ``SheetPane.open_table``."""
        await self.pane.open_table(moment, table, keep_place=keep_place, place=place)
        self.show_open()

    def show_cache(self, moment: Moment, cache: WindowCache, *, keep_place: bool) -> None:
        """Show a table's rows, of which the first ones to be seen have been read."""
        self.pane.show_cache(moment, cache, keep_place=keep_place)

    def show_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records of the table in their places."""
        self.pane.show_ghosts(ghosts)

    def mark(self, changes: Changes | None) -> None:
        """Mark the rows that changed."""
        for pane in self.panes:
            pane.mark(changes)

    def show_title(self) -> None:
        self.pane.show_title()

    # Several tables

    def remember_open(self) -> None:
        """Count the table of the current sheet among those that are open."""
        table = self.sheet.table
        if table is not None and table.name not in self.open_tables:
            self.open_tables.append(table.name)
        self.show_open()

    def forget_open(self, name: str) -> None:
        """Take a table out of those that are open."""
        if name in self.open_tables:
            self.open_tables.remove(name)
        self.show_open()

    def show_open(self) -> None:
        """List the open tables with their numbers, where there are several."""
        current = self.sheet.table
        parts = []
        for number, name in enumerate(self.open_tables, 1):
            chosen = current is not None and current.name == name
            parts.append((f" {number} ", "dim"))
            parts.append((f"{safe_name(name)} ", "strong" if chosen else "plain"))
        show_band(self, self._open, parts if len(self.open_tables) > 1 else (), 0)

    def show_path(self, words: Sequence[str]) -> None:
        """Show the way one has walked along links."""
        parts = [(" ", "dim")]
        for step in words:
            parts += [(step, "plain"), (" › ", "dim")]
        parts += [("here  ", "strong"), ("Backspace goes back", "dim")]
        show_band(self, self._path, parts if words else (), "#sheets")

    async def put_beside(self) -> SheetPane:
        """Open a second sheet on the right; returns it."""
        if self._second is None:
            self._second = SheetPane(self._workspace, sheet_id="sheet-beside")
            self._second.add_class("-beside")
            await self.query_one("#sheets").mount(self._second)
        return self._second

    async def close_beside(self) -> None:
        """Show one sheet only: the one last gone to stays."""
        second = self._second
        if second is None:
            return
        gone = self._first if self.pane is second else second
        self._second = None
        if gone is self._first:
            self._first = second
        gone.leave()
        self.pane = self._first
        self._first.remove_class("-beside")
        await gone.remove()

    def go_to_pane(self, pane: SheetPane) -> None:
        """Have a sheet be the one that things are done to."""
        self.pane = pane
        self.show_open()
