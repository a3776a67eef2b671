"""What writes to the live database, as awaitable calls: restoring, taking back, drafts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeAlias

from jondel.core.engines.protocol import Database
from jondel.core.errors import SnapshotError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue
from jondel.core.trail.trail import Step
from jondel.tui.services.moments import Moment, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.draft.draft import DraftEntries
    from jondel.core.draft.draft_writer import Places, Written
    from jondel.core.draft.readable_statements import ReadableStatement
    from jondel.core.model.changes import Changes
    from jondel.core.model.writes import RowWrite
    from jondel.core.trail.restore import Restored, Undoing
    from jondel.core.trail.writing_back import Stopping


Planned: TypeAlias = "tuple[list[ReadableStatement], int]"


class Writing:
    """Every coroutine may raise ``JondelError``, ``WriteRefused`` where nothing is to be written.

    It is one transaction each. What is stopped is not written; once it is, it is seen through.
    """

    def __init__(
        self, trail: TrailService, survey: MomentReader, *, read_only: bool, host: str = ""
    ) -> None:
        """``host``: the machine that the database is on, where that is not this one: nothing is
        written then until that is allowed."""
        self._trail = trail
        self._survey = survey
        self.always_read_only = read_only
        self.host = host
        self.read_only = read_only or bool(host)

    def require_allowed(self) -> None:
        """Raises ``WriteRefused`` where nothing is to be written."""
        if self.read_only:
            raise WriteRefused("read-only: Jondel writes nothing to this database")

    # ``with_linked`` has records go that links take along; see ``core.trail.restore``.

    async def restore(self, step: Step, *, with_linked: bool = False) -> Restored:
        """Put the whole database back to a step, whatever lies there now."""
        from jondel.core.trail.restore import restore_whatever_is_there

        return await self._put_back(
            lambda live, stopping: restore_whatever_is_there(
                self._trail.core, live, step.after, stopping, with_linked=with_linked
            )
        )

    async def restore_table(
        self, step: Step, table: TableId, *, with_linked: bool = False
    ) -> Restored:
        """Put one table back to a step."""
        from jondel.core.trail.restore import restore

        return await self._put_back(
            lambda live, stopping: restore(
                self._trail.core, live(), step.after, [table], stopping, with_linked=with_linked
            )
        )

    async def take_back_step(self, step: Step, *, with_linked: bool = False) -> Restored:
        """Undo what a step changed."""
        from jondel.core.trail.restore import take_back_step

        return await self._put_back(
            lambda live, stopping: take_back_step(
                self._trail.core, live(), step, stopping, with_linked=with_linked
            )
        )

    async def take_back_record(
        self,
        before: Step,
        after: Moment,
        table: TableId,
        key: tuple[StoredValue, ...],
        *,
        with_linked: bool = False,
    ) -> Restored:
        """Undo the change of one record between a step and a later one, or now."""
        from jondel.core.trail.restore import take_back_record

        end = None if isinstance(after, Now) else self._trail.step_at(after)

        def work(live: Callable[[], Database], stopping: Stopping) -> Restored:
            database = live()
            ends = (before.after, end.after if end is not None else database)
            return take_back_record(
                self._trail.core, database, ends, table, lambda r: r.key == key, stopping,
                with_linked=with_linked,
            )  # fmt: skip

        return await self._put_back(work)

    async def changes_of(self, writes: Sequence[RowWrite], most: int) -> Changes:
        """What some writes would change, the first records by their cells."""
        from jondel.core.draft.planned_changes import planned_changes
        from jondel.core.model.writes import WritePlan

        def run(job: Job) -> Changes:
            live = self._survey.live()
            job.uses(live)
            return planned_changes(WritePlan(tuple(writes)), live.schema(), most)

        return await self._survey.run(run)

    # What would be written

    async def statements_to_restore(self, step: Step, most: int) -> Planned:
        """The first statements that restoring the whole database would run, and how many."""
        from jondel.core.trail.restore import plan_of_restoring

        return await self._planned(
            most,
            lambda live, stopping: plan_of_restoring(self._trail.core, live, step.after, stopping),
        )

    async def statements_to_take_back_step(self, step: Step, most: int) -> Planned:
        """The first statements that taking a step back would run, and how many."""
        from jondel.core.trail.restore import plan_of_taking_back_step

        return await self._planned(
            most,
            lambda live, stopping: plan_of_taking_back_step(self._trail.core, live, step, stopping),
        )

    async def statements_to_take_back_record(
        self, before: Step, after: Moment, table: TableId, key: tuple[StoredValue, ...], most: int
    ) -> Planned:
        """The first statements that taking a record's change back would run, and how many."""
        from jondel.core.trail.restore import plan_of_taking_back_record

        end = None if isinstance(after, Now) else self._trail.step_at(after)
        return await self._planned(
            most,
            lambda live, stopping: plan_of_taking_back_record(
                self._trail.core,
                live,
                (before.after, end.after if end is not None else live),
                table,
                lambda r: r.key == key,
                stopping,
            ),
        )

    async def _planned(self, most: int, plan: Callable[[Database, Stopping], Undoing]) -> Planned:
        from jondel.core.draft.readable_statements import readable_statements
        from jondel.core.trail.writing_back import Stopping

        def run(job: Job) -> Planned:
            live = self._survey.live()
            job.uses(live)
            undoing = plan(live, Stopping(job.uses))
            writes = undoing.linked.added_to(undoing.plan).writes
            return readable_statements(writes[:most], live), len(writes)

        return await self._survey.run(run)

    # Writing

    async def write_draft(
        self, draft: DraftEntries, on_committed: Callable[[Places], None]
    ) -> Written:
        """Write a draft; see ``core.draft.draft_writer``."""
        from jondel.core.draft.draft_writer import write_draft

        self.require_allowed()

        def run(job: Job) -> tuple[Written, list[Step]]:
            live = self._survey.live()
            job.uses(live)

            def committed(places: Places) -> None:
                job.see_through()
                on_committed(places)

            try:
                trail = self._trail.core
            except SnapshotError:
                return write_draft(draft, live, None, committed), self._trail.steps
            done = write_draft(draft, live, trail, committed)
            self._trail.make_room()
            return done, self._trail.read_steps()

        done, self._trail.steps = await self._survey.run_to_an_end(run)
        return done

    async def _put_back(
        self, work: Callable[[Callable[[], Database], Stopping], Restored]
    ) -> Restored:
        from jondel.core.trail.writing_back import Stopping

        self.require_allowed()

        def run(job: Job) -> tuple[Restored, list[Step]]:
            def live() -> Database:
                database = self._survey.live()
                job.uses(database)
                return database

            done = work(live, Stopping(job.uses, job.see_through))
            return done, self._trail.read_steps()

        done, self._trail.steps = await self._survey.run_to_an_end(run)
        return done
