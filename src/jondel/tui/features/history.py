"""One record over time."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import ROW_ID
from jondel.core.model.values import Clipped, StoredValue, Value
from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.view import Shown, ShownChange, ShownRecord


class RecordKey(NamedTuple):
    """What names a record over the trail."""

    table: TableId
    columns: tuple[str, ...]
    key: tuple[StoredValue, ...]


class History(Feature):
    """The versions of the current record."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "history",
            "history",
            "the record's history over the trail",
            "Time",
            self._show,
            ("h",),
            refusal=_refusal,
            footer_rank=lambda _: 35,
        )

    async def _show(self) -> None:
        from jondel.tui.dialogs.history import HistoryDialog

        desk = self.desk
        view = desk.views.require(desk.navigator.view)
        record = record_key(view.shown)
        if record is None:
            desk.say("this record has no key, so its history cannot be followed")
            return
        visit = desk.navigator.visit(Reach.RECORD)
        with desk.busy("looking through the trail"):
            versions = await desk.workspace.comparisons.history(*record)
        if visit.ended:
            return  # one has gone on to another record
        words = " · ".join(line(value, 24) for value in record.key)
        table = desk.state.table(record.table)
        moment = await desk.ask(HistoryDialog(f"{record.table} {words}", versions, table))
        if moment is not None:
            desk.go_to_moment(moment)


def record_key(shown: Shown) -> RecordKey | None:
    """The key of the current record; None where it has none."""
    if isinstance(shown, ShownChange):
        return RecordKey(shown.table.table, shown.table.key_columns, shown.record.key)
    if not isinstance(shown, ShownRecord) or not shown.position:
        return None
    table = shown.table
    if table.row_id is not None and not table.primary_key:
        return RecordKey(table.id, (ROW_ID,), shown.position)
    row: dict[str, Value] = dict(zip(table.column_names, shown.row, strict=True))
    key = [row[name] for name in table.primary_key]
    if any(isinstance(value, Clipped) for value in key):
        return None
    return RecordKey(
        table.id,
        table.primary_key,
        tuple(value for value in key if not isinstance(value, Clipped)),
    )


def _refusal(situation: Situation) -> str:
    if not situation.steps:
        return "no snapshots yet; s takes one"
    return "" if situation.has_record else "no record is selected"
