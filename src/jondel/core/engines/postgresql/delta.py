"""Tells what changed in a database on a server since its mirror was last brought up to date.

One transaction reads one state. A row that came or changed since the mark has an ``xmin`` that was
not yet over then; what was over then and is gone since shows in the number of rows. That a table's
rows are told from their ``xmin`` takes for granted that it is the same heap: see ``heap_facts``.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from typing import Any, TypeVar, cast

import psycopg

from jondel.core.engines.delta import (
    Delta,
    Fields,
    Hints,
    Known,
    Mark,
    PresentKeys,
    PutRow,
    Span,
    TableDelta,
)
from jondel.core.engines.postgresql.connection import Connection, connect, translated
from jondel.core.engines.postgresql.copying import copied_as_text, copied_rows
from jondel.core.engines.postgresql.giving_way import giving_way
from jondel.core.engines.postgresql.heap_facts import (
    Counted,
    HeapFacts,
    Transactions,
    count_rows,
    number_of,
    read_facts,
    read_incarnation,
    read_transactions,
    recent_since,
)
from jondel.core.engines.postgresql.key_ranges import (
    FEWEST_ROWS,
    KeyRanges,
    RangeCounter,
    RangesNow,
    ServerKeys,
    by_index,
    read_ranges,
)
from jondel.core.engines.postgresql.large_tables import without_large_tables
from jondel.core.engines.postgresql.range_sums import RangeSums, in_spans, leading_integer
from jondel.core.engines.postgresql.schema_reader import read_schema
from jondel.core.engines.postgresql.server_features import ServerFeatures, probe
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import OURS, named, unmarked
from jondel.core.errors import TableUnreadable, TargetLocked
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table

_T = TypeVar("_T")
_BEFORE_ROWS = "jondel_before_rows"
_OF_THE_SESSION = (
    psycopg.InterfaceError,
    psycopg.errors.QueryCanceled,
    psycopg.errors.LockNotAvailable,
    psycopg.errors.SerializationFailure,
)
"""Errors that say nothing of the table that is being read."""
_TRIES = 5
_ASKED_AT_ONCE = 50
_OLDEST = 1 << 30
"""So many transactions after a mark, numbers of transactions no longer tell what came since."""
_NOT_TOLD = Transactions("", 0, 0, "")
_ENDS_IN_LABELS = ("enum", "array", "other")
"""Kinds whose text can change with the labels of an enum."""

_LOCKED = f"""
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND {OURS}
    AND has_table_privilege(c.oid, 'SELECT')
"""
_LABELS = "SELECT enumtypid, enumlabel FROM pg_enum ORDER BY oid"
_SEQUENCES = f"""
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = 'S' AND {OURS}
    AND CASE WHEN c.relkind = 'S' THEN has_sequence_privilege(c.oid, 'SELECT') END
ORDER BY 1, 2
"""


class ServerDelta:
    """See ``DeltaSource``."""

    def __init__(self, session: Session, features: ServerFeatures | None = None) -> None:
        """``features`` are what the server tells; for None that is found out."""
        self._session = session
        self._features = features

    @contextmanager
    def delta(self, known: Known) -> Iterator[Delta]:
        """See ``DeltaSource``."""
        session = self._session
        unchanged = self._unchanged(known)
        if unchanged is not None:
            yield unchanged
            return
        with (
            translated(session.what),
            closing(connect(session.target, session.what)) as connection,
            session.stoppable(connection),
            giving_way(connection, session.outside, session.what),
        ):
            features = self._found_features(connection)
            connection.copies = features.copies
            now = begin_reading(connection, session.what)
            if known.largest_table is not None and features.numbers:
                now = without_large_tables(connection, now, known.schema, known.largest_table)
            reading = _Reading(connection, known, now, by_numbers=features.numbers)
            yield Delta(now, reading.tables(), reading.mark, reading.hints)
            connection.execute("COMMIT")

    def _unchanged(self, known: Known) -> Delta | None:
        """What is known, where no transaction has written anything since; None where one may have.

        Whatever a delta tells of is written by transactions, declarations and rights too; but what
        a policy lets through may depend on anything.
        """
        mark, schema = known.mark, known.schema
        numbers = self._features is not None and self._features.numbers
        if not numbers or mark is None or schema is None:
            return None
        if mark.get("largest_table") != known.largest_table or not mark.get("all_by_numbers"):
            return None
        now: bytes = self._session.ask(Asked("SELECT pg_current_snapshot()::text"))[0][0]
        if now.decode() != mark["snapshot"]:
            return None
        with self._session.asking() as connection:
            if read_incarnation(connection) != mark.get("incarnation"):
                return None
        return Delta(schema, iter(()), mark, known.hints or {})

    def _found_features(self, connection: Connection) -> ServerFeatures:
        if self._features is None:
            tables = self._session.schema().schema.tables
            plain = [t for t in tables if t.kind == "table" and t.unreadable is None]
            self._features = probe(connection, plain)
        return self._features


class TransactionDelta:
    """See ``DeltaSource``: what a transaction that is under way sees, its own changes too."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    @contextmanager
    def delta(self, known: Known) -> Iterator[Delta]:
        """See ``DeltaSource``."""
        now = read_schema(self._connection).schema
        if known.largest_table is not None:
            now = without_large_tables(self._connection, now, known.schema, known.largest_table)
        # It is the same state with the same name, and yet there is more in it.
        mark = {**known.mark, "snapshot": ""} if known.mark is not None else None
        reading = _Reading(
            self._connection, known._replace(mark=mark, hints=None), now, by_numbers=True
        )
        yield Delta(now, reading.tables(), reading.mark, reading.hints)


def begin_reading(connection: Connection, what: str, *, read_only: bool = True) -> Schema:
    """Begin the transaction, and read the schema in it.

    All tables are locked before its state is chosen: so none is altered or emptied between the two.
    """
    for _ in range(_TRIES):
        names = {
            TableId(schema.decode(), name.decode())
            for schema, name in connection.execute(_LOCKED).fetchall()
        }
        mode = "READ ONLY" if read_only else "READ WRITE"
        connection.execute(f"BEGIN ISOLATION LEVEL REPEATABLE READ {mode}")
        try:
            if names:
                listed = ", ".join(f"ONLY {named(table)}" for table in sorted(names))
                connection.execute(f"LOCK TABLE {unmarked(listed)} IN ACCESS SHARE MODE")
        except (psycopg.errors.UndefinedTable, psycopg.errors.WrongObjectType):
            connection.execute("ROLLBACK")
            continue
        schema = read_schema(connection).schema
        if all(t.id in names for t in schema.tables if t.kind in ("table", "partitioned table")
               and t.unreadable is None):  # fmt: skip
            return schema
        connection.execute("ROLLBACK")
    raise TargetLocked(f"{what}: its tables are being changed all the time; try again")


class _Reading:
    """One delta being told."""

    def __init__(
        self, connection: Connection, known: Known, now: Schema, *, by_numbers: bool
    ) -> None:
        self._connection = connection
        self._since = known.mark
        self._before = known.schema or Schema(())
        self._hints_before = known.hints or {}
        self._now = [table for table in now.tables if table.is_mirrored]
        self._transactions = read_transactions(connection) if by_numbers else _NOT_TOLD
        self._facts = read_facts(connection) if by_numbers else {}
        self._by_numbers = by_numbers
        self._sums = None if by_numbers else RangeSums(connection)
        self._told: dict[str, Any] = {}
        self._is_same_history = self._follows_on_from(known.mark)
        self.hints: Hints = {}
        labels = repr(self._ask(_LABELS)).encode()
        self.mark: Mark = {
            "snapshot": self._transactions.token,
            "oldest": self._transactions.oldest,
            "newest": self._transactions.newest,
            "incarnation": self._transactions.incarnation,
            "all_by_numbers": by_numbers
            and all(self._facts_of(table).told_by_numbers for table in self._now),
            "labels": f"{zlib.crc32(labels):08x}",
            "tables": self._told,
            "sequences": self._sequences(),
            "largest_table": known.largest_table,
        }

    def _follows_on_from(self, since: Mark | None) -> bool:
        """Whether transactions have been numbered on since a mark, in the same history."""
        now = self._transactions
        return (
            since is not None
            and since.get("incarnation") == now.incarnation
            and since.get("newest", now.newest + 1) <= now.newest
        )

    def tables(self) -> Iterator[TableDelta]:
        since = self._since or {}
        is_same_state = self._is_same_history and since.get("snapshot") == self.mark["snapshot"]
        if is_same_state and self.mark["all_by_numbers"] and since.get("all_by_numbers"):
            self._told |= since["tables"]
            self.hints |= self._hints_before
            return
        to_count: list[Table] = []
        for table in self._now:
            if self._told_by_numbers(table):
                if leading_integer(table) and self._rows_before(table) >= FEWEST_ROWS:
                    yield from self._by_ranges(table)
                else:
                    to_count.append(table)
            elif self._sums is not None and leading_integer(table):
                yield from self._by_sums(self._sums, table)
            else:
                yield self._whole(table)
        for table, counted in count_rows(self._connection, to_count, since.get("oldest")):
            yield from self._since_then(table, counted)

    def _told_by_numbers(self, table: Table) -> bool:
        facts = self._facts_of(table)
        return self._by_numbers and facts.told_by_numbers and self._in_same_place(table)

    def _facts_of(self, table: Table) -> HeapFacts:
        return self._facts.get(number_of(table), HeapFacts("", False))

    def _by_sums(self, sums: RangeSums, table: Table) -> Iterator[TableDelta]:
        """What changed in a table, of which checksums by ranges of its key tell where."""
        known = (self._since or {}).get("tables", {}).get(str(number_of(table)), {}).get("sums")
        if known is None or not self._in_same_place(table):
            yield self._whole(table)
            if str(number_of(table)) in self._told:  # else it could not be read
                self._told[str(number_of(table))]["sums"] = sums.first(table)
            return
        now, spans, rows = sums.next(table, known)
        self._note(table, rows)
        self._told[str(number_of(table))]["sums"] = now
        if spans:
            keys = ServerKeys(self._connection, table, rows)
            put = copied_rows(self._connection, table, in_spans(table, spans))
            yield self._partly(table, rows, put, keys)

    def _in_same_place(self, table: Table) -> bool:
        """Whether the mirror's rows are those that this very table had."""
        since, was = self._since, self._before.find(table.id)
        if since is None or was != table:
            return False
        known, facts = since["tables"].get(str(number_of(table))), self._facts_of(table)
        return (
            known is not None
            and self._is_same_history
            and was.column_numbers == table.column_numbers
            and known["files"] == facts.files
            # Rows that came into sight without being written: policies, rights, another role.
            and known.get("by_numbers") == facts.told_by_numbers
            and self._transactions.newest - since["oldest"] < _OLDEST
            and not (since["labels"] != self.mark["labels"] and _may_end_in_labels(table))
        )

    def _since_then(self, table: Table, now: Counted) -> Iterator[TableDelta]:
        """What changed in a table, of which the number of rows tells whether any went."""
        was = self._rows_before(table)
        recent = self._recent
        if not now.came and now.rows == was:
            self._note(table, now.rows)
        elif table.primary_key:
            self._note(table, now.rows)
            put = copied_rows(self._connection, table, recent) if now.came else iter(())
            present = ServerKeys(self._connection, table, now.rows)
            yield self._partly(table, now.rows, put, present)
        elif was + now.came == now.rows:
            # All that were there are there and older: those that came are new ones.
            self._note(table, now.rows)
            yield self._partly(table, now.rows, copied_rows(self._connection, table, recent))
        else:
            yield self._whole(table)

    def _by_ranges(self, table: Table) -> Iterator[TableDelta]:
        """What changed in a large table, of which numbers of rows by ranges of its key are kept."""
        before = KeyRanges.from_json(self._hints_before.get(str(number_of(table))))
        now = read_ranges(self._connection, table, before, self._recent)
        self._note(table, now.ranges.rows, now.ranges.bearable())
        spans = now.suspects(before) if before is not None else None
        if spans != []:
            put = self._recent_rows(table, now, spans)
            present = ServerKeys(self._connection, table, now.ranges.rows, spans)
            yield self._partly(table, now.ranges.rows, put, present)

    def _recent_rows(
        self, table: Table, now: RangesNow, spans: list[Span] | None
    ) -> Iterator[PutRow]:
        if not now.came.any():
            return
        where = self._recent if spans is None else f"{self._recent} AND ({in_spans(table, spans)})"
        with by_index(self._connection, unless=spans is None):
            yield from copied_rows(self._connection, table, where)

    @property
    def _recent(self) -> str:
        return recent_since((self._since or {})["oldest"])

    def _rows_before(self, table: Table) -> int:
        return self._rows_noted((self._since or {})["tables"], table)

    @staticmethod
    def _rows_noted(told: Mapping[str, Any], table: Table) -> int:
        return int(told[str(number_of(table))]["rows"])

    def _partly(
        self, table: Table, rows: int, put: Iterator[PutRow], present: PresentKeys | None = None
    ) -> TableDelta:
        return TableDelta(
            table.id,
            False,
            put=self._readable(table, put),
            present=present,
            rows=lambda: rows,
            whole_again=lambda: self._whole(table),
        )

    def _whole(self, table: Table) -> TableDelta:
        return TableDelta(
            table.id,
            True,
            bulk=self._readable(table, self._all_rows(table)),
            rows=lambda: self._rows_noted(self._told, table),
        )

    def _readable(self, table: Table, rows: Iterator[_T]) -> Iterator[_T]:
        """The same rows; where the server cannot give them, the rest can be read all the same."""
        connection = self._connection
        connection.execute(f"SAVEPOINT {_BEFORE_ROWS}")
        try:
            yield from rows
        except psycopg.Error as error:
            if connection.closed or isinstance(error, _OF_THE_SESSION):
                raise
            connection.execute(f"ROLLBACK TO SAVEPOINT {_BEFORE_ROWS}")
            self._told.pop(str(number_of(table)), None)
            self.hints.pop(str(number_of(table)), None)
            self.mark["all_by_numbers"] = False  # it is tried again each time
            words = (error.diag.message_primary or str(error)).strip()
            raise TableUnreadable(f"the server cannot read it: {words}") from error
        connection.execute(f"RELEASE SAVEPOINT {_BEFORE_ROWS}")

    def _all_rows(self, table: Table) -> Iterator[Fields | list[PutRow]]:
        rows = 0
        counter = RangeCounter() if leading_integer(table) else None
        for count, block in copied_as_text(self._connection, table):
            rows += count
            if counter is not None:
                counter.add(_first_keys(table, block))
            yield block
        self._note(table, rows, counter.ranges if counter is not None else None)

    def _note(self, table: Table, rows: int, ranges: KeyRanges | None = None) -> None:
        number, facts = number_of(table), self._facts_of(table)
        self._told[str(number)] = {
            "files": facts.files, "rows": rows, "by_numbers": facts.told_by_numbers
        }  # fmt: skip
        if ranges is not None and rows >= FEWEST_ROWS:
            self.hints[str(number)] = ranges.as_json()

    def _sequences(self) -> list[list[Any]]:
        """Of each its name, its last value, and whether that is taken."""
        ids = [TableId(schema, name) for schema, name in self._ask(_SEQUENCES)]
        found: list[list[Any]] = []
        for first in range(0, len(ids), _ASKED_AT_ONCE):
            part = ids[first : first + _ASKED_AT_ONCE]
            sql = " UNION ALL ".join(
                f"SELECT {n}, last_value, is_called FROM {unmarked(named(sequence))}"
                for n, sequence in enumerate(part)
            )
            found += [[list(part[int(n)]), int(last), called == "t"]
                      for n, last, called in self._ask(sql)]  # fmt: skip
        return found

    def _ask(self, sql: str) -> list[tuple[str, ...]]:
        rows = self._connection.execute(sql).fetchall()
        return [tuple("" if part is None else part.decode("utf-8", "replace") for part in row)
                for row in rows]  # fmt: skip


def _first_keys(table: Table, block: Fields | list[PutRow]) -> Iterator[int]:
    """The first values of the keys of some rows, which are integers."""
    if block and isinstance(block[0], PutRow):
        return (cast(int, row.position[0]) for row in block if isinstance(row, PutRow))
    place = table.column_names.index(table.primary_key[0])
    return map(int, cast(Fields, block)[place :: len(table.columns)])


def _may_end_in_labels(table: Table) -> bool:
    return any(column.type.kind in _ENDS_IN_LABELS for column in table.columns)
