"""Runs a script on a connection that can write, statement by statement.

Where it says nothing of transactions itself, all of it is one. Where it does, it is run as it says,
and what it leaves open in the end is rolled back, as it is for an app that ends then.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from itertools import islice

import apsw

from jondel.core.engines.sqlite.bulk_load import BulkLoad
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.engines.sqlite.sql_text import mark_of, parameters
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.errors import Cancelled
from jondel.core.model.addresses import TableId
from jondel.core.model.outcomes import (
    Outcome,
    ResultColumn,
    ResultSink,
    ScriptOutcome,
    ScriptStatement,
    StatementError,
)
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow
from jondel.core.sql.tokens import Lexis, without_comments

SinkFor = Callable[[int], ResultSink | None]
"""Gives what takes the rows of the statement of a number, from 0; None where nobody wants them."""

_LEXIS = Lexis(tcl_variables=True)
_ON_ITS_OWN = frozenset(
    {"BEGIN", "COMMIT", "END", "ROLLBACK", "SAVEPOINT", "RELEASE", "VACUUM", "PRAGMA", "ATTACH",
     "DETACH"}
)  # fmt: skip
"""What statements begin with that mean something else inside of a transaction."""
_CONTROLS = frozenset({"BEGIN", "COMMIT", "END", "ROLLBACK", "SAVEPOINT", "RELEASE"})
_WRITING = frozenset({"INSERT", "UPDATE", "DELETE", "REPLACE", "WITH"})
_FIRST_ROWS, _ROWS_AT_ONCE = 100, 1000
_TAKEN_TOGETHER, _QUICK_SECONDS = 64, 0.002
_LONGEST_WAIT_SECONDS = 0.2


def is_one_transaction(statements: Sequence[ScriptStatement]) -> bool:
    """Whether a script says nothing of transactions, and so is one."""
    return not any(first_word(entry.sql) in _ON_ITS_OWN for entry in statements)


def first_word(sql: str) -> str:
    """What a statement begins with, in capitals."""
    first = next(iter(without_comments(sql, _LEXIS)), None)
    return first.text.upper() if first is not None else ""


class ScriptRun:
    """One script being run."""

    def __init__(
        self,
        connection: apsw.Connection,
        statements: Sequence[ScriptStatement],
        sink_for: SinkFor,
        stop: threading.Event,
    ) -> None:
        self._connection = connection
        self._statements = statements
        self._sink_for = sink_for
        self._stop = stop
        self._outcomes: list[Outcome] = []
        self._notes: list[str] = []
        self._kept = 0
        """How many of the outcomes nothing takes back any more."""

    def run(self, begin: Callable[[], None]) -> ScriptOutcome:
        """Run it; ``begin`` begins the transaction that all of it is, where it is one.

        Raises:
            Cancelled: that was asked for; what is not committed is rolled back.
        """
        whole = is_one_transaction(self._statements)
        if whole:
            begin()
        try:
            failed = self._run_all()
            if whole and not failed:
                check_stop(self._stop)
                failed = self._commit()
        finally:
            self._roll_back(left_open=not whole)
        if failed:
            self._undo()
        rest = self._statements[len(self._outcomes) :]
        self._outcomes += [Outcome(entry.text, "not run") for entry in rest]
        return ScriptOutcome(tuple(self._outcomes), tuple(self._notes))

    def _run_all(self) -> bool:
        """Returns whether one failed."""
        for number, entry in enumerate(self._statements):
            check_stop(self._stop)
            outcome = self._run_one(number, entry)
            self._outcomes.append(outcome)
            if outcome.error is not None:
                return True
            if not self._connection.in_transaction:
                if first_word(entry.sql) == "ROLLBACK":
                    self._undo()
                self._kept = len(self._outcomes)
        return False

    def _run_one(self, number: int, entry: ScriptStatement) -> Outcome:
        connection = self._connection
        before, started = connection.total_changes(), time.perf_counter()
        has_rows = False
        try:
            if entry.rows is not None:
                inserted = BulkLoad(connection, entry.rows, self._stop).run()
                return Outcome(entry.text, "done", time.perf_counter() - started, inserted)
            sink = self._sink_for(number)
            has_rows = stream_rows(connection, entry.statement, sink)
        except apsw.InterruptError as error:
            raise Cancelled("stopped") from error
        except (apsw.Error, ValueError) as error:
            seconds = time.perf_counter() - started
            return Outcome(entry.text, "failed", seconds, error=error_of(error, entry))
        wrote = connection.total_changes() - before
        writes = wrote or (first_word(entry.sql) in _WRITING and not has_rows)
        affected = (connection.changes() or wrote) if writes else None
        return Outcome(entry.text, "done", time.perf_counter() - started, affected, None, has_rows)

    def _commit(self) -> bool:
        try:
            self._connection.execute("COMMIT")
        except apsw.InterruptError as error:
            raise Cancelled("stopped") from error
        except apsw.Error as error:
            message = f"{_words(error)}, found when the transaction was to end"
            failed = Outcome("COMMIT", "failed", error=StatementError(message))
            self._outcomes.append(failed)
            return True
        self._kept = len(self._outcomes)
        return False

    def _roll_back(self, *, left_open: bool) -> None:
        if not self._connection.in_transaction:
            return
        self._connection.set_progress_handler(None)
        with suppress(apsw.Error):
            self._connection.execute("ROLLBACK")
        if left_open and not any(outcome.error for outcome in self._outcomes):
            self._notes.append("it leaves its transaction open: what it wrote there is not kept")
            self._undo()

    def _undo(self) -> None:
        for number, outcome in enumerate(self._outcomes):
            is_control = first_word(outcome.text) in _CONTROLS
            if number >= self._kept and outcome.fate == "done" and not is_control:
                self._outcomes[number] = outcome._replace(fate="undone")


def stream_rows(connection: apsw.Connection, statement: Statement, sink: ResultSink | None) -> bool:
    """Run one statement to its end, or until its rows are no longer wanted; whether it has any
    columns. Raises ``apsw.Error``."""
    text = executed_text(statement)
    # Of a statement that returns no row the columns are known only before it is run.
    traced: list[tuple[str | None, ...]] = []

    def note(cursor: apsw.Cursor, _: str, __: object) -> bool:
        with suppress(apsw.ExecutionCompleteError):
            traced.extend(cursor.description_full or ())
        return True

    cursor = connection.cursor()
    cursor.exec_trace = note
    cursor.execute(text, parameters(statement.values))
    if not traced:
        for _ in cursor:
            pass
        return False
    columns = [_column(*described) for described in traced]  # type: ignore[arg-type]
    if sink is None:
        for _ in cursor:
            pass
        return True
    sink.begin(columns)
    for rows in _batches(cursor):
        if not sink.take(rows):
            # A statement that writes does so before its first row: nothing is cut short.
            sink.end(complete=next(iter(cursor), None) is None)
            cursor.close(True)
            return True
    sink.end(complete=True)
    return True


def _batches(cursor: apsw.Cursor) -> Iterator[list[ShownRow]]:
    """Rows as they come: the first soon, and then more at once."""
    rows: list[ShownRow] = []
    at_once, some = _FIRST_ROWS, 1
    now = time.monotonic()
    deadline = now + _LONGEST_WAIT_SECONDS
    while taken := list(islice(cursor, min(some, at_once - len(rows)))):
        rows += taken
        last, now = now, time.monotonic()
        # Those that come quickly are taken together: looking at the clock takes longer.
        some = min(some * 4, _TAKEN_TOGETHER) if now - last < _QUICK_SECONDS else 1
        if len(rows) >= at_once or now > deadline:
            yield rows
            rows, at_once = [], _ROWS_AT_ONCE
            now = time.monotonic()
            deadline = now + _LONGEST_WAIT_SECONDS
    if rows:
        yield rows


def executed_text(statement: Statement) -> str:
    """A statement as it is run, with its marks."""
    first, *others = statement.texts
    marked = zip(map(mark_of, statement.values), others, strict=True)
    return first + "".join(mark + text for mark, text in marked)


def error_of(error: Exception, entry: ScriptStatement) -> StatementError:
    """What the engine says of a statement, and where in it as it is written."""
    at: int | None = getattr(error, "error_offset", -1)
    if at is None or at < 0 or not isinstance(error, apsw.Error):
        return StatementError(_words(error))
    statement = entry.statement
    before = executed_text(statement).encode()[:at].decode("utf-8", "replace")
    place = statement.place(len(before), [mark_of(value) for value in statement.values])
    return StatementError(_words(error), entry.place(place))


def _words(error: Exception) -> str:
    if isinstance(error, UnicodeDecodeError):
        return (
            "the result holds text that is not valid UTF-8; "
            "select CAST(column AS BLOB) to see its bytes"
        )
    if isinstance(error, apsw.AuthError):
        return "it would open or write another file, which is not tried out"
    if isinstance(error, apsw.BusyError | apsw.LockedError):
        return "the database is locked by another process"
    return str(error).split("\n", maxsplit=1)[0] or type(error).__name__


def _column(
    name: str, declared: str | None, schema: str | None, table: str | None, origin: str | None
) -> ResultColumn:
    of = TableId(table) if table is not None and schema == "main" else None
    return ResultColumn(name, column_type(declared or ""), of, origin or "" if of else "")
