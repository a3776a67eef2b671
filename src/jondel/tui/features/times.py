"""Times that are stored as numbers: read beside the value, and counted as a person says."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from jondel.core.browse.display import safe_name
from jondel.tui.features.arranging import needs_table
from jondel.tui.frame.commands import RECORDS, Command
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.view import ShownRecord
from jondel.tui.views.records.access import records_view

if TYPE_CHECKING:
    from jondel.core.browse.times import TimeKind
    from jondel.core.model.changes import TableChanges
    from jondel.core.model.schema import Table


_SAMPLED = 100
"""Changed records that are looked at to find what times are counted in."""


class Times(Feature):
    """What a column's times are counted in is found from its values, or chosen."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._guessed: tuple[TableChanges, Mapping[str, TimeKind]] | None = None
        """What was found from a table's changes, which are looked at once."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "times.next",
            "times",
            "change the time unit of the field",
            "The card",
            self._choose_next,
            ("at",),
            contexts=RECORDS,
            refusal=needs_table,
        )

    def readings(self, record: ShownRecord) -> Mapping[str, str]:
        kinds = self._kinds(record.table)
        if not kinds:
            return {}
        from jondel.core.browse.times import reading

        drafts = self.desk.workspace.drafts_if_used
        edit = None
        if drafts is not None and self.desk.is_live(record.moment):
            edit = drafts.edit_of(record.table, record.position)
        edited = edit.values if edit is not None else {}
        readings: dict[str, str] = {}
        for column, stored in zip(record.table.column_names, record.row, strict=False):
            kind = kinds.get(column)
            words = reading(edited.get(column, stored), kind) if kind is not None else None
            if words is not None:
                readings[column] = words
        return readings

    def _kinds(self, table: Table) -> Mapping[str, TimeKind]:
        """What the columns of a table count time in: as its sheet has it, else by the changes."""
        pane = records_view(self.desk).pane
        if pane.table is not None and pane.table.id == table.id:
            return pane.time_kinds
        changes = self.desk.state.changes
        of_table = changes.table(table.id) if changes is not None else None
        if of_table is None:
            return {}
        if self._guessed is None or self._guessed[0] is not of_table:
            self._guessed = of_table, dict(_guessed_kinds(table, of_table))
        return self._guessed[1]

    def _choose_next(self) -> None:
        """Have the field's times counted in the next way; at last in none."""
        from jondel.core.browse.times import TIME_KINDS

        pane = records_view(self.desk).pane
        column = self.desk.card.column or pane.sheet.column_name
        if pane.source is None or not column:
            return
        ways: list[TimeKind | None] = [None, *TIME_KINDS]
        chosen = ways[(ways.index(pane.time_kinds.get(column)) + 1) % len(ways)]
        others = tuple(entry for entry in pane.state.times if entry[0] != column)
        pane.change_layout(pane.state._replace(times=(*others, (column, chosen or ""))))
        self.desk.say(f"{safe_name(column)}: {chosen or 'not a time'}")
        self.desk.show_card()


def _guessed_kinds(table: Table, changes: TableChanges) -> Iterator[tuple[str, TimeKind]]:
    from jondel.core.browse.times import guess_time_kind

    sides = [side for r in changes.records[:_SAMPLED] for side in (r.before, r.after) if side]
    rows = [side for side in sides if len(side) == len(table.columns)]
    for place, column in enumerate(table.columns):
        kind = guess_time_kind(column, [row[place] for row in rows])
        if kind is not None:
            yield column.name, kind
