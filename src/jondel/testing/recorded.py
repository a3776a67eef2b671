"""What a test sees of the steps that it records: changes as plain Python, and assertions."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from jondel.core.errors import JondelError, TableNotFound
from jondel.core.formats.changes_text import change_lines
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeKind, Changes, NoValue, RecordChange, TableChanges
from jondel.core.model.transactions import Transactions
from jondel.core.model.values import Exact
from jondel.core.reports.verdict_text import verdict_lines
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.project import Project
from jondel.core.verify.acceptance import Seen, accept
from jondel.core.verify.matchers import Setting
from jondel.core.verify.matching import hold_against
from jondel.core.verify.plan_file import PlanFile
from jondel.testing.helper import Helper

Record = dict[str, Any]
"""A record's values by column: Python's own where those hold a value, else what the engine
writes, as a text."""


class StepNotAsExpected(AssertionError):
    """A step did not write what is expected of it; the message says in what it differs."""


class ChangedRecord(NamedTuple):
    """A record that was changed: its key, and its columns before and after."""

    key: tuple[Any, ...]
    before: Record
    after: Record


class DatabasesOfRun:
    """The databases that the tests of a run have opened, with the trails of the run."""

    def __init__(self, folder: Path, *, accept: bool) -> None:
        self._folder = folder
        self._accept = accept
        self._helper = Helper()
        self._opened: dict[str, RecordedDatabase] = {}

    def opened(self, target: str) -> RecordedDatabase:
        """The database at a path or URL; opened once in a run. Raises ``TargetError``."""
        known = self._opened.get(target)
        if known is None or not known.is_there:
            if known is not None:
                known.close()
                del self._opened[target]
            known = RecordedDatabase(self._helper, target, self._folder, self._accept)
            self._opened[target] = known
        return known

    def close(self) -> None:
        self._opened.clear()
        self._helper.close()


class RecordedDatabase:
    """A database whose changes a test records."""

    def __init__(self, helper: Helper, target: str, folder: Path, accept: bool) -> None:
        """``folder`` is where the snapshots of this run go. Raises ``TargetError``."""
        here = target if "://" in target else str(Path(target).absolute())
        self._helper = helper
        self._session, self.location = helper.ask("open", here, folder)
        self._accept = accept
        self._first: Snapshot | None = None
        self._restore = False
        self._test = ""
        self._identity = self._identify()

    @property
    def is_there(self) -> bool:
        """Whether it is still the file that was opened."""
        return self._identity == self._identify()

    def _identify(self) -> tuple[int, int] | None:
        try:
            info = os.stat(self.location)
        except OSError:
            return None
        return info.st_dev, info.st_ino

    def ask(self, what: str, *arguments: object) -> Any:
        """Have the helper do something with this database. Raises ``JondelError``."""
        return self._helper.ask(what, self._session, *arguments)

    def close(self) -> None:
        self.ask("close")

    def begin_test(self, name: str, *, restore: bool) -> None:
        """A test begins to use it."""
        self._test = name
        self._restore = restore
        if restore and self._first is None:
            self._first = self.snapshot()

    def end_test(self) -> None:
        """The test is over. Raises ``WriteRefused`` where it cannot be put back."""
        if self._restore and self._first is not None:
            self.restore(self._first)

    def snapshot(self) -> Snapshot:
        """Take a snapshot, to go back to with ``restore``."""
        taken: Snapshot = self.ask("snapshot")
        return taken

    def restore(self, to: Snapshot) -> None:
        """Put the database back. Raises ``WriteRefused``, ``RecordsMovedOn``."""
        self.ask("restore", to)

    @contextmanager
    def record(self, name: str = "", *, settle: float = 0.0) -> Iterator[StepUnderTest]:
        """Record what is written while the block runs.

        ``name`` is what the step and its expectation are called; the test's own name where nothing
        is given. ``settle``: seconds without a commit after which what the block set going is over.
        """
        step = StepUnderTest(name or self._test, self, self._accept)
        before = self.ask("begin")
        began = datetime.now(UTC)
        yield step
        after = self.ask("end", before, settle)
        step.end(before, after, Setting(began, datetime.now(UTC)))


class StepUnderTest:
    """What a block of test code wrote; known once the block has ended."""

    def __init__(self, name: str, database: RecordedDatabase, accept: bool) -> None:
        self.name = name
        self._database = database
        self._accept = accept
        self._ends: tuple[Snapshot, Snapshot] | None = None
        self._setting: Setting | None = None
        self._changes: Changes | None = None
        self._transactions: Transactions | None = None

    def end(self, before: Snapshot, after: Snapshot, setting: Setting) -> None:
        """The block has ended."""
        self._ends, self._setting = (before, after), setting

    @property
    def transactions(self) -> Transactions | None:
        """In how many transactions it was written, where the engine tells that; asked for before
        the next step is recorded."""
        if self._transactions is None and self._ends is not None:
            self._transactions = self._database.ask("transactions", *self._ends)
        return self._transactions

    @property
    def changes(self) -> Changes:
        """All changes, without what the project's noise rules hide."""
        if self._changes is None:
            assert self._ends is not None, "what was written is known once the block has ended"
            self._changes = self._database.ask("changes", *self._ends)
        return self._changes

    @property
    def counts(self) -> dict[str, str]:
        """By table, how many records were added, changed and removed: ``{"boats": "+1 ~2"}``."""
        return {
            _called(table.table): table.counts.marked()
            for table in self.changes.tables
            if table.counts.total
        }

    def added(self, table: str) -> list[Record]:
        """The records that were added to a table."""
        return [
            _plain(changes.columns_after, record.after)
            for changes, record in self._records(table, "added")
        ]

    def removed(self, table: str) -> list[Record]:
        """The records that were removed from a table."""
        return [
            _plain(changes.columns_before, record.before)
            for changes, record in self._records(table, "removed")
        ]

    def changed(self, table: str) -> list[ChangedRecord]:
        """The records of a table that were changed."""
        return [
            ChangedRecord(
                tuple(map(_python, record.key)),
                _plain(changes.columns_before, record.before),
                _plain(changes.columns_after, record.after),
            )
            for changes, record in self._records(table, "changed")
        ]

    def _records(self, name: str, kind: ChangeKind) -> Iterator[tuple[TableChanges, RecordChange]]:
        wanted = TableId.parsed(name)
        tables = [t for t in self.changes.tables if wanted in (t.table, TableId(t.table.name))]
        if not tables and self._ends is not None:
            problem = self._database.ask("missing_table", name, self._ends[1])
            if problem:
                raise TableNotFound(problem)
        for table in tables:
            for record in table.records:
                if record.kind == kind:
                    yield table, record

    def expect(self, name: str = "") -> None:
        """Hold the step against its expectation in ``jondel.toml``.

        With ``--jondel-accept``, and where there is none yet, one is made of what was written.

        Raises:
            StepNotAsExpected: it wrote something else.
        """
        name = name or self.name
        project = Project(self._database.location)
        file = PlanFile(project)
        expectation = file.read().expectations.get(name)
        assert self._setting is not None, "what was written is known once the block has ended"
        if expectation is None or self._accept:
            if expectation is None and not self._accept:
                raise StepNotAsExpected(
                    f"there is no expectation {name!r} in {file.path} yet; "
                    "run pytest with --jondel-accept to make one of what was written:\n"
                    + "\n".join(self._lines())
                )
            self._accept_as(name, file)
            return
        told = self.transactions if expectation.transactions is not None else None
        verdict = hold_against(expectation, self.changes, self._setting, told)
        if not verdict.met:
            lines = [f"{name}: {verdict.summary}", *verdict_lines(verdict), "", *self._lines()]
            raise StepNotAsExpected("\n".join(lines))

    def _accept_as(self, name: str, file: PlanFile) -> None:
        assert self._ends is not None
        assert self._setting is not None
        knowledge = self._database.ask("knowledge", self._ends[1])
        made = accept(name, Seen(self.changes, self._setting), knowledge)
        file.keep_expectation(made.expectation)

    def _lines(self) -> list[str]:
        return ["what was written:", *change_lines(self.changes)]

    def __repr__(self) -> str:
        if self._ends is None:
            return f"<step {self.name!r}, not ended>"
        try:
            return f"<step {self.name!r}: {self.counts or 'nothing changed'}>"
        except JondelError as error:
            return f"<step {self.name!r}: {error}>"


def _called(table: TableId) -> str:
    return str(table)


def _plain(columns: tuple[str, ...], row: Any) -> Record:
    return {name: _python(value) for name, value in zip(columns, row or (), strict=True)}


def _python(value: Any) -> Any:
    """A value as tests write it: Python's own, else as the engine writes it."""
    if isinstance(value, Exact):
        if value.kind == "boolean":
            return value.text == "true"
        return value.text
    return None if isinstance(value, NoValue) else value
