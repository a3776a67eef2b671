"""What statements that a person gives come to: rows, a number of records, or an error."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal, NamedTuple, Protocol, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.bulk import BulkRows
from jondel.core.model.column_types import ColumnType
from jondel.core.model.rows import ResultRows
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow

Fate: TypeAlias = Literal["done", "failed", "undone", "not run"]
"""``undone``: it ran, and what it wrote was rolled back with what came after it."""


class ResultColumn(NamedTuple):
    """A column of a result, and the column of a table that it comes from as it is, if it does."""

    name: str
    type: ColumnType = ColumnType()
    table: TableId | None = None
    column: str = ""


class StatementError(NamedTuple):
    """Why a statement failed, and at which character of it, from 0, where that is told."""

    message: str
    at: int | None = None


class ResultSink(Protocol):
    """Takes the rows of one statement as they come."""

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        """Rows of these columns follow; what came before is void."""

    def take(self, rows: Sequence[ShownRow]) -> bool:
        """Take some rows; False where no more are wanted."""

    def end(self, complete: bool) -> None:
        """That was all; not ``complete`` where more were not wanted."""


class ScriptStatement(NamedTuple):
    """A statement of a script: with its values, and as it is written there.

    ``place`` gives the character of the text that one of ``statement.text()`` is. One that inserts
    ``rows`` from elsewhere has no values of its own.
    """

    statement: Statement
    text: str
    place: Callable[[int], int] = int
    rows: BulkRows | None = None

    @property
    def sql(self) -> str:
        """The statement by itself, with marks for its values."""
        return self.statement.text()


class Outcome(NamedTuple):
    """What one statement came to.

    ``affected`` is the number of records that it wrote, None for one that writes none by nature.
    """

    text: str
    fate: Fate
    seconds: float = 0.0
    affected: int | None = None
    error: StatementError | None = None
    has_rows: bool = False


class ScriptOutcome(NamedTuple):
    """What the statements of a script came to, in their order, and what else is to be known."""

    outcomes: tuple[Outcome, ...]
    notes: tuple[str, ...] = ()

    @property
    def error(self) -> StatementError | None:
        """Why it failed; None where it did not."""
        return next((o.error for o in self.outcomes if o.error is not None), None)


class CollectedRows:
    """A sink that keeps the rows, as many as are wanted; None for all."""

    def __init__(self, limit: int | None = None) -> None:
        self.columns: tuple[ResultColumn, ...] = ()
        self.rows: list[ShownRow] = []
        self.complete = False
        self._limit = limit

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self.columns, self.rows = tuple(columns), []

    def take(self, rows: Sequence[ShownRow]) -> bool:
        self.rows += rows
        return self._limit is None or len(self.rows) <= self._limit

    def end(self, complete: bool) -> None:
        self.complete = complete
        if self._limit is not None and len(self.rows) > self._limit:
            del self.rows[self._limit :]
            self.complete = False

    def result(self) -> ResultRows:
        """All of it."""
        names = tuple(column.name for column in self.columns)
        return ResultRows(names, tuple(self.rows), self.complete)
