"""Which transaction wrote which row: every row knows the one that it came with, its ``xmin``.

A row that is gone tells nothing, and of one that was written several times only the last is known;
so there may be more transactions than are told. A savepoint has a number of its own.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import cast

from jondel.core.engines.pages import PageSource
from jondel.core.engines.postgresql.connection import Connection, translated
from jondel.core.engines.postgresql.heap_facts import read_transactions, recent_since
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.postgresql.sql_text import source, unmarked, written
from jondel.core.engines.protocol import Database
from jondel.core.model.changes import Changes, TableChanges
from jondel.core.model.schema import Table
from jondel.core.model.transactions import RecordKey, Transactions
from jondel.core.model.values import Row

_MOST_ROWS = 50_000


class ServerTransactions:
    """See ``TransactionObserver``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    @contextmanager
    def observed(self) -> Iterator[ServerObservation]:
        """See ``TransactionObserver``."""
        with translated(self._session.what):
            oldest = read_transactions(self._session.connection()).oldest
        yield ServerObservation(self._session, oldest)


class ServerObservation:
    """See ``Observation``; ``oldest`` is the first transaction that may not have been over."""

    def __init__(self, session: Session, oldest: int) -> None:
        self._session = session
        self._oldest = oldest

    def told(self, before: Database, after: Database, changes: Changes) -> Transactions:
        """See ``Observation``."""
        found: dict[str, set[RecordKey]] = {}
        removed = False
        schema = self._session.schema().schema
        with translated(self._session.what):
            connection = self._session.connection()
            for table in changes.tables:
                removed |= bool(table.counts.removed)
                declared = schema.by_id.get(table.table)
                if declared is not None and table.counts.added + table.counts.changed:
                    for number, key in self._written(connection, declared, table):
                        found.setdefault(number, set()).add((table.table, key))
        if not found:
            if not changes.counts.total:
                return Transactions(0)
            return Transactions(None, why="rows that are gone do not tell which one took them")
        by_number = sorted(found, key=int)
        records = tuple(frozenset(found[number]) for number in by_number)
        return Transactions(len(found), not removed, records=records)

    def _written(
        self, connection: Connection, declared: Table, table: TableChanges
    ) -> Iterator[tuple[str, Row]]:
        """The records that changed, each with the number of the transaction it came with."""
        keys = {
            tuple(map(str, record.key)): record.key
            for record in table.records
            if record.kind != "removed"
        }
        if declared.kind != "table" or not set(table.key_columns) <= set(declared.column_names):
            return
        columns = ", ".join(map(written, table.key_columns))
        rows = connection.execute(
            unmarked(
                f"SELECT xmin::text, {columns} FROM {source(declared)} "
                f"WHERE {recent_since(self._oldest)} LIMIT {_MOST_ROWS}"
            )
        )
        for number, *parts in cast("Iterator[tuple[bytes, ...]]", rows):
            key = keys.get(tuple(part.decode("utf-8", "replace") for part in parts))
            if key is not None:
                yield number.decode(), key

    def states(self, before: Database) -> Iterator[PageSource]:
        """See ``Observation``: a server tells none."""
        return iter(())
