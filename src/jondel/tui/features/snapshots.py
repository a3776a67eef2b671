"""Taking snapshots."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.browse.display import line
from jondel.tui.frame.commands import Command
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.place import Place
from jondel.tui.services.moments import AtStep


class Snapshots(Feature):
    """A snapshot ends a step, and leads to what it changed."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "snapshot",
            "snapshot",
            "take a snapshot",
            "Time",
            self._take,
            ("s",),
            footer_rank=lambda _: 90,
            steers=True,
            task="snapshot",
            beside=True,
        )
        yield Command(
            "snapshot.labelled",
            "with a label",
            "take a snapshot with a label",
            "Time",
            self._take_with_label,
            ("S",),
            steers=True,
        )

    async def _take_with_label(self) -> None:
        from jondel.tui.dialogs.entries import (
            LabelDialog,
        )  # dialogs are not needed for the first rows

        steps = self.desk.workspace.trail.steps
        table = self.desk.place.table
        example = f"{line(str(table), 40)} as it should be" if table else ""
        taken = [s.after.label for s in steps if s.after.label]
        label = await self.desk.ask(LabelDialog(taken, example=example))
        if label is not None:
            await self._take(label)

    async def _take(self, label: str | None = None) -> None:
        desk = self.desk
        visit = desk.navigator.visit(Reach.MOMENT)
        # These use the surveying thread and can be done again later.
        desk.stop_work("counts")
        desk.comparer.pause()
        try:
            with desk.busy("taking a snapshot"):
                step = await desk.workspace.trail.take_snapshot(label)
        finally:
            desk.comparer.refresh_now()
            desk.loader.count_soon()
        desk.comparer.start_anew()
        desk.follower.action_recorded(desk.follower.token)
        desk.show_surroundings()
        if step.before is None:
            desk.say(f"{step.after.id} taken. Do one thing in the app, then press s again.")
            desk.loader.load_changes()
        elif visit.ended or desk.navigator.journey is not None:
            desk.say(f"{step.after.id} taken; ] leads there")  # one has gone elsewhere meanwhile
        else:
            place = Place(AtStep(step.number), desk.place.compare_from, desk.place.table)
            desk.navigator.go(place, view="changes", afresh=True, focus=True)
        notice = desk.workspace.trail.budget_notice
        if notice:
            desk.say(notice)
            desk.workspace.trail.budget_notice = ""
