"""Going along the trail, a step at a time, and to now."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.services.moments import NOW, AtStep, Moment


class Stepping(Feature):
    """Now is at the right end of the trail."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "step.before",
            "step",
            "to the previous step",
            "Time",
            partial(self._walk, -1),
            ("left_square_bracket",),
            refusal=_needs_steps,
            steers=True,
        )
        yield Command(
            "step.next",
            "earlier, later",
            "to the next step, and finally to now; from there to the first new step",
            "Time",
            partial(self._walk, 1),
            ("right_square_bracket",),
            refusal=_needs_steps,
            steers=True,
        )
        yield Command(
            "step.walk",
            "earlier, later",
            "to the previous step",
            "Time",
            partial(self._walk, -1),
            keys_text="[ ]",
            refusal=_needs_steps,
            footer_rank=lambda _: 60,
            steers=True,
            listed=False,
        )
        yield Command(
            "now",
            "now",
            "to now, the live database; at now, to the first new step",
            "Time",
            self._go_to_now,
            ("n",),
            footer_rank=_now_rank,
            label_now=lambda s: f"{s.unseen_steps} new" if s.at_now and s.unseen_steps else "now",
            steers=True,
        )

    def arrived(self) -> None:
        trail = self.desk.workspace.trail
        if len(trail.unseen):
            trail.unseen.look_at(self.desk.place.moment)
            self.desk.show_surroundings()

    def _walk(self, steps: int) -> None:
        moments: list[Moment] = [AtStep(s.number) for s in self.desk.workspace.trail.steps]
        moments.append(NOW)
        here = self.desk.navigator.destination.moment
        if here not in moments:
            self.desk.go_to_moment(NOW)
            return
        place = moments.index(here) + steps
        if 0 <= place < len(moments):
            self.desk.go_to_moment(moments[place])
        elif steps > 0:
            self._go_to_new()

    def _go_to_now(self) -> None:
        if self.desk.navigator.destination.moment != NOW:
            self.desk.go_to_moment(NOW)
        else:
            self._go_to_new()

    def _go_to_new(self) -> None:
        first = self.desk.workspace.trail.unseen.first
        if first is not None:
            self.desk.go_to_moment(first)


def _now_rank(situation: Situation) -> int:
    if situation.at_now:
        return 93 if situation.unseen_steps else 0
    return 59


def _needs_steps(situation: Situation) -> str:
    return "" if situation.steps else "no snapshots yet; s takes one"
