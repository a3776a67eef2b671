"""What changed between two moments, and one record over time, as awaitable calls."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import captures_quickly
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.model.values import StoredValue
from jondel.core.trail.trail import Step
from jondel.tui.services.moments import AtResult, AtStep, Moment, NotAState, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.diff.compare import Scope
    from jondel.core.trail.history import Version

_KEPT_RECORDS = 2000
"""Records listed for each table; all are counted."""
_KEPT_VALUE_BYTES = 16 * 1024
_KEPT_COMPARISONS = 8


class Comparisons:
    """Every coroutine may raise ``JondelError``."""

    def __init__(self, trail: TrailService, survey: MomentReader) -> None:
        self._trail = trail
        self._survey = survey
        self._known: dict[int, tuple[int | None, Changes]] = {}

    @property
    def is_quick(self) -> bool:
        """Whether comparing with now is cheap enough to be done without being asked."""
        return captures_quickly(self._trail.location)

    def known_summary(self, moment: Moment) -> ChangeSummary | None:
        """The size of a step's changes, where they have been looked at before."""
        step = self._trail.resolve(moment)
        return step.summary if isinstance(step, Step) else None

    def forget_all(self) -> None:
        """Find everything anew: other noise rules are in force."""
        self._known.clear()

    def forget_gone(self) -> None:
        """Let go of what is known of steps that are gone, or begin elsewhere now."""
        befores = {step.number: _number_before(step) for step in self._trail.steps}
        for number, (before, _) in list(self._known.items()):
            if number not in befores or befores[number] != before:
                del self._known[number]

    def known_changes(self, moment: Moment) -> Changes | None:
        """A step's changes, where they have been found before."""
        if isinstance(moment, AtStep) and moment.number in self._known:
            return self._known[moment.number][1]
        return None

    async def step_changes(self, step: Step) -> Changes:
        """What a step changed."""
        if step.number in self._known:
            return self._known[step.number][1]

        def work(job: Job) -> tuple[Changes, list[Step]]:
            changes = self._trail.core.step_changes(step, self.scope, job.uses)
            return changes, self._trail.read_steps()

        changes, self._trail.steps = await self._survey.run(work)
        while len(self._known) >= _KEPT_COMPARISONS:
            self._known.pop(next(iter(self._known)))
        self._known[step.number] = (_number_before(step), changes)
        return changes

    async def since_last(self) -> Changes:
        """What was written since the last step; nothing where there is no step."""
        last = self._trail.last
        if last is None:
            return Changes(method="same")
        return await self.losses(last)

    async def losses(self, step: Step) -> Changes:
        """What was written since a step, which restoring it would undo."""

        def work(job: Job) -> Changes:
            live = self._survey.live()
            job.uses(live)
            return self._trail.core.changes(step.after, live, self.scope, job.uses)

        return await self._survey.run(work)

    async def between(self, start: AtStep, end: Moment) -> Changes:
        """What changed from one step to another, or to now; the earlier step comes first."""
        first = self._trail.require_step(start.number)
        if isinstance(end, Now):
            return await self.losses(first)
        last = self._trail.step_at(end)
        if last.number < first.number:
            first, last = last, first

        def work(job: Job) -> Changes:
            return self._trail.core.changes(first.after, last.after, self.scope, job.uses)

        return await self._survey.run(work)

    async def from_other(self, open_other: Callable[[], Database], end: Moment) -> Changes:
        """By what another database, as it is now, differs from a moment of this one."""
        source = self._trail.require_source(end)
        if isinstance(source, AtResult):
            raise NotAState

        def work(job: Job) -> Changes:
            from jondel.core.diff.common_ground import in_terms_of
            from jondel.core.diff.compare import compare
            from jondel.core.trail.two_databases import beside_state

            state = self._survey.live() if isinstance(source, Now) else source.after
            with closing(open_other()) as other:
                job.uses(other)
                with beside_state(other, self._trail.core, state) as sides:
                    for side in sides:
                        job.uses(side)
                    changes = compare(*sides, self.scope)
                    return in_terms_of(changes, self._survey.open(job, source, self._trail.core))

        return await self._survey.run(work)

    async def history(
        self, table: TableId, key_columns: Sequence[str], key: tuple[StoredValue, ...]
    ) -> list[Version]:
        """All versions of a record over the trail, up to now."""
        from jondel.core.trail.history import record_history

        def work(job: Job) -> list[Version]:
            live = self._survey.live()
            job.uses(live)
            trail = self._trail.core
            return list(record_history(trail, table, key_columns, key, live, opened=job.uses))

        return await self._survey.run(work)

    @property
    def scope(self) -> Scope:
        """What is compared, and how much of it is kept."""
        from jondel.core.diff.compare import Scope  # not needed for the first rows

        return Scope(
            keep_records=_KEPT_RECORDS,
            keep_value_bytes=_KEPT_VALUE_BYTES,
            noise=self._trail.rules,
            inside=True,
        )


def _number_before(step: Step) -> int | None:
    return step.before.number if step.before is not None else None
