"""An import: which file goes into which table, and how; as statements that can be tried out."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from jondel.core.errors import ImportFailed
from jondel.core.imports.matching import Match
from jondel.core.imports.readings import column_reader, with_invalid_text
from jondel.core.imports.rejects import Rejects
from jondel.core.imports.source import RawRows, RowSource, SourceOptions, UnreadRow, open_source
from jondel.core.model.addresses import TableId
from jondel.core.model.bulk import BulkBatch
from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.schema import Column, Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import StoredValue
from jondel.core.sql.create_table import create_table, names_in_sql, table_in_sql
from jondel.core.sql.dialect import Dialect

_MOST_HELD = 10_000
"""Rows that wait for others, which are held in memory."""


@dataclass(frozen=True)
class ImportPlan:
    """What a person decided on. ``is_new``: the table is made for it."""

    path: Path
    options: SourceOptions
    table: TableId
    matches: tuple[Match, ...]
    is_new: bool = False
    stamp: tuple[int, int] = field(default=(0, 0), compare=False)
    """What tells whether the file has been changed; see ``stamp_of``."""

    @property
    def words(self) -> str:
        """What it is, for the trail and the tape."""
        return f"import {self.path.name} into {self.table}"

    @property
    def used(self) -> tuple[Match, ...]:
        """The columns that go into the table."""
        return tuple(match for match in self.matches if match.target is not None)

    def problem(self) -> str:
        """Why nothing can be imported so; empty where it can."""
        targets = [match.target for match in self.used]
        if not targets:
            return "no column of the file goes into the table"
        twice = next((name for name in targets if targets.count(name) > 1), None)
        return f"two columns of the file go into {twice}" if twice is not None else ""


def stamp_of(path: Path) -> tuple[int, int]:
    """What a file is told apart by after it was written to. Raises ``ImportFailed``."""
    try:
        stat = os.stat(path)
    except OSError as error:
        raise ImportFailed(f"{path}: cannot be read ({error.strerror})") from error
    return stat.st_size, stat.st_mtime_ns


def require_unchanged(plan: ImportPlan) -> None:
    """Raises ``ImportFailed`` where the file is another one than when it was looked at."""
    if stamp_of(plan.path) != plan.stamp:
        raise ImportFailed(f"{plan.path}: has changed since it was looked at; import it anew")


def import_statements(
    plan: ImportPlan,
    dialect: Dialect,
    rejects: Rejects,
    progress: Callable[[int], None] = lambda rows: None,
) -> tuple[ScriptStatement, ...]:
    """The statements that import a file; rows that cannot go in are handed to ``rejects``.

    ``progress`` is told how many rows are in the table, in the thread that runs them.

    Raises:
        ImportFailed: the file has changed, or nothing can be imported so.
    """
    problem = plan.problem()
    if problem:
        raise ImportFailed(problem)
    require_unchanged(plan)
    rows = ImportedRows(plan, open_source(plan.path, plan.options), rejects, progress)
    table = table_in_sql(plan.table, dialect)
    names = names_in_sql((str(match.target) for match in plan.used), dialect)
    insert = Statement((f"INSERT INTO {table} ({names})",))
    statements = [ScriptStatement(insert, f"-- {plan.words}", rows=rows)]
    if plan.is_new:
        made = create_statement(plan, dialect)
        statements.insert(0, ScriptStatement(Statement((made,)), made))
    return tuple(statements)


def create_statement(plan: ImportPlan, dialect: Dialect) -> str:
    """The statement that makes the table."""
    columns = tuple(
        Column(str(match.target), match.type, key_position=int(match.is_key)) for match in plan.used
    )
    return create_table(Table(plan.table, "table", columns), dialect)


class ImportedRows:
    """See ``BulkRows``."""

    def __init__(
        self,
        plan: ImportPlan,
        source: RowSource,
        rejects: Rejects,
        progress: Callable[[int], None],
    ) -> None:
        self.table = plan.table
        self._source, self._rejects, self._progress = source, rejects, progress
        used = plan.used
        self._targets = {match.place: str(match.target) for match in used}
        self._readers = {match.place: column_reader(match.type, match.way) for match in used}
        self._batch: RawRows | None = None
        self._places: dict[int, int] | None = None
        self._held: dict[int, RawRows] = {}

    def batches(self) -> Iterator[BulkBatch]:
        """See ``BulkRows.batches``."""
        self._rejects.begin(self._source)
        self._held.clear()
        for batch in self._source.rows():
            self._batch, self._places = batch, None
            for row in batch.unread:
                self._rejects.add(row)
            read = self._read(batch)
            if read.rows:
                yield read

    def refused(self, number: int, reason: str) -> None:
        """See ``BulkRows.refused``."""
        held = self._held.pop(number, None)
        if held is not None:
            self._reject(held, 0, reason)
        elif self._batch is not None:
            self._reject(self._batch, self._place_of(number), reason)

    def hold(self, number: int) -> bool:
        """See ``BulkRows.hold``."""
        batch = self._batch
        if number in self._held:
            return True
        if batch is None or len(self._held) >= _MOST_HELD:
            return False
        raw = batch.rows[self._place_of(number)]
        self._held[number] = batch._replace(numbers=(number,), rows=(raw,), unread=())
        return True

    def _place_of(self, number: int) -> int:
        """Where a row of the current batch is."""
        if self._places is None:
            numbers = self._batch.numbers if self._batch is not None else ()
            self._places = {found: place for place, found in enumerate(numbers)}
        return self._places[number]

    def inserted(self, rows: int) -> None:
        """See ``BulkRows.inserted``."""
        self._progress(rows)

    def _read(self, batch: RawRows) -> BulkBatch:
        """Make values of a batch; rows with any that cannot be read are rejected."""
        used = [
            (column, place) for place, column in enumerate(batch.columns) if column in self._targets
        ]
        given = list(zip(*batch.rows, strict=True)) if batch.rows else []
        columns: list[Sequence[StoredValue]] = []
        unfit: dict[int, str] = {}
        for column, place in used if given else ():
            read = self._readers[column](given[place])
            for row, reason in read.unfit.items():
                unfit.setdefault(row, f"{self._targets[column]}: {reason}")
            columns.append(read.values)
        rows = list(zip(*columns, strict=True)) if columns else [()] * len(batch.rows)
        numbers = batch.numbers
        if unfit:
            for row, reason in sorted(unfit.items()):
                self._reject(batch, row, reason)
            numbers = [number for n, number in enumerate(numbers) if n not in unfit]
            rows = [row for n, row in enumerate(rows) if n not in unfit]
        if batch.has_invalid:
            rows = [tuple(map(with_invalid_text, row)) for row in rows]
        names = tuple(self._targets[column] for column, _ in used)
        return BulkBatch(names, numbers, rows)

    def _reject(self, batch: RawRows, place: int, reason: str) -> None:
        names = [self._source.columns[column] for column in batch.columns]
        raw = batch.rows[place]
        row = dict(zip(names, raw, strict=True)) if self._source.form in ("json", "jsonl") else raw
        self._rejects.add(UnreadRow(batch.numbers[place], reason, row))
