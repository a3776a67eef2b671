"""Runs the app's actions and looks for findings, in a thread of its own."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.diff.compare import Scope
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import JondelError
from jondel.core.files.toml_entries import TomlFile
from jondel.core.findings.dismissals import (
    Dismissal,
    dismiss,
    dismissals_in,
    without_dismissed,
)
from jondel.core.findings.finding import Finding
from jondel.core.findings.looking import findings_of, findings_of_recorded_step
from jondel.core.model.values import Value
from jondel.core.snapshots.action_runs import ActionRun
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Step, Trail
from jondel.core.trail.transactions import (
    TransactionChanges,
    changes_by_transaction,
    crossings,
)
from jondel.core.verify.acceptance import Accepted, Seen, accept
from jondel.core.verify.actions import Action
from jondel.core.verify.expectation import Expectation
from jondel.core.verify.matchers import Setting
from jondel.core.verify.matching import hold_against
from jondel.core.verify.plan_file import Plan, PlanFile
from jondel.core.verify.recording import Place, Told
from jondel.core.verify.run import ActionResult, PlanRun, Surroundings, knowledge_of
from jondel.core.verify.verdict import Verdict
from jondel.tui.services.threads import Job, WorkThread
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.model.addresses import TableId

_KEPT_RECORDS = 20_000


class KnownPlan(NamedTuple):
    """The actions there are, what they should write, and how they went."""

    path: Path
    actions: Sequence[Action]
    expectations: Mapping[str, Expectation]
    runs: Sequence[ActionRun]
    problem: str = ""
    """What is wrong with the project's file; its own actions are missing then."""

    def runs_of(self, action: Action) -> list[ActionRun]:
        """The runs of an action, oldest first."""
        return [run for run in self.runs if run.action == action.name]


class StepKnowledge(NamedTuple):
    """What is known of a step beside its changes."""

    run: ActionRun | None
    verdict: Verdict | None
    transactions: str
    """In how many it was written, in words; empty where nothing is known of that."""


class SeenTransactions(NamedTuple):
    """The transactions of a step, and what belongs together and came in different ones."""

    words: str
    parts: Sequence[TransactionChanges]
    crossings: Sequence[str]


class _Stopping:
    """What a job interrupts to stop an action."""

    def __init__(self) -> None:
        self.cancelled = threading.Event()

    def interrupt(self) -> None:
        self.cancelled.set()

    def resume(self) -> None:
        """Nothing is gone on with: the action has been stopped."""


class VerifyService:
    """Every coroutine may raise ``JondelError``."""

    def __init__(
        self, location: str, target: str, trail: TrailService, actions: Sequence[Action]
    ) -> None:
        """``actions`` are those that are known without the project's file."""
        self._location, self._target = location, target
        self._trail = trail
        self._own_actions = tuple(actions)
        self._thread = WorkThread("verify")
        self._opened: tuple[Database, Trail] | None = None
        trail.also_ours.append(lambda: self._opened[1].taken if self._opened else frozenset())

    def close(self) -> None:
        """Stop it, and let go of everything."""

        def end() -> None:
            if self._opened is not None:
                self._opened[0].close()
                self._opened[1].close()

        self._thread.close(end)

    @property
    def project(self) -> Project:
        return Project(self._location)

    def _open(self, job: Job) -> tuple[Database, Trail]:
        """A connection and a trail of this thread's own."""
        if self._opened is None:
            self._opened = open_database(self._target), Trail(self._location)
        database, trail = self._opened
        database.resume()
        job.uses(database)
        return database, trail

    async def plan(self) -> KnownPlan:
        """What there is to run, and how it went so far."""

        def work(job: Job) -> KnownPlan:
            problem = ""
            plan = Plan(self.project.file, "", [], {})
            try:
                plan = PlanFile(self.project).read()
            except JondelError as error:
                problem = str(error)
            # What the file says of an action counts, in the place that the action has.
            own = {action.name: action for action in self._own_actions}
            actions = own | {action.name: action for action in plan.actions}
            runs: list[ActionRun] = []
            with suppress(JondelError):  # what is wrong with the store is said where it is used
                runs = self._open(job)[1].runs.all()
            return KnownPlan(plan.path, tuple(actions.values()), plan.expectations, runs, problem)

        return await self._thread.run(work)

    async def run(
        self,
        action: Action,
        record: Mapping[str, Value],
        told: Callable[[str], None],
        ask_person: Callable[[str, threading.Event], None],
    ) -> ActionResult:
        """Run an action as a step. Cancelling the awaiting task stops it; it is a step then too.

        ``told`` hears how far it is, in another thread.
        """

        def work(job: Job) -> ActionResult:
            database, trail = self._open(job)
            stopping = _Stopping()
            job.uses(stopping)
            plan = PlanFile(self.project).read()
            around = Surroundings.of(
                self.project, os.environ, lambda words: ask_person(words, stopping.cancelled)
            )
            around = replace(around, cancelled=stopping.cancelled)
            place = Place(trail, database, self._target, record)
            with closing(around.runner()) as runner:
                result = PlanRun(plan, place, around, Told(told)).result(action, 1, place, runner)
            trail.keep_within_budget()
            return result

        result = await self._thread.run_to_an_end(work)
        await self._trail.reload()
        return result

    async def knowledge(self, step: Step) -> StepKnowledge:
        """What is known of a step, and how it stands to its expectation now."""

        def work(job: Job) -> StepKnowledge:
            _, trail = self._open(job)
            run = trail.runs.of_step(step.number)
            known = trail.transactions.of_step(step.number)
            verdict = None
            if run is not None and step.before is not None:
                plan = PlanFile(self.project).read()
                action = plan.action(run.action)
                name = action.expectation if action is not None else run.action
                expectation = plan.expectations.get(name)
                if expectation is not None:
                    changes = trail.changes(step.before, step.after, self._scope, job.uses)
                    setting = Setting(run.began, run.ended)
                    verdict = hold_against(expectation, changes, setting, known)
            return StepKnowledge(run, verdict, known.words if known is not None else "")

        return await self._thread.run(work)

    @property
    def _scope(self) -> Scope:
        return Scope(noise=self.project.noise_rules(), keep_records=_KEPT_RECORDS, inside=True)

    async def proposed(
        self, step: Step, name: str, varying: Collection[tuple[TableId, str]] = ()
    ) -> Accepted:
        """What would be expected from now on: what a step wrote. Other runs of the same action from
        the same state tell what varies; ``varying`` are columns that a person says do."""

        def work(job: Job) -> Accepted:
            _, trail = self._open(job)
            if step.before is None:
                raise JondelError("the trail begins with this snapshot; it has no changes")
            run = trail.runs.of_step(step.number)
            taken = step.after.taken_at
            setting = Setting(run.began, run.ended) if run is not None else Setting(taken, taken)
            changes = trail.changes(step.before, step.after, self._scope, job.uses)
            with trail.opened(step.after) as after:
                knowledge = knowledge_of(self.project, after, self._words_of(run), tuple(varying))
            again = list(self._again(trail, step, run, job))
            return accept(name, Seen(changes, setting), knowledge, again)

        return await self._thread.run(work)

    def _words_of(self, run: ActionRun | None) -> str:
        """The words of the action that was run."""
        if run is None:
            return ""
        actions = (*PlanFile(self.project).read().actions, *self._own_actions)
        return next((action.given for action in actions if action.name == run.action), "")

    async def accept(self, step: Step, made: Accepted) -> Path:
        """Expect from now on what was proposed for a step."""

        def work(job: Job) -> Path:
            _, trail = self._open(job)
            path = PlanFile(self.project).keep_expectation(made.expectation)
            trail.runs.judge(step.number, "met")
            return path

        return await self._thread.run(work)

    def _again(self, trail: Trail, step: Step, run: ActionRun | None, job: Job) -> Sequence[Seen]:
        """Other steps of the same action that began from the same state."""
        if run is None or step.before is None:
            return []
        of_action = {
            other.number: other
            for other in trail.runs.all()
            if other.action == run.action and other.number not in (None, step.number)
        }
        found = []
        for other_step in trail.steps():
            other = of_action.get(other_step.number)
            before = other_step.before
            if other is None or before is None or before.image != step.before.image:
                continue
            changes = trail.changes(before, other_step.after, self._scope, job.uses)
            if not other.failure:
                found.append(Seen(changes, Setting(other.began, other.ended)))
        return found[-3:]

    async def transactions(self, step: Step) -> SeenTransactions | None:
        """The transactions of a step one by one; None where nothing is known of them."""

        def work(job: Job) -> SeenTransactions | None:
            _, trail = self._open(job)
            known = trail.transactions.of_step(step.number)
            if known is None or step.before is None:
                return None
            parts = changes_by_transaction(trail, step.before, step.after, self._scope)
            words: list[str] = []
            if len(parts) > 1:
                with trail.opened(step.after) as after:
                    links = knowledge_of(self.project, after, "").links
                words = list(crossings(parts, links))
            return SeenTransactions(known.words, parts, words)

        return await self._thread.run(work)

    # Findings

    async def findings_of_step(self, step: Step) -> list[Finding]:
        """What is suspicious in a step, without what is dismissed."""

        def work(job: Job) -> list[Finding]:
            _, trail = self._open(job)
            if step.before is None:
                return []
            found = findings_of_recorded_step(
                trail, step.before, step.after, self.project, job.uses
            )
            return self._not_dismissed(list(found))

        return await self._thread.run(work)

    async def findings(self, told: Callable[[str], None]) -> list[Finding]:
        """What is suspicious in all tables as they are now, without what is dismissed."""

        def work(job: Job) -> list[Finding]:
            database, trail = self._open(job)
            with trail.now(database) as (state, _):
                job.uses(state)
                found = findings_of(state, self.project, None, job.require_wanted, told)
                return self._not_dismissed(list(found))

        return await self._thread.run(work)

    def _not_dismissed(self, found: list[Finding]) -> list[Finding]:
        known = dismissals_in(TomlFile(self.project.file))
        return list(without_dismissed(found, known))

    async def dismiss(self, finding: Finding, reason: str) -> Path:
        """Tell of findings of this kind in this place no more."""
        dismissal = Dismissal(finding.kind, finding.place, reason)
        return await self._thread.run(lambda _: dismiss(self.project, dismissal))

    # Editing

    async def keep_action(self, action: Action, instead_of: str = "") -> Path:
        """Write an action into the project's file."""
        return await self._thread.run(
            lambda _: PlanFile(self.project).keep_action(action, instead_of)
        )

    async def remove_action(self, name: str) -> Path:
        """Take an action out of the project's file."""
        return await self._thread.run(lambda _: PlanFile(self.project).remove_action(name))
