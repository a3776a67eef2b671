"""Records: the sheet of one table under a line that says where in it one is."""

from __future__ import annotations

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.containers import Vertical

from jondel.core.browse.display import grouped, safe_name
from jondel.core.browse.ghosts import Ghost
from jondel.core.browse.windows import WindowCache
from jondel.core.errors import TableUnreadable
from jondel.core.model.changes import Changes
from jondel.core.model.rows import Window
from jondel.core.model.schema import Table
from jondel.tui.moments import Moment
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.row_marks import marks_of
from jondel.tui.widgets.sheet import Sheet
from jondel.tui.workspace import Workspace


class RecordsView(Vertical):
    """The sheet and its title line."""

    def __init__(self, workspace: Workspace, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self._workspace = workspace
        self._moment: Moment = None
        self.sheet = Sheet(self._fetch, id="sheet")
        self._title = Band(classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.sheet

    async def open_table(
        self, moment: Moment, table: Table, *, keep_place: bool, place: int | None = None
    ) -> None:
        """Show a table as of a moment.

        ``keep_place``: stay where one is if the table is the one shown. ``place``: the ordinal of
        a row that will be looked at, to be read along. A table that cannot be read is shown as a
        problem; what concerns the database as a whole is raised as ``JondelError``.
        """
        shown = self.sheet.table
        same = shown is not None and (shown.name, shown.column_names) == (
            table.name,
            table.column_names,
        )
        keep_place = keep_place and same
        around = self.sheet.rows_in_view if keep_place else []
        if place is not None:
            around = [place]
        try:
            cache = await self._workspace.first_rows(moment, table, around)
        except TableUnreadable as error:
            self.sheet.show_problem(str(error))
            self._title.show([(f" {safe_name(table.name)}", "strong")], [("not readable ", "dim")])
            return
        self.show_cache(moment, cache, keep_place=keep_place)

    def show_cache(self, moment: Moment, cache: WindowCache, *, keep_place: bool) -> None:
        """Show a table's rows, of which the first ones to be seen have been read."""
        self._moment = moment
        self.sheet.show(cache, keep_place=keep_place)
        self.show_title()

    def show_ghosts(self, ghosts: Sequence[Ghost]) -> None:
        """Show removed records of the table in their places."""
        if self.sheet.table is not None:
            self.sheet.set_ghosts(ghosts)
            self.show_title()

    def mark(self, changes: Changes | None) -> None:
        """Mark the rows of the table shown that changed."""
        table = self.sheet.table
        found = changes.table(table.name) if changes and table else None
        marks = None
        if found is not None:
            marks = marks_of(found.key_columns, found.key_is_row_id, found.records)
        self.sheet.set_marks(marks)

    def show_title(self) -> None:
        """Say which table is shown, how many rows it has and which is the current one."""
        table = self.sheet.table
        if table is None:
            self._title.show([(" records", "strong")])
            return
        rows = self.sheet.rows
        count = f"{grouped(rows)} row{'' if rows == 1 else 's'}"
        kind = "" if table.kind == "table" else f"{table.kind}, "
        row = self.sheet.current_row
        place = f"row {grouped(row + 1)} of {grouped(rows)} " if rows and row is not None else ""
        if row is None:
            place = "a removed record "
        self._title.show(
            [(f" {safe_name(table.name)}", "strong"), (f"  {kind}{count}", "dim")],
            [(place, "dim")],
        )

    async def _fetch(self, cache: WindowCache, block: int) -> Window:
        return await self._workspace.block(self._moment, cache, block)
