"""Writes tables, results and changes to files, as awaitable calls."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import SnapshotError
from jondel.core.exports.changes import export_changes
from jondel.core.exports.tables import Exported, TableExport, export_tables
from jondel.core.formats.row_writers import RowForm
from jondel.core.snapshots.catalogue import Snapshot
from jondel.tui.services.comparisons import Comparisons
from jondel.tui.services.moments import AtStep, Moment, Now
from jondel.tui.services.readers import MomentReader
from jondel.tui.services.threads import Job
from jondel.tui.services.trail import TrailService

if TYPE_CHECKING:
    from jondel.core.browse.links import Link, LinkedRecord
    from jondel.core.exports.record_set import RecordSet

Progress = Callable[[int], None]


class ExportService:
    """Every coroutine may raise ``JondelError``. A thread of its own reads and writes."""

    def __init__(
        self, location: str, target: str, trail: TrailService, comparisons: Comparisons
    ) -> None:
        self._location = location
        self._trail, self._comparisons = trail, comparisons
        self._reader = MomentReader("export", target)

    def close(self) -> None:
        """Stop it, and let go of everything."""
        self._reader.close()

    async def tables(
        self,
        moment: Moment,
        exports: Sequence[TableExport],
        path: Path,
        form: RowForm,
        progress: Progress,
        *,
        with_table: bool,
    ) -> Exported:
        """Write tables as they are at a moment: all of them as of the same instant."""
        source, dialect = self._trail.require_source(moment), dialect_of(self._location)

        def work(job: Job) -> Exported:
            database = self._reader.open(job, source, self._trail.if_opened)
            with ExitStack() as stack:
                if isinstance(moment, Now):
                    database = self._at_rest(job, stack, database, exports)
                return export_tables(
                    database,
                    exports,
                    path,
                    form,
                    dialect,
                    with_table=with_table,
                    progress=_stoppable(job, progress),
                )

        return await self._reader.run(work)

    def _at_rest(
        self, job: Job, stack: ExitStack, live: Database, exports: Sequence[TableExport]
    ) -> Database:
        """The live database as it is now, so that the app can go on; itself where that cannot be,
        or has not all of the tables."""
        try:
            image, _ = stack.enter_context(self._trail.core.now(live))
        except SnapshotError:
            return live
        job.uses(image)
        known = image.schema().by_id
        there = all(
            (table := known.get(export.table.id)) is not None and table.unreadable is None
            for export in exports
        )
        return image if there else live

    async def record_set(
        self,
        moment: Moment,
        record: LinkedRecord,
        links: Sequence[Link],
        children: frozenset[Link],
    ) -> RecordSet:
        """A record with all that it needs, and what points at it by some links."""
        from jondel.core.exports.record_set import gathered

        source = self._trail.require_source(moment)

        def work(job: Job) -> RecordSet:
            database = self._reader.open(job, source, self._trail.if_opened)
            return gathered(database, [record], links, children)

        return await self._reader.run(work)

    async def write_set(self, found: RecordSet, path: Path, form: RowForm) -> Exported:
        """Write records so that they can be put into another database."""
        from jondel.core.exports.fixture import write_fixture

        dialect = dialect_of(self._location)
        return await self._reader.run(lambda _: write_fixture(found, path, form, dialect))

    async def changes(
        self, start: AtStep, end: Moment, path: Path, form: RowForm, progress: Progress
    ) -> Exported:
        """Write what differs between a step and a later moment, with the noise rules that hold."""
        from dataclasses import replace

        before = self._trail.require_step(start.number).after
        scope = replace(self._comparisons.scope, keep_records=None, keep_value_bytes=None)
        dialect = dialect_of(self._location)
        after = None if isinstance(end, Now) else self._trail.step_at(end).after

        def work(job: Job) -> Exported:
            state: Snapshot | Database
            if after is not None:
                state = after
            else:
                state = self._reader.live()
                job.uses(state)
            with ExitStack() as stack:
                trail = self._trail.core
                sides = [stack.enter_context(trail.opened(one)) for one in (before, state)]
                for side in sides:
                    job.uses(side)
                return export_changes(
                    (before, state),
                    (sides[0], sides[1]),
                    scope,
                    path,
                    form,
                    dialect,
                    _stoppable(job, progress),
                )

        return await self._reader.run(work)


def _stoppable(job: Job, progress: Progress) -> Progress:
    """Tells how far it is, and ends it where it is no longer wanted."""

    def told(count: int) -> None:
        job.require_wanted()
        progress(count)

    return told
