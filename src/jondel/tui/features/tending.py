"""Tending the trail: listing its steps, labelling, pinning, deleting and exporting them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.errors import JondelError
from jondel.core.trail.trail import Step, Trail
from jondel.tui.features.comparing import compare_from, selected_step
from jondel.tui.features.confirming import confirm
from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.services.moments import AtStep

if TYPE_CHECKING:
    from jondel.tui.dialogs.trail import TrailDialog


class Tending(Feature):
    """What is done with a step is done from here, whichever feature does it."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "trail",
            "trail",
            "the whole trail: go to a step, or tend it",
            "Time",
            self._list,
            ("g",),
            refusal=_needs_steps,
            footer_rank=lambda _: 50,
        )
        yield Command(
            "step.label",
            "label",
            "label the selected step",
            "Time",
            self._label_selected,
            ("l",),
            refusal=_needs_steps,
        )

    async def _list(self) -> None:
        from jondel.tui.dialogs.trail import StepVerb, TrailDialog

        desk = self.desk
        place = desk.place
        dialog = TrailDialog(desk.workspace.trail.steps, place.moment, place.compare_from)
        desk.start(partial(self._show_size, dialog), "trail-size")
        wish = await desk.ask(dialog)
        if wish is None:
            return
        step = desk.workspace.trail.require_step(wish.step.number)
        match wish.verb:
            case StepVerb.GO_TO:
                desk.go_to_moment(AtStep(step.number))
            case StepVerb.LABEL:
                await self._label(step)
            case StepVerb.ANNOTATE:
                await self._annotate(step)
            case StepVerb.PIN:
                await self._pin(step)
            case StepVerb.COMPARE_FROM:
                compare_from(desk, step)
            case StepVerb.DELETE:
                await self._delete(step)
            case StepVerb.RESTORE:
                desk.restore_step(step)
            case StepVerb.TAKE_BACK:
                desk.take_back_step(step)
            case StepVerb.EXPORT:
                await self._export(step)

    async def _show_size(self, dialog: TrailDialog) -> None:
        """Say in the dialog how much room the trail takes, once that is known."""
        try:
            size = await self.desk.workspace.trail.size()
        except JondelError:
            return  # of no consequence; what is wrong with the store is said where it is used
        if dialog.is_attached:
            dialog.show_size(size)

    async def _label_selected(self) -> None:
        step = selected_step(self.desk)
        if step is not None:
            await self._label(step)

    async def _label(self, step: Step) -> None:
        from jondel.tui.dialogs.entries import LabelDialog

        steps = self.desk.workspace.trail.steps
        taken = [s.after.label for s in steps if s.after.label]
        title = f"Label of {step.after.id}"
        label = await self.desk.ask(LabelDialog(taken, title, step.after.label or ""))
        if label is not None:
            await self._tend(lambda trail: trail.rename(step.after, label or None))

    async def _annotate(self, step: Step) -> None:
        from jondel.tui.dialogs.entries import NoteDialog

        note = await self.desk.ask(NoteDialog(f"Note on {step.after.id}", step.after.note))
        if note is not None:
            await self._tend(lambda trail: trail.annotate(step.after, note))

    async def _pin(self, step: Step) -> None:
        pinned = not step.after.pinned
        await self._tend(lambda trail: trail.pin(step.after, pinned))
        words = "is pinned: it is never deleted to make room" if pinned else "is unpinned"
        self.desk.say(f"{step.after.id} {words}")

    async def _delete(self, step: Step) -> None:
        lines = ["The snapshot is deleted for good."]
        if step.before is not None:
            lines.append("Its changes become part of the next step.")
        if step.after.label:
            lines.append(f"It has the label {step.after.label!r}.")
        if step.after.pinned:
            lines.append("It is pinned.")
        if await confirm(self.desk, f"Delete {step.after.title}?", lines, "deletes it"):
            await self._tend(lambda trail: trail.delete([step.after], protected_too=True))

    async def _tend(self, change: Callable[[Trail], None]) -> None:
        desk = self.desk
        await desk.workspace.tend(change)
        desk.comparer.start_anew()
        desk.show_surroundings()

    async def _export(self, step: Step) -> None:
        from jondel.tui.dialogs.entries import FileDialog

        title = f"Export {step.after.title} as a database file"
        path = await self.desk.ask(FileDialog(title))
        if path:
            desk = self.desk
            desk.start(partial(self._write_out, step, path), "export", beside=True)

    async def _write_out(self, step: Step, path: str) -> None:
        with self.desk.busy("exporting"):
            await self.desk.workspace.trail.export(step, path)
        self.desk.say(f"{step.after.id} is in {path}")


def _needs_steps(situation: Situation) -> str:
    return "" if situation.steps else "no snapshots yet; s takes one"
