"""The panes beside the views, each under a title line: the tables, and the card."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from textual.app import ComposeResult
from textual.containers import Vertical

from jondel.core.browse.display import line, safe_name
from jondel.core.browse.record_title import naming_values
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS, RecordChange
from jondel.core.model.schema import Table
from jondel.core.model.values import Value
from jondel.tui.frame.listed_tables import TableFacts
from jondel.tui.frame.table_list import TableList
from jondel.tui.frame.view import NothingShown, Shown, ShownChange
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.card.card import Card
from jondel.tui.widgets.lines import PlainGround

_KEY_CHARACTERS = 24


class TablesPane(PlainGround, Vertical):
    """The table list under a line that counts the tables."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.list = TableList(id="tables")
        self._title = Band(classes="title")
        self._remark = ""

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.list

    def show(
        self,
        tables: Sequence[Table],
        facts: TableFacts,
        *,
        with_internal: bool,
        changed_first: bool,
    ) -> None:
        """Show tables with what is known of them."""
        self._remark = " with internal" if with_internal else ""
        self.list.show(tables, facts, changed_first=changed_first)
        self._show_title()

    def _show_title(self) -> None:
        count, typed = len(self.list.tables), self.list.typed
        if typed:
            of = f" {len(self.list.listed)} of {count}"
            self._title.show([(" tables", "strong"), (of, "dim"), (f" {line(typed)}▏", "plain")])
        else:
            self._title.show([(f" tables {count}", "strong"), (self._remark, "dim")])

    def on_table_list_find_changed(self) -> None:
        self._show_title()


class CardPane(PlainGround, Vertical):
    """The card under a line that names the record."""

    def __init__(self, *, id: str | None = None) -> None:
        super().__init__(id=id)
        self.card = Card(id="card")
        self._title = Band(classes="title")

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.card

    def show(self, shown: Shown, readings: Mapping[str, str], edited: Mapping[str, Value]) -> None:
        """Show a record, a change, or nothing.

        ``readings`` say by column how values read as times; ``edited`` are values of a draft.
        """
        if isinstance(shown, NothingShown):
            self._title.show([(" record", "dim")])
            self.card.clear(shown.words)
        elif isinstance(shown, ShownChange):
            self._show_title(shown.table.table, shown.table.name_of(shown.record), shown.record)
            self.card.show_change(shown.table, shown.record)
        else:
            name = naming_values(shown.table, shown.position, shown.row)
            self._show_title(shown.table.id, name, shown.change)
            self.card.show_record(
                shown.table, shown.row, shown.change, readings=readings, edited=edited
            )

    def _show_title(
        self, table: TableId, key: Sequence[Value], change: RecordChange | None
    ) -> None:
        key_text = " · ".join(line(value, _KEY_CHARACTERS) for value in key)
        remark = f"{MARKS[change.kind]} {change.kind} " if change else ""
        self._title.show([(f" {safe_name(table)} {key_text}", "strong")], [(remark, "plain")])
