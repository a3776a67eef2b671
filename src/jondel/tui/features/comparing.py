"""Comparing any two steps, or a step and now."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.trail.trail import Step
from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.services.moments import NOW, AtStep


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


def _refusal(situation: Situation) -> str:
    return "" if situation.steps else "no snapshots yet; s takes one"
