"""Writes changes back row by row, so that a database is as it was before them."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, replace
from typing import NamedTuple

from jondel.core.engines.needed import commits_of, writer_of
from jondel.core.engines.protocol import CommitMark, Database
from jondel.core.errors import RecordsMovedOn, WriteError, WriteRefused
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.model.writes import SequenceState, WritePlan
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.linked_records import LinkedRecords, linked_records
from jondel.core.trail.take_back import plan_to_take_back
from jondel.core.trail.trail import Trail


class Stopping(NamedTuple):
    """How work that writes is stopped: ``opened`` is called with what it reads, which may be
    interrupted, and ``committed`` once it is written and nothing is to be stopped any more."""

    opened: Callable[[Database], None] = lambda database: None
    committed: Callable[[], None] = lambda: None


@dataclass(frozen=True)
class WritingBack:
    """Undoing changes since an earlier state, row by row."""

    trail: Trail
    database: Database
    earlier: Snapshot
    changes: Changes
    before: Snapshot
    """The database as it is before this is written."""
    since: CommitMark | None
    stopping: Stopping
    sequences: tuple[SequenceState, ...] = ()
    triggers: bool = False
    with_linked: bool = False
    may_be_linked: bool = True
    """Whether records that are not among the changes can point at what is removed."""

    def done(self, *, may_fail: bool) -> ChangeSummary | None:
        """Do it; returns what links added. None where it cannot be done so, and ``may_fail``."""
        try:
            return self.run()
        except WriteRefused:
            if not may_fail:
                raise
        except WriteError as error:
            if not may_fail or type(error) is not WriteError:
                raise
        return None

    def run(self) -> ChangeSummary:
        """Do it; returns what links added. Raises ``WriteError``."""
        writer = writer_of(self.database)
        with closing(self.trail.open(self.earlier)) as image:
            self.stopping.opened(image)
            plan = self._plan(image, replacing=False)
            linked = linked_records(plan, self.database) if self.may_be_linked else LinkedRecords()
            if not self.with_linked:
                linked.require_none()
            try:
                writer.apply(linked.added_to(plan), self.since)
            except WriteRefused:
                # Values that must be unique may have changed places; then whole rows have to.
                again = self._plan(image, replacing=True)
                if again == plan:
                    raise
                since = self.mark_anew() if self.since is not None else None
                writer.apply(linked.added_to(again), since)
        return linked.summary

    def mark_anew(self) -> CommitMark:
        """Mark how far the database is after a write that was rolled back: it leaves traces that
        look like a commit.

        Raises:
            RecordsMovedOn: the database is not as it was before.
        """
        since = commits_of(self.database).mark(exact=True)
        with self.trail.now(self.database) as (_, name):
            if name != self.before.image:
                raise RecordsMovedOn(
                    f"{self.database.name}: the app has written to it meanwhile; nothing was "
                    "written, look again"
                )
        return since

    def _plan(self, image: Database, *, replacing: bool) -> WritePlan:
        schema = self.database.schema()
        plan = plan_to_take_back(
            self.changes, image, schema, replacing=replacing, triggers=self.triggers
        )
        return replace(plan, sequences=self.sequences)
