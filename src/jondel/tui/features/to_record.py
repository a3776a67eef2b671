"""From a change to its record among the others of its table."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.trail.trail import Step
from jondel.tui.frame.commands import CHANGES, Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import AtKey, AtRemoved, Place
from jondel.tui.services.moments import AtStep, Moment, OtherDatabase
from jondel.tui.views.changes.access import current_change, stop_at


class ToRecord(Feature):
    """Backspace leads back to the change."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "change.to_record",
            "to the record",
            "to the record of the change",
            "Changes",
            self._go,
            ("enter",),
            contexts=CHANGES,
            refusal=_refusal,
            footer_rank=lambda _: 80,
        )

    def _go(self) -> None:
        desk = self.desk
        current = current_change(desk)
        if current is None:
            return
        table, record = current.table, current.record
        place = desk.place
        columns = () if table.key_is_row_id else table.key_columns
        key = AtKey(columns, record.key, record.row_id)
        column = record.cells[0].column if record.cells else ""
        there = Place(place.moment, place.compare_from, table.table, key, column)
        if record.kind == "removed":
            moment = self._moment_before()
            before = Place(moment, None, table.table, key, column) if moment is not None else None
            there = Place(
                place.moment, place.compare_from, table.table, AtRemoved(record.key, before)
            )
        leaving = stop_at(current, place)
        desk.navigator.go(there, view="records", leaving=leaving, focus=True)

    def _moment_before(self) -> Moment | None:
        """The moment at which a record that was removed since was there; None where that is
        another database's."""
        trail, place = self.desk.workspace.trail, self.desk.place
        if isinstance(place.compare_from, OtherDatabase):
            return None
        if place.compare_from is not None:
            return place.compare_from
        at = trail.resolve(place.moment)
        before = at.before if isinstance(at, Step) else trail.last and trail.last.after
        return AtStep(before.number) if before is not None else place.moment


def _refusal(situation: Situation) -> str:
    return "" if situation.has_record else "no change is selected"
