"""What a database can do, a small protocol for each.

All methods block and are called from one thread at a time. Unless stated otherwise they raise
``ReadError`` when the statement fails, ``TargetError`` when the database itself has become
unusable, and ``Cancelled`` after ``Database.interrupt``.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Protocol

from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position, ResultRows, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, Row, ShownRow, StoredValue

if TYPE_CHECKING:  # not needed to look at a database
    from jondel.core.engines.delta import DeltaSource
    from jondel.core.engines.pages import PagePeek, PageSink, PageSource
    from jondel.core.engines.protocol import (
        ArrangingProgress,
        CommitMark,
        Database,
        Extent,
        Hit,
        RowOrder,
        Selection,
        Tally,
    )
    from jondel.core.model.changes import Changes
    from jondel.core.model.constraints import Violation
    from jondel.core.model.filters import Arrangement, Condition
    from jondel.core.model.outcomes import (
        ResultSink,
        ScriptOutcome,
        ScriptStatement,
        StatementError,
    )
    from jondel.core.model.plans import PlanStep
    from jondel.core.model.statements import Statement
    from jondel.core.model.transactions import Transactions
    from jondel.core.model.writes import Cells, RowWrite, SequenceState, WritePlan


class RowReader(Protocol):
    """Reads rows where they stand: windows of them, single ones, those that hold some values."""

    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        """Count a table's rows; ``quick`` where an estimate will do for a large one."""

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
        order: RowOrder | None = None,
    ) -> Window:
        """Read up to ``limit`` rows, the first being row ``offset``.

        In the order given, else in the table's own. Large values come clipped. A row of an order
        that is no longer there comes as an empty one. The remaining arguments only make it
        faster in the table's own order: the table's extent, the position of the row at
        ``offset - 1``, or that of the row at ``offset + limit``.
        """

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        """Read one row, values over ``max_bytes`` bytes clipped; None if it is gone."""

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        """Count the rows before a position in the table's own order.

        ``last``, an earlier position and how many rows are before it, makes it faster.
        """

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        """Find the position of the first row whose key columns hold these values exactly."""

    def which_occur(
        self, table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
    ) -> set[int]:
        """Tell which of some keys, by their place in the list, any row holds in its columns.

        One pass over the table, however many keys there are; as exact as ``find_position``.
        """

    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        """Read the first rows whose columns equal some values, in the table's own order."""

    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        """Count the rows whose columns equal some values; no further than ``most``."""

    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        """Some of a column's values, each once and without NULL, in no order.

        ``cells`` restricts the rows; only a part of a large table is looked at.
        """

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        """Tell whether more than one row has NULL in one of the key columns."""

    def read_value(self, table: Table, row_id: int, column: str) -> StoredValue:
        """Read one value whole, of a table whose rows have numbers; None if the row is gone."""

    def read_head(self, table: Table, row_id: int, column: str, value: Clipped) -> Clipped:
        """A clipped value of a table whose rows have numbers, with its first bytes."""


class Finder(Protocol):
    """Filters, sorts, adds up and searches."""

    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        on_progress: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        """Make the order of an arrangement, in at most 16 bytes of memory a row.

        ``first`` is given the first rows as soon as these are known, before the order is.

        Raises:
            ConditionInvalid: the condition or the order cannot be one of this table.
        """

    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        """Read the first rows of an arrangement without making its order."""

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        """The statement that reads these columns of an arrangement.

        Raises:
            ConditionInvalid: the condition or the order cannot be one of this table.
        """

    def check_condition(self, table: Table, condition: Condition) -> None:
        """Find out, without reading rows, whether a condition can be one of this table.

        Raises:
            ConditionInvalid: why it cannot.
        """

    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        """Add up a column over the rows of an arrangement, or over those at some positions."""

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        """Find the cells of a table that hold a text, whatever its case, or are it as a whole.

        Numbers are found as the engine writes them. Yields hits as they are found.
        """

    def places_of_absent(
        self,
        table: Table,
        arrangement: Arrangement,
        order: RowOrder | None,
        rows: Sequence[tuple[Position, Row]],
    ) -> list[tuple[int, int]]:
        """Tell where rows that are not in a table would stand in an arrangement of it.

        ``order`` is the arrangement's, None for the table's own. Yields the indexes of those rows
        that the arrangement would show, in its order, each with how many rows come before it.
        """


class Scanner(Protocol):
    """Reads whole tables in the order of their keys, to compare them with an earlier state."""

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        """Read rows in batches, ordered by the bytes of the order columns.

        Values come whole; where ``largest`` is given, those of more bytes come clipped to nothing,
        but for values of the order columns. See ``same_value`` and ``read_value``.

        All rows, or those of a selection, whose keys are values of the order columns. Order:
        NULL, numbers, text by its UTF-8 bytes, exact values in their own order, blobs. A batch
        holds at least one row. The iterator holds a read transaction until it is exhausted or
        closed.
        """

    def same_value(
        self, table: Table, row_id: int, column: str, other: Database, other_table: Table
    ) -> bool:
        """Tell whether two states hold the same bytes in a cell, without holding them in memory.

        Both are texts or both blobs, of a table whose rows have numbers.
        """

    def rows_that_may_differ(self, older: Database, table: TableId) -> Selection | None:
        """Tell from how both are stored which rows of a table can differ from an older state's.

        All others are the same, and the table is declared alike. None where that cannot be told.
        """

    def settings(self) -> tuple[StoredValue, ...]:
        """What the database says of itself, apart from its schema: equal for equal settings."""

    def sequences(self) -> tuple[SequenceState, ...]:
        """Where sequences are that are no tables; none where that is not known."""

    def tables_alike(self, older: Database) -> frozenset[TableId]:
        """Tables that are declared and stored alike in an older state of the database.

        Some of them: those of which that is told at a glance.
        """

    def reads_alike(self, other: PagePeek) -> bool:
        """Tell whether all that was read so far of this captured state is the same in another.

        False where that cannot be told.
        """

    def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        """The value the engine fills into existing rows when the column is added.

        The second item is False where it cannot be known.
        """


class Commits(Protocol):
    """Tells what was committed."""

    look_every_seconds: float
    """The least time from one look at the token to the next that is no burden to anybody."""

    def change_token(self) -> Hashable:
        """A value that differs after another connection has committed something.

        Also differs after the file was replaced, and may differ for other reasons; soon stays the
        same while nothing happens. Takes no lock.
        """

    def mark(self, *, exact: bool = False) -> CommitMark:
        """Remember how far the database is, for ``apply`` and ``restore_from``.

        An engine whose databases have their marks in common may take what was committed in another
        one, or what we rolled back ourselves, for a difference, unless it is to be ``exact``, which
        takes longer.
        """

    def moved_since(self, mark: CommitMark) -> bool:
        """Whether anything was committed since a mark."""


class Capturer(Protocol):
    """Captures the whole database."""

    def capture(self, sink: PageSink) -> None:
        """Put a consistent state of the whole database into the sink.

        Raises:
            OSError: the sink could not keep it.
            SnapshotError: this is a captured state itself.
        """


class Writer(Protocol):
    """Writes rows, by plans that are checked in the same transaction."""

    def why_not_written(self, table: Table) -> str:
        """Why single rows of a table cannot be written here; empty where they can."""

    def write_statement(self, write: RowWrite) -> Statement:
        """The very statement that ``apply`` runs for a row."""

    def unguarded_statement(self, write: RowWrite) -> Statement:
        """The same for reading: with what addresses the row, without all else it must hold."""

    def apply(self, plan: WritePlan, since: CommitMark | None = None) -> Sequence[int | None]:
        """Write a plan as one transaction, all or nothing.

        Returns the row number of each row that was inserted, in the plan's order; None where the
        table has no row numbers, or a trigger kept the row out.

        Raises:
            RecordsMovedOn: a row is not as expected, or something was committed after ``since``.
            WriteRefused: a constraint or a link would be broken, or the engine cannot write it.
            TargetLocked: another process is writing and does not stop.
        """


class Restorer(Protocol):
    """Puts the whole database back."""

    def restore_from(self, image: Database, since: CommitMark) -> None:
        """Make the whole database the same as a captured state of it, as one transaction.

        An app that has it open sees an ordinary commit.

        Raises:
            RecordsMovedOn: something was committed after ``since``.
            WriteRefused: the state cannot be written over this database.
            TargetLocked: another process uses the database and does not stop.
        """


class StatementRunner(Protocol):
    """Runs statements that a person or a script gives."""

    def execute(
        self,
        sql: str,
        *,
        limit: int | None = None,
        beside: Mapping[str, Database] | None = None,
    ) -> ResultRows:
        """Run one reading statement, returning at most ``limit`` rows.

        ``beside`` are captured states of the same engine, whose tables the statement can name by
        the names given to the states.

        Raises:
            StatementRefused: the text is not one statement, or it would write.
        """

    def stream(
        self,
        statement: Statement,
        sink: ResultSink,
        *,
        beside: Mapping[str, Database] | None = None,
    ) -> None:
        """Run one reading statement, handing its rows on as they come.

        The sink is begun again where another state has to be read from the beginning.

        Raises:
            StatementRefused: see ``execute``.
            StatementFailed: its place is one of ``statement.text()``.
        """

    def plan(self, statement: Statement, *, measured: bool = False) -> tuple[PlanStep, ...]:
        """How a statement would be run; ``measured`` runs one that only reads to tell its times,
        where the engine can.

        Raises:
            StatementFailed, StatementRefused: there is no plan of it.
        """

    def check(self, statement: Statement) -> StatementError | None:
        """What the engine finds wrong with a statement, of whatever kind, without running it.

        Its place is one of ``statement.text()``. None where nothing is wrong, or it cannot tell.
        """


class ScriptRunner(Protocol):
    """Runs scripts that a person gives and that may write."""

    def run(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: Callable[[int], ResultSink | None],
        *,
        foreign_keys: bool = True,
        since: CommitMark | None = None,
    ) -> ScriptOutcome:
        """Run a script for real, as one transaction where it says nothing of transactions itself.

        Statements that fail are told in the outcome. ``sink_for`` gives what takes the rows of the
        statement of a number, from 0.

        Raises:
            RecordsMovedOn: something was committed after ``since``; nothing was run.
            TargetLocked: another process is writing and does not stop; nothing was run.
            WriteRefused: it cannot be written to.
        """


class Rehearser(Protocol):
    """Tries scripts out on a captured state, which stays as it is."""

    def rehearse(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: Callable[[int], ResultSink | None],
        *,
        foreign_keys: bool = True,
    ) -> tuple[ScriptOutcome, Database]:
        """Run a script; returns what it came to, and the state as it would be then.

        That state is to be closed before the one it was tried out on.
        """


class Observation(Protocol):
    """The transactions that are committed while it lasts."""

    def rest(self) -> None:
        """Spend no more time on it until it is paused: what is to be observed is over."""

    def pause(self) -> None:
        """Observe nothing that is committed from now on."""

    def told(self, before: Database, after: Database, changes: Changes) -> Transactions:
        """In how many transactions the app came from one captured state to another.

        ``before`` and ``after`` were captured while it lasted, before and after the app wrote;
        ``changes`` are what differs between them.
        """

    def states(self, before: Database) -> Iterator[PageSource]:
        """The states between the transactions, the first and the last left out, where the engine
        tells them; each is valid until the next is asked for."""


class ConstraintChecker(Protocol):
    """Finds the records of a table that do not keep to what it declares."""

    def violations(
        self,
        table: Table,
        key: Sequence[str],
        records: Sequence[tuple[StoredValue, ...]] | None = None,
    ) -> Iterator[Violation]:
        """The records for which a constraint does not hold; of very many, the first.

        ``key``: the columns that they are called by. With ``records`` only those with these keys
        are looked at. A constraint that cannot be evaluated is left out: it may call a function of
        the app.

        Raises:
            Cancelled: it was interrupted.
        """


class TransactionObserver(Protocol):
    """Observes the transactions that the app commits."""

    def observed(self) -> AbstractContextManager[Observation]:
        """Observe as long as the block runs; nothing is locked, and nothing noticed of it."""


class RehearsingTransaction(Protocol):
    """A transaction of a live database in which a script is tried out."""

    deltas: DeltaSource
    """What the transaction sees, its own changes too."""
    since: CommitMark
    """How far the database was when the transaction began."""

    def run(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: Callable[[int], ResultSink | None],
    ) -> ScriptOutcome:
        """Run a script in it; what the script does not keep is undone."""


class TransactionRehearser(Protocol):
    """Tries scripts out in a transaction that is rolled back."""

    def transaction(self) -> AbstractContextManager[RehearsingTransaction]:
        """Begin one, which is rolled back when the block ends.

        Raises:
            TargetLocked: another session waited for what it held, and it gave way.
        """
