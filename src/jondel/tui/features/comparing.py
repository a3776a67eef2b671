"""Comparing any two steps, or a step and now."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.trail.trail import Step
from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.services.moments import NOW, AtStep, OtherDatabase


class Comparing(Feature):
    """The step that one compares from is part of the place."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "compare_from",
            "compare from here",
            "compare from the selected step, or each step with the one before again",
            "Time",
            self._toggle,
            ("m",),
            refusal=_refusal,
        )

        yield Command(
            "compare_with_other",
            "compare with another database",
            "compare with another open database, as it is now; once more ends it",
            "Time",
            self._with_other,
            ("M",),
            refusal=_needs_another,
        )

    async def _with_other(self) -> None:
        from jondel.tui.dialogs.databases import OpenDatabaseDialog

        desk = self.desk
        if isinstance(desk.place.compare_from, OtherDatabase):
            compare_from(desk, None)
            return
        chosen = desk.others[0]
        if len(desk.others) > 1:
            asked = await desk.ask(OpenDatabaseDialog([d.shown_name for d in desk.others]))
            if asked is None:
                return
            chosen = desk.others[asked]
        other = OtherDatabase(chosen.workspace.location, chosen.shown_name)
        place = desk.place._replace(record=None, compare_from=other)
        desk.say(f"compared with {other.name} as it is now; m ends it")
        desk.navigator.go(place, view="changes", afresh=True)

    def _toggle(self) -> None:
        if self.desk.place.compare_from is not None:
            compare_from(self.desk, None)
            return
        step = selected_step(self.desk)
        if step is not None:
            compare_from(self.desk, step)


def compare_from(desk: Desk, step: Step | None) -> None:
    """Compare from a step on, or each step with the one before for None."""
    place = desk.place._replace(record=None, compare_from=None)
    if step is not None:
        start = AtStep(step.number)
        at = NOW if place.moment == start else place.moment
        place = place._replace(compare_from=start, moment=at)
        desk.say(f"comparing from {step.after.id}: go to another step or to now; m ends it")
    desk.navigator.go(place, afresh=True)


def selected_step(desk: Desk) -> Step | None:
    """The selected step; at now the last one."""
    at = desk.workspace.trail.resolve(desk.place.moment)
    return at if isinstance(at, Step) else desk.workspace.trail.last


def _needs_another(situation: Situation) -> str:
    if situation.other_databases or isinstance(situation.place.compare_from, OtherDatabase):
        return ""
    return "no other database is open: Ctrl+O opens one"


def _refusal(situation: Situation) -> str:
    compared = situation.place.compare_from is not None
    return "" if situation.steps or compared else "no snapshots yet; s takes one"
