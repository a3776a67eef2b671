"""What the interface asks of core, as awaitable calls: one database, its trail, its app.

Three threads: one reads the rows that are on the screen and is never kept waiting; one surveys
(counts, snapshots, comparisons) and may be busy for long; one talks to the app.
"""

from __future__ import annotations

import os
from collections.abc import Hashable, Sequence
from typing import TYPE_CHECKING

from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.engines.protocol import Database, Extent
from jondel.core.engines.registry import location_of
from jondel.core.model.changes import Changes, ChangeSummary, RecordChange, TableChanges
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import ShownRow
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.trail import Step, Trail
from jondel.tui.early_look import EarlyLook, Identity
from jondel.tui.moments import Moment, MomentReader
from jondel.tui.session import Job, Session

if TYPE_CHECKING:
    from jondel.core.verify.actions import Action

_KEPT_RECORDS = 2000
"""Records listed for each table; all are counted."""
_KEPT_VALUE_BYTES = 16 * 1024
_KEPT_COMPARISONS = 8
_QUICKLY_COMPARED_BYTES = 256 * 1024 * 1024
_CARD_VALUE_BYTES = 64 * 1024


class Workspace:
    """An open database with its trail. Every coroutine may raise ``JondelError``."""

    def __init__(
        self, target: str, actions: Sequence[Action] = (), early: EarlyLook | None = None
    ) -> None:
        self.location = location_of(target)
        self.actions = tuple(actions)
        self.steps: list[Step] = []
        self.early = early
        self._rows = MomentReader("rows", target, early)
        self._survey = MomentReader("survey", target)
        self._app = Session("app")
        self._trail: Trail | None = None
        self._compared: dict[int, Changes] = {}
        self._acted: list[str] = []

    def close(self) -> None:
        """Stop all work and let go of everything."""
        trail = self._trail
        self._app.close()
        self._rows.close()
        self._survey.close(trail.close if trail else None)

    async def open_trail(self) -> None:
        """Read what is recorded for the database; it need not be readable itself for that."""

        self.steps = await self._survey.run(lambda _: self.trail.steps())

    async def reload_steps(self) -> bool:
        """Read the trail anew; True if another process added to it."""
        known = [step.number for step in self.steps]
        self.steps = await self._survey.run(lambda _: self.trail.steps())
        return [step.number for step in self.steps] != known

    @property
    def compares_quickly(self) -> bool:
        """Whether comparing with now is cheap enough to be done without being asked."""
        try:
            return os.stat(self.location).st_size <= _QUICKLY_COMPARED_BYTES
        except OSError:
            return False

    @property
    def trail(self) -> Trail:
        """The trail, for work in the surveying thread.

        Raises:
            StoreUnavailable: it could not be opened; the database can be looked at all the same.
        """
        if self._trail is None:
            self._trail = Trail(self.location)
        return self._trail

    def step(self, moment: Moment) -> Step | None:
        """The step of a moment; None for now."""
        return next((step for step in self.steps if step.number == moment), None)

    # The database itself

    async def identity(self) -> Identity:
        return await self._rows.read(None, self._trail, Identity.of)

    async def change_token(self) -> Hashable:
        """Differs after something was committed to the live database."""
        return await self._rows.read(None, self._trail, lambda database: database.change_token())

    async def schema(self, moment: Moment) -> Schema:
        return await self._rows.read(self.step(moment), self._trail, lambda db: db.schema())

    async def count(self, moment: Moment, table: Table) -> int:
        """Count a table's rows, however long it takes."""
        extent = await self._survey.read(
            self.step(moment), self._trail, lambda database: database.measure(table)
        )
        return extent.rows

    # Rows

    async def first_rows(self, moment: Moment, table: Table, around: Sequence[int]) -> WindowCache:
        """Measure a table and read the blocks that the given rows are in."""

        def work(database: Database) -> WindowCache:
            extent: Extent = database.measure(table)
            cache = WindowCache(table, extent)
            last = max(0, extent.rows - 1)
            wanted = {0, *(min(max(0, ordinal), last) for ordinal in around)}
            for block in sorted({ordinal // BLOCK_ROWS for ordinal in wanted}):
                cache.add(cache.fetch(database, block))
            return cache

        return await self._rows.read(self.step(moment), self._trail, work)

    async def block(self, moment: Moment, cache: WindowCache, block: int) -> Window:
        return await self._rows.read(
            self.step(moment), self._trail, lambda database: cache.fetch(database, block)
        )

    async def record(self, moment: Moment, table: Table, position: Position) -> ShownRow | None:
        """One record with its values in full, but for very large ones."""
        return await self._rows.read(
            self.step(moment),
            self._trail,
            lambda database: database.read_record(table, position, _CARD_VALUE_BYTES),
        )

    async def place_of(
        self, moment: Moment, changes: TableChanges, record: RecordChange
    ) -> int | None:
        """The place of a changed record in its table's sheet; None if it is not there."""

        def work(database: Database) -> int | None:
            table = database.schema().find(changes.table)
            if table is None:
                return None
            position: Position | None = None
            if record.row_id is not None and table.row_id is not None:
                position = (record.row_id,)
            elif not changes.key_is_row_id:
                position = database.find_position(table, changes.key_columns, record.key)
            if position is None or database.read_record(table, position, 1) is None:
                return None
            return database.ordinal_of(table, position)

        return await self._rows.read(self.step(moment), self._trail, work)

    # The trail

    async def take_snapshot(self, label: str | None) -> Step:
        """Take a snapshot of the live database; what the app was made to do since is its title."""
        told = len(self._acted)
        acted = ", ".join(dict.fromkeys(self._acted))
        trigger = Trigger("action", acted) if acted else Trigger()

        def work(job: Job) -> list[Step]:
            database = self._survey.live()
            job.uses(database)
            self.trail.take(database, label, trigger)
            return self.trail.steps()

        self.steps = await self._survey.run(work)
        del self._acted[:told]
        return self.steps[-1]

    async def changes_of(self, moment: Moment) -> Changes:
        """A step's changes; for now, those since the last step (none where there is no step)."""
        step = self.step(moment)
        if step is not None and step.number in self._compared:
            return self._compared[step.number]

        def work(job: Job) -> tuple[Changes, list[Step]]:
            from jondel.core.diff.compare import Scope  # not needed for the first rows

            scope = Scope(keep_records=_KEPT_RECORDS, keep_value_bytes=_KEPT_VALUE_BYTES)
            if step is not None:
                found = self.trail.step_changes(step, scope, job.uses)
                return found, self.trail.steps()
            if not self.steps:
                return Changes(method="same"), self.steps
            live = self._survey.live()
            job.uses(live)
            return self.trail.changes(self.steps[-1].after, live, scope, job.uses), self.steps

        changes, self.steps = await self._survey.run(work)
        if step is not None:
            while len(self._compared) >= _KEPT_COMPARISONS:
                self._compared.pop(next(iter(self._compared)))
            self._compared[step.number] = changes
        return changes

    def known_summary(self, moment: Moment) -> ChangeSummary | None:
        """The size of a step's changes, where they have been looked at before."""
        step = self.step(moment)
        return step.summary if step is not None else None

    # The app

    async def act(self, action: Action) -> str:
        """Make the app do something; returns what it says."""
        said = await self._app.run(lambda _: action.run())
        self._acted.append(action.label)
        return said
