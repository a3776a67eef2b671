"""Which transaction wrote which row: every row knows the one that it came with, its ``xmin``.

A row that is gone tells nothing, and of one that was written several times only the last is known;
so there may be more transactions than are told. A savepoint has a number of its own.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import cast

from jondel.core.engines.pages import PageSource
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.heap_facts import (
    Transactions,
    count_rows,
    read_transactions,
    recent_since,
)
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.postgresql.sql_text import source, unmarked, written
from jondel.core.engines.protocol import Database
from jondel.core.model.changes import Changes, TableChanges
from jondel.core.model.schema import Table
from jondel.core.model.transactions import RecordKey
from jondel.core.model.transactions import Transactions as StepTransactions
from jondel.core.model.values import Exact, Row, StoredValue

_MOST_ROWS = 50_000
_XIDS = 1 << 32


class ServerTransactions:
    """See ``TransactionObserver``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    @contextmanager
    def observed(self) -> Iterator[ServerObservation]:
        """See ``TransactionObserver``."""
        with self._session.asking() as connection:
            began = read_transactions(connection)
        yield ServerObservation(self._session, began)


class ServerObservation:
    """See ``Observation``; ``began`` says which transactions were over when it began."""

    def __init__(self, session: Session, began: Transactions) -> None:
        self._session = session
        self._oldest = began.oldest
        self._newest = began.newest
        under_way = began.token.rpartition(":")[2]
        self._under_way = {int(number) for number in under_way.split(",") if number}

    def rest(self) -> None:
        """See ``Observation``: it takes no time."""

    def pause(self) -> None:
        """See ``Observation``; what is told is asked of the rows."""

    def told(self, before: Database, after: Database, changes: Changes) -> StepTransactions:
        """See ``Observation``."""
        found: dict[str, set[RecordKey]] = {}
        unchanged: set[RecordKey] = set()
        removed = any(table.counts.removed for table in changes.tables)
        by_id = {table.table: table for table in changes.tables}
        with self._session.asking() as connection:
            tables = [t for t in self._session.schema().schema.tables if t.is_mirrored]
            for declared, count in list(count_rows(connection, tables, self._oldest)):
                if not count.came or declared.kind != "table" or not declared.primary_key:
                    continue
                table = by_id.get(declared.id)
                for number, key, is_new in self._written(connection, declared, before, table):
                    if is_new:
                        found.setdefault(number, set()).add((declared.id, key))
                    else:
                        unchanged.add((declared.id, key))
        by_number = sorted(found, key=int)
        records = tuple(frozenset(found[number]) for number in by_number)
        if not found and changes.counts.total:
            why = "rows that are gone do not tell which one took them"
            return StepTransactions(None, why=why, unchanged=frozenset(unchanged))
        number_told = len(found) or int(bool(unchanged))
        return StepTransactions(number_told, not removed, "", records, frozenset(unchanged))

    def _written(
        self,
        connection: Connection,
        declared: Table,
        before: Database,
        table: TableChanges | None,
    ) -> Iterator[tuple[str, Row, bool]]:
        """The records that were written, each with the number of the transaction it came with, and
        whether it is another one than before."""
        key_columns = declared.primary_key
        changed = {
            tuple(map(str, record.key)): record.key
            for record in (table.records if table is not None else ())
            if record.kind != "removed"
        }
        columns = ", ".join(map(written, key_columns))
        rows = connection.execute(
            unmarked(
                f"SELECT xmin::text, {columns} FROM {source(declared)} "
                f"WHERE {recent_since(self._oldest)} LIMIT {_MOST_ROWS}"
            )
        ).fetchall()
        for number, *parts in cast("list[tuple[bytes, ...]]", rows):
            if not self._came_since(int(number)):
                continue
            words = tuple(part.decode("utf-8", "replace") for part in parts)
            key = changed.get(words)
            if key is not None:
                yield number.decode(), key, True
            elif (same := self._before(before, declared, words)) is not None:
                yield number.decode(), same, False

    def _came_since(self, number: int) -> bool:
        """Whether a transaction was not over when this began; rows have 32 bits of its number."""
        whole = (self._newest & ~(_XIDS - 1)) | number
        if whole > self._newest + _XIDS // 2:
            whole -= _XIDS
        return whole >= self._newest or whole in self._under_way

    def _before(self, before: Database, declared: Table, words: tuple[str, ...]) -> Row | None:
        """The key of a record as it was before, if it was there."""
        was = before.schema().by_id.get(declared.id)
        if was is None or was.primary_key != declared.primary_key:
            return None
        columns = [declared.column(name) for name in declared.primary_key]
        key: list[StoredValue] = []
        for column, text in zip(columns, words, strict=True):
            assert column is not None
            kind = column.type.exact_kind
            if kind is not None:
                key.append(Exact(kind, text))
            else:
                key.append(int(text) if column.type.kind == "integer" else text)
        found = before.rows.find_position(was, was.primary_key, key)
        return tuple(key) if found is not None else None

    def states(self, before: Database) -> Iterator[PageSource]:
        """See ``Observation``: a server tells none."""
        return iter(())
