"""Making the app do something, and holding what it wrote against what is expected."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterable, Mapping
from dataclasses import replace

from jondel.core.browse.display import line
from jondel.core.findings.finding import Finding
from jondel.core.model.schema import ROW_ID
from jondel.core.model.values import Value
from jondel.core.trail.trail import Step
from jondel.core.verify.actions import Action
from jondel.core.verify.run import ActionResult
from jondel.tui.features.comparing import selected_step
from jondel.tui.features.confirming import confirm
from jondel.tui.frame.commands import CHANGES, VERIFY, Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.navigator import Stop
from jondel.tui.frame.place import AtKey, Place
from jondel.tui.frame.view import ShownRecord
from jondel.tui.services.moments import NOW, AtStep
from jondel.tui.views.records.access import opened_records
from jondel.tui.views.verify.access import needs_line, opened_verify

_TASK = "verify run"


class Verifying(Feature):
    """Actions and expectations."""

    def commands(self) -> Iterable[Command]:
        yield Command(
            "act",
            "actions",
            "run one of the app's actions, as a step of the trail",
            "Verify",
            self._act,
            ("a",),
            footer_rank=lambda s: 30 if s.actions else 0,
            steers=True,
            task=_TASK,
            beside=True,
        )
        yield Command(
            "expect",
            "expect this",
            "expect from now on what the selected step wrote, written down in jondel.toml",
            "Verify",
            self._accept,
            ("Y",),
            refusal=_needs_step,
            footer_rank=lambda s: 75 if s.view == "verify" else 0,
        )
        yield Command(
            "transactions",
            "transactions",
            "show what the step wrote transaction by transaction",
            "Verify",
            self._show_transactions,
            ("p",),
            contexts=CHANGES | VERIFY,
            refusal=_needs_step,
        )
        yield from self._of_the_view()

    def _of_the_view(self) -> Iterable[Command]:
        yield Command(
            "verify.run",
            "run",
            "run the action as a step, or go to the record of the finding",
            "Verify",
            self._enter,
            ("enter",),
            contexts=VERIFY,
            refusal=needs_line,
            footer_rank=lambda _: 90,
            task=_TASK,
            beside=True,
        )
        yield Command(
            "verify.run_all",
            "run all",
            "run all actions, one after the other",
            "Verify",
            self._run_all,
            ("A",),
            contexts=VERIFY,
            footer_rank=lambda _: 70,
            task=_TASK,
            beside=True,
        )
        yield Command(
            "verify.step",
            "its step",
            "go to what the action wrote when it ran last",
            "Verify",
            self._go_to_step,
            ("o",),
            contexts=VERIFY,
            refusal=needs_line,
            footer_rank=lambda _: 72,
        )

    # Running

    async def _act(self) -> None:
        from jondel.tui.dialogs.action import ActionDialog

        desk = self.desk
        plan = await desk.workspace.verifying.plan()
        if not plan.actions:
            desk.say("no actions are known for this database; V shows how to write one")
            return
        action = await desk.ask(ActionDialog(plan.actions))
        if action is not None:
            result = await self._run(action)
            if result is not None:
                self._arrive_at(result)

    async def _enter(self) -> None:
        view = opened_verify(self.desk)
        if view is None:
            return
        if view.current_finding is not None:
            self._go_to_record(view.current_finding)
        elif view.current_action is not None:
            result = await self._run(view.current_action)
            if result is not None:
                self._say_result(result)

    async def _run_all(self) -> None:
        view, desk = opened_verify(self.desk), self.desk
        if view is None or view.plan is None:
            return
        met = unmet = 0
        for action in view.plan.actions:
            result = await self._run(action)
            if result is None:
                return
            met += result.met is True
            unmet += result.met is False
        desk.say(f"all were run: {met} met, {unmet} not met")

    async def _run(self, action: Action) -> ActionResult | None:
        """Run an action and show how far it is; None where it was stopped."""
        desk, view = self.desk, opened_verify(self.desk)
        if view is not None and view.running is not None:
            desk.say(f"{view.running.name} is still running; Escape stops it")
            return None
        # As the file has it now: it may have been changed in an editor meanwhile.
        plan = await desk.workspace.verifying.plan()
        if plan.problem:
            desk.say_problem(plan.problem)
            return None
        current = next((a for a in plan.actions if a.name == action.name), None)
        if current is None:
            desk.say(f"there is no action {action.name!r} in {plan.path} any more")
            return None
        action = current
        loop = asyncio.get_running_loop()

        def told(stage: str) -> None:
            loop.call_soon_threadsafe(self._show_stage, action, stage)

        def ask_person(words: str, cancelled: threading.Event) -> None:
            self._wait_for_person(loop, words, cancelled)

        desk.stop_work("counts")
        desk.comparer.pause()
        self._show_stage(action, "beginning")
        try:
            with desk.busy(f"running {action.name}"), desk.follower.writing_ourselves():
                result = await desk.workspace.verifying.run(
                    action, self._current_record(), told, ask_person
                )
        finally:
            self._show_stage(None, "")
            desk.comparer.refresh_now()
            desk.loader.count_soon()
        desk.comparer.start_anew()
        desk.follower.action_recorded(desk.follower.token)
        desk.show_surroundings()
        view = opened_verify(desk)
        if view is not None:
            view.refresh_all()
        return result

    def _show_stage(self, action: Action | None, stage: str) -> None:
        view = opened_verify(self.desk)
        if view is not None and self.desk.app_is_here:
            view.show_running(action, stage)

    def _wait_for_person(
        self, loop: asyncio.AbstractEventLoop, words: str, cancelled: threading.Event
    ) -> None:
        """Have the person do something in the app; called in the thread that runs the action."""
        done = threading.Event()

        async def ask() -> None:
            try:
                lines = [line(words, 400), "Everything it writes until you say so is in the step."]
                if not await confirm(self.desk, "Do this in the app", lines, "it is done"):
                    cancelled.set()
            finally:
                done.set()

        loop.call_soon_threadsafe(lambda: self.desk.start(ask, "by hand"))
        while not done.wait(0.1):
            if cancelled.is_set():
                return

    def _current_record(self) -> Mapping[str, Value]:
        """The cells of the record that one is on, or was on last."""
        view = opened_records(self.desk)
        shown = view.shown if view is not None else None
        if not isinstance(shown, ShownRecord):
            return {}
        return dict(zip(shown.table.column_names, shown.row, strict=False))

    def _say_result(self, result: ActionResult) -> None:
        desk, name = self.desk, result.action.name
        if result.failure:
            desk.say_problem(f"{name}: {result.failure}")
        elif result.met is None:
            said = result.step.outcome.said if result.step is not None else ""
            desk.say(f"{name}: {line(said, 200)}; Y expects this from now on")
        elif result.met:
            desk.say(f"{name}: met")
        else:
            desk.say_problem(f"{name}: not met: {result.summary}")

    def _arrive_at(self, result: ActionResult) -> None:
        """Go to what an action wrote, unless it came to nothing."""
        desk, step = self.desk, result.step
        if step is None or result.failure:
            desk.say_problem(f"{result.action.name}: {result.failure}")
            return
        said = f": {line(step.outcome.said, 200)}" if step.outcome.said else ""
        desk.say(f"{result.action.name}{said}")
        if desk.navigator.journey is None and desk.navigator.view != "verify":
            place = Place(AtStep(step.after.number), None, desk.place.table)
            desk.navigator.go(place, view="changes", afresh=True, focus=True)

    # Expecting

    async def _accept(self) -> None:
        desk, view = self.desk, opened_verify(self.desk)
        step = view.step_of_current if view is not None and _in_view(desk) else None
        step = step or selected_step(desk)
        if step is None:
            return
        if step.before is None:
            desk.say("the trail begins with this snapshot; do one thing in the app first")
            return
        from jondel.tui.dialogs.accepting import AcceptDialog

        name = await self._name_of(step)
        if name is None:
            return
        verifying = desk.workspace.verifying
        plan = await verifying.plan()
        with desk.busy("looking at what varies"):
            made = await verifying.proposed(step, name)
        replaces = name in plan.expectations
        varying = await desk.ask(AcceptDialog(name, made.expectation, replaces=replaces))
        if varying is None:
            return
        if varying:
            made = await verifying.proposed(step, name, varying)
        path = await verifying.accept(step, made)
        more = f"; {made.restless[0]}" if made.restless else ""
        await self._offer_same_state(step, name)
        desk.say(f"{name}: expected from now on, in {path}{more}")
        view = opened_verify(desk)
        if view is not None:
            view.refresh_all()

    async def _offer_same_state(self, step: Step, name: str) -> None:
        """Have an action begin from where it began this time, if that is wanted."""
        desk, verifying = self.desk, self.desk.workspace.verifying
        plan = await verifying.plan()
        action = next((a for a in plan.actions if a.expectation == name), None)
        if action is None or action.start or step.before is None:
            return
        before = step.before
        lines = [
            f"Then {before.id} is restored before each run, and what was written since is undone.",
            "Else each run begins from what the one before left, and may rightly write another "
            "thing.",
        ]
        title = "Begin each run from the same state?"
        if not await confirm(desk, title, lines, "restores it each time", "leaves it as it is"):
            return
        label = before.label
        if label is None:
            taken = {other.after.label for other in desk.workspace.trail.steps}
            label = f"before {name}"[:90]
            while label in taken:
                label += "'"
            await desk.workspace.tend(lambda trail: trail.rename(before, label))
        await verifying.keep_action(replace(action, start=label))

    async def _name_of(self, step: Step) -> str | None:
        """What an expectation is called: as the action is that made the step, or as one says."""
        desk = self.desk
        plan = await desk.workspace.verifying.plan()
        for run in reversed(plan.runs):
            if run.number == step.number:
                action = next((a for a in plan.actions if a.name == run.action), None)
                return action.expectation if action is not None else run.action
        from jondel.tui.dialogs.entries import LabelDialog

        title = "Expect what this step wrote: under which name?"
        name: str | None = await desk.ask(LabelDialog((), title, example=step.after.title))
        return name

    async def _show_transactions(self) -> None:
        from jondel.tui.dialogs.transactions import TransactionsDialog

        desk, view = self.desk, opened_verify(self.desk)
        step = view.step_of_current if view is not None and _in_view(desk) else None
        step = step or selected_step(desk)
        if step is None:
            return
        seen = await desk.workspace.verifying.transactions(step)
        if seen is None:
            desk.say(
                f"{step.after.id}: its transactions were not observed; those of actions and of "
                "`jondel record` are"
            )
        else:
            await desk.ask(TransactionsDialog(step.after.id, seen))

    # Going elsewhere

    def _go_to_step(self) -> None:
        desk, view = self.desk, opened_verify(self.desk)
        step = view.step_of_current if view is not None else None
        if step is None:
            desk.say("it has not been run yet, or its step was deleted")
            return
        place = Place(AtStep(step.number), None, desk.place.table)
        leaving = Stop("verify", desk.place)
        desk.navigator.go(place, view="changes", leaving=leaving, afresh=True, focus=True)

    def _go_to_record(self, finding: Finding) -> None:
        desk = self.desk
        if finding.table is None or not finding.key:
            desk.say("this is about the whole step, and no single record")
            return
        at = desk.place.moment
        columns = () if finding.key_columns == (ROW_ID,) else finding.key_columns
        number = finding.key[0] if not columns else None
        row_id = number if isinstance(number, int) else None
        record = AtKey(columns, finding.key, row_id)
        view = opened_verify(desk)
        moment = NOW if view is not None and view.shows_all_tables else at
        place = Place(moment, None, finding.table, record, finding.column)
        leaving = Stop("verify", desk.place)
        desk.navigator.go(place, view="records", leaving=leaving, afresh=True, focus=True)


def _in_view(desk: Desk) -> bool:
    return desk.navigator.view == "verify"


def _needs_step(situation: Situation) -> str:
    return "" if situation.steps else "no snapshots yet; s takes one"
