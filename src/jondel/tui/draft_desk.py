"""The draft of one database as the interface works on it: kept at every change, shown as marks."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.draft.draft import Entry, EntryKey, RecordEdit
from jondel.core.draft.keeping_drafts import KeptDraft
from jondel.core.draft.planning import DraftPlan, cells_of, deletion_of, plan_of
from jondel.core.draft.writing import Conflict, conflicts_of, settle
from jondel.core.engines.protocol import Database
from jondel.core.model.filters import Arrangement
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow, StoredValue
from jondel.tui.session import Session
from jondel.tui.widgets.row_marks import DraftMarks
from jondel.tui.workspace import Workspace

WHOLE_BYTES = 64 * 1024 * 1024
MOST_SET_AT_ONCE = 20_000
_BLOCK = 500


class DraftDesk:
    """Every coroutine may raise ``JondelError``."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._kept = KeptDraft(workspace.location)
        self._session = Session("draft")
        self.draft = self._kept.read()
        self.found = len(self.draft)
        """How many entries were there from an earlier time."""

    def close(self) -> None:
        self._session.close()

    async def keep(self) -> None:
        """Have the draft in its file as it is now."""
        await self._session.run(lambda _: self._kept.write(self.draft))

    # For the sheet

    def marks(self, table: Table) -> DraftMarks | None:
        """What the draft makes of a table's rows."""
        edits, new = self.draft.of_table(table.name)
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
        return await self._workspace.ask(None, lambda database: database.why_not_written(table))

    async def whole(self, table: Table, position: Position) -> ShownRow | None:
        """A live record with all values that can be edited."""
        return await self._workspace.record(None, table, position, WHOLE_BYTES)

    def set_cells(
        self, table: Table, position: Position, row: ShownRow, values: dict[str, StoredValue]
    ) -> None:
        """Have some cells of a record hold other values."""
        original = cells_of(table, row)
        for column, value in values.items():
            self.draft.set_cell(table.name, position, original, column, value)

    async def set_column(
        self, table: Table, arrangement: Arrangement, column: str, value: StoredValue
    ) -> int:
        """Have a column hold a value in all rows of an arrangement; returns how many these are."""

        def work(database: Database) -> list[tuple[Position, ShownRow]]:
            order = database.arrange(table, arrangement)
            if order.rows > MOST_SET_AT_ONCE:
                return []
            found: list[tuple[Position, ShownRow]] = []
            for offset in range(0, order.rows, _BLOCK):
                window = database.read_window(table, offset, _BLOCK, order=order)
                found += zip(window.positions, window.rows, strict=True)
            return found

        rows = await self._workspace.ask(None, work)
        for position, row in rows:
            if row:
                self.set_cells(table, position, row, {column: value})
        return len(rows)

    async def count(self, table: Table, arrangement: Arrangement) -> int:
        """How many rows an arrangement has."""
        return await self._workspace.ask(
            None, lambda database: database.arrange(table, arrangement).rows
        )

    async def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        """A column's default, and whether that is known without inserting a record."""
        return await self._workspace.ask(None, lambda db: db.default_of(table, column))

    async def deletion(self, table: Table, position: Position, row: ShownRow) -> DraftPlan:
        """What deleting a record comes to."""
        return await self._workspace.ask(None, lambda db: deletion_of(db, table, position, row))

    # Writing

    async def statements(self, most: int) -> tuple[DraftPlan, list[Statement]]:
        """How the draft would be written, and the first ``most`` statements of that."""

        def work(database: Database) -> tuple[DraftPlan, list[Statement]]:
            planned = plan_of(self.draft, database)
            shown = planned.plan.writes[:most]
            return planned, [database.write_statement(write) for write in shown]

        return await self._workspace.ask(None, work)

    async def conflicts(self) -> list[Conflict]:
        """The records of the draft that the app has changed since."""
        return await self._workspace.ask(None, lambda db: conflicts_of(self.draft, db))

    def settle(self, conflicts: Sequence[Conflict], mine: Sequence[bool]) -> None:
        """Keep theirs or mine of each conflict, for the next attempt."""
        for conflict, wanted in zip(conflicts, mine, strict=True):
            settle(self.draft, conflict, mine=wanted)

    def entries(self) -> list[Entry]:
        return list(self.draft)

    def drop(self, key: EntryKey) -> None:
        self.draft.drop(key)

    def edit_of(self, table: Table, position: Position) -> RecordEdit | None:
        """What is to become of a record, if anything."""
        return self.draft.edit_of(table.name, position)
