"""The draft of one database as the interface works on it: kept at every change, shown as marks."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import NamedTuple

from jondel.core.browse.windows import rows_of
from jondel.core.draft.draft import Draft, DraftEntries, Entry, EntryKey, RecordEdit
from jondel.core.draft.draft_file import DraftFile
from jondel.core.draft.draft_marks import DraftMarks
from jondel.core.draft.draft_plan import (
    DraftPlan,
    cells_of,
    plan_of,
)
from jondel.core.draft.draft_writer import Conflict, Places, Written, conflicts_of, settle
from jondel.core.draft.planned_changes import planned_changes
from jondel.core.draft.readable_statements import ReadableStatement, readable_statements
from jondel.core.draft.remedies import Remedy, apply_remedy, records_in_the_way, remedies_for
from jondel.core.engines.needed import writer_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import JondelError, WriteRefused
from jondel.core.model.changes import Changes
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import ShownRow, StoredValue
from jondel.core.model.writes import Obstacle
from jondel.tui.services.moments import NOW
from jondel.tui.services.rows import RowService
from jondel.tui.services.threads import WorkThread
from jondel.tui.services.writing import Writing

WHOLE_BYTES = 64 * 1024 * 1024
MOST_SET_AT_ONCE = 20_000


class PlannedWrite(NamedTuple):
    """What is to be written: the entries of a draft, their plan, the changes that it makes, and
    its first statements."""

    entries: DraftEntries
    plan: DraftPlan
    changes: Changes
    statements: list[ReadableStatement]


class DraftService:
    """Every coroutine may raise ``JondelError``."""

    def __init__(self, location: str, rows: RowService, writing: Writing) -> None:
        self._rows = rows
        self._writing = writing
        self._file = DraftFile(location)
        self._thread = WorkThread("draft")
        kept = self._file.open()
        self.draft = Draft(kept.entries)
        self.found = len(self.draft)
        """How many entries were there from an earlier time."""
        self.was_being_written = kept.was_being_written
        """Whether these were being written when that ended: they may be in the database."""
        self._latest: DraftEntries = self.draft.frozen()
        self._committed: tuple[DraftEntries, Places] | None = None
        """What has been written, and is still shown as drafted until the rows are read anew."""
        self._being_written = False
        self._lock = threading.Lock()
        """For these three."""
        self._in_order = threading.Lock()
        """Held while the file is written: what is kept last is what was last."""

    def close(self) -> None:
        self._thread.close(self._file.close)

    async def keep(self) -> None:
        """Have the draft in its file as it is now."""
        with self._lock:
            self._latest = self.draft.frozen()
        await self._thread.run(lambda _: self._keep_latest())

    def _keep_latest(self) -> None:
        with self._in_order:
            with self._lock:
                left, committed = Draft(self._latest), self._committed
                being_written = self._being_written and committed is None
            if committed is not None:
                left.take_out(*committed)
            self._file.write(left, being_written=being_written)

    # For the sheet

    def marks(self, table: Table) -> DraftMarks | None:
        """What the draft makes of a table's rows."""
        edits, new = self.draft.of_table(table.id)
        if not edits and not new:
            return None
        return DraftMarks(
            {edit.position: edit.values for edit in edits if edit.values and not edit.deleted},
            frozenset(edit.position for edit in edits if edit.deleted),
            tuple(
                (entry.number, tuple(entry.values.get(name) for name in table.column_names))
                for entry in new
            ),
        )

    # Editing

    async def why_not(self, table: Table) -> str:
        """Why a table cannot be edited; empty where it can."""
        return await self._rows.ask(
            NOW,
            lambda database: writer_of(database).why_not_written(table),
        )

    async def whole(self, table: Table, position: Position) -> ShownRow | None:
        """A live record with all values that can be edited."""
        return await self._rows.record(NOW, table, position, WHOLE_BYTES)

    def set_cells(
        self, table: Table, position: Position, row: ShownRow, values: Mapping[str, StoredValue]
    ) -> None:
        """Have some cells of a record hold other values."""
        original = cells_of(table, row)
        with self.draft.one_edit():
            for column, value in values.items():
                self.draft.set_cell(table.id, position, original, column, value)

    async def set_column(
        self, table: Table, arrangement: Arrangement, column: str, value: StoredValue
    ) -> int:
        """Have a column hold a value in all rows of an arrangement; returns how many these are."""

        def work(database: Database) -> list[tuple[Position, ShownRow]]:
            order = database.finder.arrange(table, arrangement)
            if order.rows > MOST_SET_AT_ONCE:
                return []
            return list(rows_of(database, table, order))

        rows = await self._rows.ask(NOW, work)
        with self.draft.one_edit():
            for position, row in rows:
                if row:
                    self.set_cells(table, position, row, {column: value})
        return len(rows)

    async def count(self, table: Table, arrangement: Arrangement) -> int:
        """How many rows an arrangement has."""
        return await self._rows.ask(
            NOW, lambda database: database.finder.arrange(table, arrangement).rows
        )

    async def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        """A column's default, and whether that is known without inserting a record."""
        return await self._rows.ask(NOW, lambda db: db.scanner.default_of(table, column))

    async def plan_deletions(
        self, table: Table, doomed: Sequence[tuple[Position, ShownRow]], most: int
    ) -> PlannedWrite:
        """What deleting records comes to, with all that goes with them."""
        draft = Draft()
        for position, row in doomed:
            draft.delete(table.id, position, cells_of(table, row))
        return await self._rows.ask(NOW, lambda database: _planned(draft, database, most))

    # Writing

    async def plan(self, most: int) -> PlannedWrite:
        """How the draft would be written; its first ``most`` records and statements.

        Raises:
            WriteRefused: it cannot be, or is being written.
        """
        if self._being_written:
            raise WriteRefused("the draft is being written; press W again in a moment")
        entries = self.draft.frozen()
        return await self._rows.ask(NOW, lambda database: _planned(entries, database, most))

    async def conflicts(self) -> list[Conflict]:
        """The records of the draft that the app has changed since."""
        entries = self.draft.frozen()
        return await self._rows.ask(NOW, lambda db: conflicts_of(entries, db))

    async def remedies(self, obstacles: Sequence[Obstacle]) -> frozenset[Remedy]:
        """What can be taken into the draft for records that stand in the way of it."""

        def work(database: Database) -> frozenset[Remedy]:
            schema = database.schema()
            return frozenset(r for o in obstacles for r in remedies_for(o, schema))

        return await self._rows.ask(NOW, work)

    async def take_remedy(self, obstacles: Sequence[Obstacle], remedy: Remedy) -> int:
        """Take a remedy into the draft for all records in its way; returns for how many."""

        def work(database: Database) -> tuple[list[tuple[Obstacle, Window]], Schema]:
            linked = [obstacle for obstacle in obstacles if obstacle.link is not None]
            return [(o, records_in_the_way(o, database)) for o in linked], database.schema()

        found, schema = await self._rows.ask(NOW, work)
        return apply_remedy(self.draft, found, schema, remedy)

    async def write(self, planned: PlannedWrite) -> Written:
        """Write what was planned, and nothing else; what is edited meanwhile stays drafted."""
        entries = planned.entries
        if self._being_written or list(entries) != list(self.draft):
            raise WriteRefused("the draft is no longer what was shown; press W to look again")
        with self._lock:
            self._being_written = True

        def committed(places: Places) -> None:
            with self._lock:
                self._committed = entries, places
            with suppress(JondelError):  # it is said when the draft is kept the next time
                self._keep_latest()

        try:
            await self._keep_if_possible()  # where the draft is said to be on its way
            return await self._writing.write_draft(entries, committed)
        finally:
            with self._lock:
                self._being_written = False
                if self._committed is not None:
                    self.draft.take_out(*self._committed)
                    self._committed = None
            await self._keep_if_possible()

    async def _keep_if_possible(self) -> None:
        with suppress(JondelError):  # it is said when something is edited
            await self.keep()

    def settle(self, conflicts: Sequence[Conflict], mine: Sequence[bool]) -> None:
        """Keep theirs or mine of each conflict, for the next attempt."""
        with self.draft.one_edit():
            for conflict, wanted in zip(conflicts, mine, strict=True):
                settle(self.draft, conflict, mine=wanted)

    def entries(self) -> list[Entry]:
        return list(self.draft)

    def drop(self, key: EntryKey) -> None:
        self.draft.drop(key)

    def edit_of(self, table: Table, position: Position) -> RecordEdit | None:
        """What is to become of a record, if anything."""
        return self.draft.edit_of(table.id, position)


def _planned(entries: DraftEntries, database: Database, most: int) -> PlannedWrite:
    planned = plan_of(entries, database)
    changes = planned_changes(planned.plan, database.schema(), most)
    statements = readable_statements(planned.plan.writes[:most], database)
    return PlannedWrite(entries, planned, changes, statements)
