"""Records: the sheet of one table under a line that says where in it one is."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import Vertical

from jondel.core.browse.display import grouped, safe_name
from jondel.core.model.schema import Table
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.sheet import Fetch, Sheet


class RecordsView(Vertical):
    """The sheet and its title line."""

    def __init__(self, fetch: Fetch, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.sheet = Sheet(fetch, id="sheet")
        self._title = Band(id="sheet-title", classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.sheet

    def show_title(self, table: Table | None, remark: str = "") -> None:
        """Say which table is shown, how many rows it has and which is the current one."""
        if table is None:
            self._title.show([(" records", "strong")], [(f"{remark} ", "dim")])
            return
        rows = self.sheet.rows
        count = f"{grouped(rows)} row{'' if rows == 1 else 's'}"
        kind = "" if table.kind == "table" else f"{table.kind}, "
        place = f"row {grouped(self.sheet.cursor_row + 1)} of {grouped(rows)}" if rows else ""
        self._title.show(
            [(f" {safe_name(table.name)}", "strong"), (f"  {kind}{count}", "dim")],
            [(f"{remark or place} ", "dim")],
        )
