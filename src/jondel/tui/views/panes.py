"""The panes beside the views, each under a title line: the tables, and the card."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from textual.app import ComposeResult
from textual.containers import Vertical

from jondel.core.browse.display import line, safe_name
from jondel.core.model.changes import MARKS, ChangeCounts, RecordChange, TableChanges
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, Value
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.card import Card
from jondel.tui.widgets.lines import PlainGround
from jondel.tui.widgets.table_list import TableList

_KEY_CHARACTERS = 24


class TablesPane(PlainGround, Vertical):
    """The table list under a line that counts the tables."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.list = TableList(id="tables")
        self._title = Band(classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.list

    def show(
        self,
        tables: Sequence[Table],
        counts: Mapping[str, int | None],
        changes: Mapping[str, ChangeCounts],
        drafted: Mapping[str, int],
        *,
        with_internal: bool,
    ) -> None:
        """Show tables with their counts of rows, changes and edits, as far as they are known."""
        self.list.show(tables, counts, changes, drafted)
        remark = " with internal" if with_internal else ""
        self._title.show([(f" tables {len(tables)}", "strong"), (remark, "dim")])


class CardPane(PlainGround, Vertical):
    """The card under a line that names the record."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.card = Card(id="card")
        self._title = Band(classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.card

    def show_record(
        self,
        table: Table,
        position: Position,
        row: ShownRow,
        change: RecordChange | None,
        *,
        readings: dict[str, str] | None = None,
        edited: dict[str, Value] | None = None,
    ) -> None:
        """Show a record of a table, and how it changed; see ``Card.show_record``."""
        self._show_title(table.name, position, change)
        self.card.show_record(table, row, change, readings=readings, edited=edited)

    def show_change(self, changes: TableChanges, record: RecordChange) -> None:
        """Show a record that changed, as it is after that (or was before it, if removed)."""
        self._show_title(changes.table, record.key, record)
        self.card.show_change(changes, record)

    def clear(self, words: str = "") -> None:
        """Show no record, and perhaps why."""
        self._title.show([(" record", "dim")])
        self.card.clear(words)

    def _show_title(self, table: str, key: Position, change: RecordChange | None) -> None:
        shown_key = " · ".join(line(value, _KEY_CHARACTERS) for value in key)
        remark = f"{MARKS[change.kind]} {change.kind} " if change else ""
        self._title.show([(f" {safe_name(table)} {shown_key}", "strong")], [(remark, "plain")])
