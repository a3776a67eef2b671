"""The trail of the open database, as awaitable calls: its steps, taking snapshots, tending them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from jondel.core.files.small_files import SmallFile
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.trail import Step, Trail
from jondel.tui.services.moments import (
    AtResult,
    AtStep,
    GoneStep,
    Moment,
    NotAState,
    Now,
    Resolved,
    StepGone,
)
from jondel.tui.services.readers import MomentReader, Source
from jondel.tui.services.threads import Job
from jondel.tui.services.unseen import UnseenSteps

if TYPE_CHECKING:
    from jondel.core.diff.noise import NoiseRules
    from jondel.core.trail.watch import WatchTimes

T = TypeVar("T")


class TrailService:
    """Every coroutine may raise ``JondelError``."""

    def __init__(self, location: str, survey: MomentReader) -> None:
        self.location = location
        self._steps: list[Step] = []
        self.on_steps_gone: Callable[[], None] = lambda: None
        """Called when steps are found to be gone, whoever deleted them."""
        self.rules_problem = ""
        """Why the project's noise rules cannot be read; empty while they can."""
        self.budget_notice = ""
        """What there is to say about the store's budget; empty if nothing."""
        self.noise_shown = False
        """Whether changes that noise rules hide are shown all the same."""
        self.actions_done: list[str] = []
        """What the app was made to do since the last snapshot."""
        self.unseen = UnseenSteps()
        self._survey = survey
        self._trail: Trail | None = None
        self._rules: NoiseRules | None = None
        self._rules_stamp: tuple[str, int, int] | None = None
        self.also_ours: list[Callable[[], frozenset[int]]] = []
        """What tells the numbers of snapshots that were taken here by another way."""
        self._accounted_for = 0
        """The number of the last step of which is known whether it is new to the person."""

    # Steps

    @property
    def steps(self) -> list[Step]:
        """All steps as last read, oldest first."""
        return self._steps

    @steps.setter
    def steps(self, steps: list[Step]) -> None:
        gone = {step.number for step in self._steps} - {step.number for step in steps}
        self._steps = steps
        if gone:
            self.unseen.keep(step.number for step in steps)
            self.on_steps_gone()

    def resolve(self, moment: Moment) -> Resolved:
        """What a moment is on the trail as it is now."""
        if isinstance(moment, Now | AtResult):
            return moment
        found = next((step for step in self.steps if step.number == moment.number), None)
        return found if found is not None else GoneStep(moment.number)

    def require_source(self, moment: Moment) -> Source:
        """Where to read a moment. Raises ``StepGone``."""
        resolved = self.resolve(moment)
        if isinstance(resolved, GoneStep):
            raise StepGone(resolved.number)
        return resolved

    def step_at(self, moment: AtStep | AtResult) -> Step:
        """The step that a moment is. Raises ``StepGone``, and ``NotAState`` where it is none."""
        if isinstance(moment, AtResult):
            raise NotAState
        return self.require_step(moment.number)

    def require_step(self, number: int) -> Step:
        """A step by its number. Raises ``StepGone``."""
        for step in self.steps:
            if step.number == number:
                return step
        raise StepGone(number)

    @property
    def last(self) -> Step | None:
        """The latest step."""
        return self.steps[-1] if self.steps else None

    @property
    def if_opened(self) -> Trail | None:
        """The trail, if it has been opened."""
        return self._trail

    @property
    def core(self) -> Trail:
        """The trail itself, for work in the surveying thread.

        Raises:
            StoreUnavailable: it could not be opened; the database can be looked at all the same.
        """
        if self._trail is None:
            self._trail = Trail(self.location)
        return self._trail

    def read_steps(self) -> list[Step]:
        """Read the steps, in the surveying thread."""
        return self.core.steps(self.rules)

    async def open(self) -> None:
        """Read what is recorded for the database; it need not be readable itself for that."""
        self.steps = await self._survey.run(lambda _: self.read_steps())
        self._account_for(self.steps)

    async def reload(self) -> bool:
        """Read the trail anew; True if another process changed it."""
        steps = await self._survey.run(lambda _: self.read_steps())
        known = [step.after for step in self.steps]
        self.steps = steps
        # Nothing that was taken here is new, whichever reading of the trail it comes to light in.
        self.unseen.add(
            step.number
            for step in steps
            if step.number > self._accounted_for and step.number not in self._ours
        )
        self._account_for(steps)
        return [step.after for step in steps] != known

    @property
    def _ours(self) -> frozenset[int]:
        """The numbers of the snapshots that were taken here, and not by somebody else."""
        return self.core.taken.union(*(taken() for taken in self.also_ours))

    def _account_for(self, steps: list[Step]) -> None:
        self._accounted_for = max([self._accounted_for, *(step.number for step in steps)])

    async def size(self) -> int:
        """How many bytes the trail's snapshots take."""
        return await self._survey.run(lambda _: self.core.size())

    async def tend(self, change: Callable[[Trail], None]) -> None:
        """Change something about the trail's snapshots."""

        def work(_: Job) -> list[Step]:
            change(self.core)
            return self.read_steps()

        self.steps = await self._survey.run(work)

    async def export(self, step: Step, path: str) -> None:
        """Write a step's database out as a file, which must not be there yet."""
        await self._survey.run(
            lambda job: self.core.export(step.after, Path(path).expanduser(), job.require_wanted)
        )

    # A database that was moved

    async def moved_from(self) -> str | None:
        """The place of a database that is gone and held what this one holds, if nobody said no."""

        def work(_: Job) -> str | None:
            other = self.core.maybe_moved_from
            refused = SmallFile("moves", self.location).read().get("not")
            return other if other != refused else None

        return await self._survey.run(work)

    async def take_over(self, other: str, wanted: bool) -> None:
        """Have another place's trail be this database's, or never be offered again."""

        def work(_: Job) -> list[Step]:
            if wanted:
                self.core.take_over(other)
            else:
                SmallFile("moves", self.location).write({"not": other})
            return self.read_steps()

        self.steps = await self._survey.run(work)
        self._account_for(self.steps)

    # Taking snapshots

    async def take_snapshot(self, label: str | None) -> Step:
        """Take a snapshot of the live database; what the app was made to do since is its title."""
        done = len(self.actions_done)

        def work(job: Job) -> list[Step]:
            database = self._survey.live()
            job.uses(database)
            self.core.take(database, label, self._trigger(Trigger()))
            self.make_room()
            return self.read_steps()

        self.steps = await self._survey.run(work)
        del self.actions_done[:done]
        return self.steps[-1]

    async def take_if_changed(self, words: str = "") -> Step | None:
        """Take a snapshot as part of watching; None if nothing but noise was committed since."""
        done = len(self.actions_done)

        def work(job: Job) -> tuple[bool, list[Step]]:
            database = self._survey.live()
            job.uses(database)
            taken_before = self.core.taken
            watching = Trigger("watch", words)
            if words:
                self.core.take_unless_unchanged(database, watching)
            else:
                self.core.take_unless_noise(
                    database, self._trigger(watching), self._rules_or_none, job.uses
                )
            taken = self.core.taken - taken_before
            if taken:
                self.make_room()
            return bool(taken), self.read_steps()

        taken, self.steps = await self._survey.run(work)
        if taken and not words:
            del self.actions_done[:done]
            self.unseen.add([self.steps[-1].number])
        return self.steps[-1] if taken else None

    def _trigger(self, otherwise: Trigger) -> Trigger:
        acted = ", ".join(dict.fromkeys(self.actions_done))
        return Trigger("action", acted) if acted else otherwise

    def make_room(self) -> None:
        """Keep the store within its budget, in the surveying thread."""
        gone, still_over = self.core.keep_within_budget()
        if gone:
            self.budget_notice = f"{len(gone)} old snapshots were deleted to make room"
        if still_over:
            self.budget_notice = (
                "the store is larger than its budget: delete labelled snapshots (g, d) or raise it"
            )

    # Noise rules

    async def change_rules(self, change: Callable[[NoiseRules], NoiseRules]) -> str:
        """Change the project's noise rules; returns the file they are in."""
        from jondel.core.trail.project import Project

        def work(_: Job) -> tuple[str, list[Step]]:
            path = Project(self.location).change_noise_rules(change)
            self.look_at_rules()
            return str(path), self.read_steps()

        path, self.steps = await self._survey.run(work)
        return path

    async def rules_changed(self) -> bool:
        """Whether somebody changed the noise rules of the project's file since they were read.

        Other things are kept in that file too.
        """

        def work(_: Job) -> bool:
            before, problem_before = self._rules, self.rules_problem
            if not self.look_at_rules():
                return False
            rules = self._rules_or_none  # which also finds what is wrong with them
            if self.rules_problem or problem_before:
                return self.rules_problem != problem_before
            return before is not None and rules != before  # None: nobody has used them yet

        return await self._survey.run(work)

    def look_at_rules(self) -> bool:
        """Have the rules read anew where their file was changed, by whomever; False where not."""
        from jondel.core.trail.project import Project

        stamp = Project(self.location).stamp()
        if stamp == self._rules_stamp:
            return False
        known, self._rules_stamp = self._rules_stamp is not None, stamp
        self._rules, self.rules_problem = None, ""
        return known

    @property
    def project_rules(self) -> NoiseRules:
        """The project's noise rules, whether or not they are in force. Raises ``RuleInvalid``."""
        if self._rules is None:
            from jondel.core.trail.project import Project  # not needed for the first rows

            project = Project(self.location)
            self._rules_stamp = self._rules_stamp or project.stamp()
            self._rules = project.noise_rules()
        return self._rules

    @property
    def rules(self) -> NoiseRules:
        """The noise rules in force; none where their file is broken, see ``rules_problem``."""
        from jondel.core.diff.noise import NoiseRules

        return NoiseRules() if self.noise_shown else self._rules_or_none

    @property
    def _rules_or_none(self) -> NoiseRules:
        """The project's noise rules, also while noise is shown; none where their file is broken."""
        from jondel.core.diff.noise import NoiseRules
        from jondel.core.errors import RuleInvalid

        try:
            return self.project_rules
        except RuleInvalid as error:
            self.rules_problem = str(error)
            return NoiseRules()

    @property
    def watch_times(self) -> WatchTimes:
        """When an app action is over, by the project's file. Raises ``RuleInvalid``."""
        from jondel.core.trail.project import Project

        return Project(self.location).watch_times()
