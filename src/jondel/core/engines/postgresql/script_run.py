"""Runs scripts: for real, or in a transaction that is rolled back.

For real, a script that says nothing of transactions is one; another one is run as it says. Tried
out, all of it runs in one transaction, in which savepoints stand for the script's own ones.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

import psycopg

from jondel.core.engines.postgresql.bulk_load import BulkLoad
from jondel.core.engines.postgresql.connection import (
    SESSION_SETTINGS,
    Connection,
    connect,
    translated,
    words_with_hint,
)
from jondel.core.engines.postgresql.delta import TransactionDelta, begin_reading
from jondel.core.engines.postgresql.dialect import DIALECT
from jondel.core.engines.postgresql.giving_way import giving_way
from jondel.core.engines.postgresql.marks import exact_mark
from jondel.core.engines.postgresql.outside_effects import OutsideEffects
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.postgresql.statements import hand_on, run, stream_rows
from jondel.core.engines.postgresql.writing import ServerWriter, transaction_number
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import Cancelled, StatementFailed, WouldWrite
from jondel.core.model.bulk import BulkRows
from jondel.core.model.outcomes import (
    Outcome,
    ResultColumn,
    ResultSink,
    ScriptOutcome,
    ScriptStatement,
    StatementError,
)
from jondel.core.model.values import ShownRow
from jondel.core.sql.tokens import without_comments

if TYPE_CHECKING:
    from jondel.core.engines.delta import DeltaSource

SinkFor = Callable[[int], ResultSink | None]

_OPENS = frozenset({"BEGIN", "START"})
_CLOSES = frozenset({"COMMIT", "END", "ROLLBACK", "ABORT"})
_CONTROLS = _OPENS | _CLOSES | {"SAVEPOINT", "RELEASE"}
_ON_ITS_OWN = frozenset(
    {"VACUUM", "CLUSTER", "REINDEX", "CHECKPOINT", "DISCARD", "SET", "RESET"}
)  # fmt: skip
_NOT_IN_TRANSACTIONS = (
    ("CREATE", "DATABASE"), ("DROP", "DATABASE"), ("ALTER", "DATABASE"), ("ALTER", "SYSTEM"),
    ("CREATE", "TABLESPACE"), ("DROP", "TABLESPACE"),
)  # fmt: skip
_WRITE_COMMANDS = frozenset({"INSERT", "UPDATE", "DELETE", "MERGE"})
_LONGEST_SECONDS = 60
"""How long one statement may take that is tried out; it holds locks all the while."""


def words_of(sql: str) -> list[str]:
    """A statement's tokens, in capitals."""
    return [token.text.upper() for token in without_comments(sql, DIALECT.lexis)]


def _is_alone(words: Sequence[str]) -> bool:
    """Whether a statement cannot be in a transaction, or means something else there."""
    if words[0] in _ON_ITS_OWN or tuple(words[:2]) in _NOT_IN_TRANSACTIONS:
        return True
    return "CONCURRENTLY" in words[:6]


def is_one_transaction(statements: Sequence[ScriptStatement]) -> bool:
    """Whether a script says nothing of transactions, and so is one."""
    for entry in statements:
        words = words_of(entry.sql)
        if words and (words[0] in _OPENS | _CLOSES | {"SAVEPOINT"} or _is_alone(words)):
            return False
    return True


def why_not_run(sql: str) -> str:
    """Why a statement is not run here at all; empty where it is."""
    words = words_of(sql)
    if words[:1] == ["COPY"] and "STDIN" in words:
        return "COPY FROM STDIN needs data that a statement does not have; import a file instead"
    if words[:1] == ["COPY"] and "STDOUT" in words:
        return "COPY TO STDOUT hands its rows to a client program; run its SELECT, or export"
    return ""


class _ToTheEnd:
    """Has all rows come, whether or not they are wanted: what computes them may do more."""

    def __init__(self, sink: ResultSink | None) -> None:
        self._sink = self._wanted = sink
        self._left_out = False

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        if self._sink is not None:
            self._sink.begin(columns)

    def take(self, rows: Sequence[ShownRow]) -> bool:
        if self._wanted is None:
            self._left_out = self._left_out or bool(rows)
        elif not self._wanted.take(rows):
            self._wanted = None
        return True

    def end(self, complete: bool) -> None:
        if self._sink is not None:
            self._sink.end(complete and not self._left_out)


def _only_reads(sql: str) -> bool:
    """Whether a statement is a question that a cursor can be opened for."""
    words = words_of(sql)
    if not words or words[0] not in ("SELECT", "VALUES", "TABLE", "WITH"):
        return False
    changing = {"INTO"} if words[0] != "WITH" else {"INTO", "INSERT", "UPDATE", "DELETE", "MERGE"}
    return changing.isdisjoint(words)


class ServerScripts:
    """See ``ScriptRunner`` and ``TransactionRehearser``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def run(
        self,
        statements: Sequence[ScriptStatement],
        sink_for: SinkFor,
        *,
        foreign_keys: bool = True,
        since: CommitMark | None = None,
    ) -> ScriptOutcome:
        """See ``ScriptRunner.run``. The server always enforces foreign keys."""
        session = self._session
        schema = session.schema().schema if since is not None else None
        number, lost = "", None
        with (
            translated(session.what),
            closing(connect(session.target, session.what, writing=True)) as connection,
            session.stoppable(connection),
        ):
            connection.execute("SET search_path TO DEFAULT")
            whole = is_one_transaction(statements)
            run_ = _Run(connection, statements, sink_for)

            if schema is not None and since is not None:
                # The locks of that are let go: the script has its own, no longer than it runs.
                with connection.transaction(force_rollback=True):
                    ServerWriter.require_unmoved(connection, schema, since)
            if not whole:
                return run_.as_it_says()
            connection.execute("BEGIN")
            try:
                if run_.all_of_it():
                    number = transaction_number(connection)
                    run_.commit()
                else:
                    connection.execute("ROLLBACK")
            except psycopg.OperationalError as error:
                if not connection.closed:
                    raise
                lost = error
        if lost is not None:
            ServerWriter(session).require_done(number, lost)
        return run_.outcome()

    @contextmanager
    def transaction(self) -> Iterator[RehearsingTransaction]:
        """See ``TransactionRehearser``."""
        session = self._session
        with (
            translated(session.what),
            closing(connect(session.target, session.what, writing=True)) as connection,
            session.stoppable(connection),
            giving_way(connection, session.outside, session.what),
        ):
            schema = begin_reading(connection, session.what, read_only=False)
            try:
                yield RehearsingTransaction(connection, exact_mark(connection, schema.tables))
            finally:
                if not connection.closed:
                    connection.execute("ROLLBACK")


class RehearsingTransaction:
    """See ``roles.RehearsingTransaction``."""

    def __init__(self, connection: Connection, since: CommitMark) -> None:
        self._connection = connection
        self.since = since
        self.deltas: DeltaSource = TransactionDelta(connection)

    def run(self, statements: Sequence[ScriptStatement], sink_for: SinkFor) -> ScriptOutcome:
        """Run a script in it."""
        connection = self._connection
        connection.execute("SET LOCAL search_path TO DEFAULT")
        connection.execute(f"SET LOCAL statement_timeout = '{_LONGEST_SECONDS}s'")
        running = _Run(connection, statements, sink_for)
        running.with_savepoints()
        # Whatever the script set, what follows is read in our own way.
        connection.execute("RESET SESSION AUTHORIZATION")
        connection.execute("RESET ROLE")
        for name, value in SESSION_SETTINGS.items():
            if name != "default_transaction_read_only":
                connection.execute(f"SET LOCAL {name} = '{value}'")
        connection.execute("SET LOCAL search_path = pg_catalog")
        return running.outcome()


class _Run:
    """One script being run."""

    def __init__(
        self, connection: Connection, statements: Sequence[ScriptStatement], sink_for: SinkFor
    ) -> None:
        self._connection = connection
        self._statements = statements
        self._sink_for = sink_for
        self._outcomes: list[Outcome] = []
        self._notes: dict[str, None] = {}
        self._kept = 0
        self._failed = False
        self._is_rehearsal = False

    def outcome(self) -> ScriptOutcome:
        """What it came to."""
        if self._failed:
            self._undo()
        rest = self._statements[len(self._outcomes) :]
        unrun = [Outcome(entry.text, "not run") for entry in rest]
        return ScriptOutcome((*self._outcomes, *unrun), tuple(self._notes))

    def _undo(self) -> None:
        """What is not kept was rolled back."""
        for number, one in enumerate(self._outcomes):
            words = words_of(one.text)[:1]
            if number >= self._kept and one.fate == "done" and not _CONTROLS.issuperset(words):
                self._outcomes[number] = one._replace(fate="undone")

    def all_of_it(self) -> bool:
        """Run all statements in the transaction that is under way; whether none failed."""
        return all(self._one(number) for number in range(len(self._statements)))

    def commit(self) -> None:
        """End the transaction."""
        try:
            self._connection.execute("COMMIT")
        except psycopg.errors.QueryCanceled as error:
            raise Cancelled("stopped") from error
        except psycopg.Error as error:
            if self._connection.closed:
                raise
            self._fail("COMMIT", f"{words_with_hint(error)}, found when the transaction was to end")

    def as_it_says(self) -> ScriptOutcome:
        """Run all statements as they come, with the script's own transactions."""
        connection = self._connection
        for number in range(len(self._statements)):
            going_on = self._one(number)
            idle = connection.info.transaction_status == psycopg.pq.TransactionStatus.IDLE
            if idle and words_of(self._statements[number].sql)[:1] in (["ROLLBACK"], ["ABORT"]):
                self._undo()
            if idle and going_on:
                self._kept = len(self._outcomes)
            if not going_on:
                break
        self._leave_open(connection.info.transaction_status != psycopg.pq.TransactionStatus.IDLE)
        return self.outcome()

    def with_savepoints(self) -> None:
        """Run all statements within a transaction that goes on; what is not kept is undone in it.

        A savepoint stands for the beginning of what is not committed yet. Nothing is run where one
        of them does something that a rollback does not undo.
        """
        self._is_rehearsal = True
        if not self._can_be_undone():
            return
        whole = is_one_transaction(self._statements)
        inside = whole
        self._execute("SAVEPOINT jondel_kept")
        for number, entry in enumerate(self._statements):
            words = words_of(entry.sql)
            if not whole and words and words[0] in _OPENS | _CLOSES and "TO" not in words:
                if not self._control(entry, words):
                    break
                inside = words[0] in _OPENS
                continue
            if not self._one(number):
                break
            if not inside and not self._settle():
                break
        if not self._failed and (whole or not inside):
            self._settle(at_the_end=True)
        if self._failed or (inside and not whole):
            self._execute("ROLLBACK TO SAVEPOINT jondel_kept")
            self._leave_open(inside and not whole)

    def _can_be_undone(self) -> bool:
        effects = OutsideEffects.known_to(self._connection)
        for number, entry in enumerate(self._statements):
            effect = effects.of(entry.sql)
            if effect:
                before = self._statements[:number]
                self._outcomes += [Outcome(other.text, "not run") for other in before]
                self._fail(entry.text, f"{effect}; that is not undone by a rollback, so nothing "
                           "was tried out")  # fmt: skip
                return False
        self._notes.update(dict.fromkeys(effects.unknown(e.sql for e in self._statements)))
        return True

    def _control(self, entry: ScriptStatement, words: Sequence[str]) -> bool:
        """Do what a statement about transactions does, by savepoints; whether it went well."""
        self._outcomes.append(Outcome(entry.text, "done"))
        if words[0] in _OPENS:
            return True
        if words[0] in ("ROLLBACK", "ABORT"):
            self._execute("ROLLBACK TO SAVEPOINT jondel_kept")
            self._undo()
            self._kept = len(self._outcomes)
            return True
        return self._settle()

    def _settle(self, *, at_the_end: bool = False) -> bool:
        """Have what was done up to here be kept, as at the end of a transaction."""
        try:
            self._execute("SAVEPOINT jondel_check")
            self._execute("SET CONSTRAINTS ALL IMMEDIATE")
            if not at_the_end:  # what waits for the end of a transaction does so again
                self._execute("ROLLBACK TO SAVEPOINT jondel_check")
            self._execute("RELEASE SAVEPOINT jondel_check")
        except psycopg.errors.QueryCanceled as error:
            raise Cancelled("stopped") from error
        except psycopg.Error as error:
            self._fail("COMMIT", f"{words_with_hint(error)}, found when the transaction was to end")
            return False
        self._execute("RELEASE SAVEPOINT jondel_kept")
        self._execute("SAVEPOINT jondel_kept")
        self._kept = len(self._outcomes)
        return True

    def _leave_open(self, is_open: bool) -> None:
        if is_open and not self._failed:
            self._notes["it leaves its transaction open: what it wrote there is not kept"] = None
            self._failed = True

    def _execute(self, sql: str) -> None:
        self._connection.execute(sql)

    def _fail(self, text: str, message: str, at: int | None = None, seconds: float = 0.0) -> None:
        self._failed = True
        error = StatementError(message, at)
        self._outcomes.append(Outcome(text, "failed", seconds, error=error))

    def _one(self, number: int) -> bool:
        """Run one statement; whether it went well."""
        entry, started = self._statements[number], time.perf_counter()
        if any("\0" in text for text in entry.statement.texts):
            self._fail(entry.text, "the statement holds a NUL character")
            return False
        refusal = why_not_run(entry.sql)
        if refusal:
            self._fail(entry.text, refusal)
            return False
        try:
            if entry.rows is not None:
                self._outcomes.append(self._load(entry, entry.rows, started))
                return True
            if _only_reads(entry.sql) and self._read(entry, self._sink_for(number)):
                seconds = time.perf_counter() - started
                self._outcomes.append(Outcome(entry.text, "done", seconds, has_rows=True))
                return True
            cursor = run(self._connection, "", entry.statement)
            has_rows = cursor.description is not None
            if has_rows:
                sink = self._sink_for(number)
                if sink is not None:
                    hand_on(self._connection, cursor, sink)
        except psycopg.errors.QueryCanceled as error:
            if "statement timeout" not in str(error):
                raise
            self._fail(
                entry.text, f"it took more than {_LONGEST_SECONDS} s, which is not waited for"
            )
            return False
        except StatementFailed as error:
            at = None if error.at is None else entry.place(error.at)
            self._fail(entry.text, str(error), at, time.perf_counter() - started)
            return False
        except psycopg.Error as error:
            if self._connection.closed:
                raise
            self._fail(entry.text, *_error_of(error, entry), time.perf_counter() - started)
            return False
        command = (cursor.statusmessage or "").split()
        wrote = command[:1] and command[0] in _WRITE_COMMANDS
        affected = max(0, cursor.rowcount) if wrote else None
        seconds = time.perf_counter() - started
        self._outcomes.append(Outcome(entry.text, "done", seconds, affected, None, has_rows))
        return True

    def _read(self, entry: ScriptStatement, sink: ResultSink | None) -> bool:
        """Run a question with a cursor: its rows come some at a time, however many there are.

        False where no cursor can be opened for it; it was not run then.
        """
        try:
            with self._connection.transaction():  # a savepoint, where one is under way
                stream_rows(self._connection, entry.statement, _ToTheEnd(sink), by_cursor=True)
        except WouldWrite:
            return False
        return True

    def _load(self, entry: ScriptStatement, rows: BulkRows, started: float) -> Outcome:
        load = BulkLoad(self._connection, rows)
        inserted = load.run()
        if not self._is_rehearsal:
            self._notes.update(dict.fromkeys(load.move_sequences()))
        return Outcome(entry.text, "done", time.perf_counter() - started, inserted)


def _error_of(error: psycopg.Error, entry: ScriptStatement) -> tuple[str, int | None]:
    detail = error.diag.message_detail
    words = words_with_hint(error)
    if detail:
        words = f"{words} ({detail.rstrip('.')})"
    position = error.diag.statement_position
    if position is None or not position.isdecimal():
        return words, None
    marks = [f"${number}" for number in range(1, len(entry.statement.arguments) + 1)]
    return words, entry.place(entry.statement.place(int(position) - 1, marks))
