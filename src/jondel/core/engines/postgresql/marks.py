"""How far a database is, and whether something was committed since."""

from __future__ import annotations

import time
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import psycopg

from jondel.core.engines.postgresql.address import address_of
from jondel.core.engines.postgresql.connection import Connection, translated
from jondel.core.engines.postgresql.heap_facts import (
    HeapFacts,
    aggregates,
    number_of,
    read_facts,
    read_transactions,
    recent_since,
)
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import StatementFailed
from jondel.core.model.schema import Table

_LOOK_SECONDS = 0.25
_LOOK_SELDOM_SECONDS = 1.0
"""Where each look takes a connection of its own."""
_UNTOLD_SECONDS = 5.0
_TOKEN = """
SELECT pg_current_snapshot()::text, pg_postmaster_start_time()::text,
    (SELECT d.oid FROM pg_database d WHERE d.datname = %s)
"""


class TableMark(NamedTuple):
    """How far a table is: its files, its number of rows, and a sum over some of its rows.

    The sum is over places and transaction numbers of the rows that came lately; where numbers do
    not tell what came, over the content of all rows.
    """

    facts: HeapFacts
    rows: int
    sum: str


@dataclass(frozen=True)
class ServerMark:
    """Which transactions were over, and in an exact mark how far each table was.

    All databases of a server share the transaction numbers, and a transaction that was rolled back
    uses some up; so only an exact mark tells that nothing was committed *here*.
    """

    token: str
    incarnation: str = ""
    oldest: int = field(default=0, compare=False)
    tables: dict[int, TableMark] | None = field(default=None, compare=False)


class ServerCommits:
    """See ``Commits``."""

    look_every_seconds = _LOOK_SECONDS

    def __init__(self, session: Session) -> None:
        self._session = session
        self._is_told = True

    def change_token(self) -> Hashable:
        """Differs after every commit of a transaction that wrote, in whatever database.

        Where the server does not tell, it differs every few seconds.
        """
        if self._is_told:
            try:
                return " ".join(self._asked_outside())
            except StatementFailed as error:
                if not isinstance(error.__cause__, psycopg.errors.UndefinedFunction):
                    raise
                self._is_told = False
                self.look_every_seconds = _UNTOLD_SECONDS
        return f"untold {time.monotonic() // _UNTOLD_SECONDS}"

    def _asked_outside(self) -> list[str]:
        """Which transactions are over, and which database of which start of the server this is."""
        outside = self._session.outside
        with translated(self._session.what):
            found = outside.ask(_TOKEN, (address_of(self._session.target).name,))
        self.look_every_seconds = _LOOK_SECONDS if outside.is_cheap else _LOOK_SELDOM_SECONDS
        return [part.decode() if part else "" for part in found[0]]

    def mark(self, *, exact: bool = False) -> CommitMark:
        """See ``Commits.mark``."""
        token = str(self.change_token())
        if not exact or not self._is_told:
            return ServerMark(token.partition(" ")[0] if self._is_told else token)
        tables = self._session.schema().schema.tables
        with translated(self._session.what), self._session.asking() as connection:
            return exact_mark(connection, tables)

    def moved_since(self, mark: CommitMark) -> bool:
        """See ``Commits.moved_since``."""
        if not self._is_told:
            return self.mark() != mark
        tables = self._session.schema().schema.tables
        with translated(self._session.what), self._session.asking() as connection:
            return moved(connection, tables, mark)


def exact_mark(connection: Connection, tables: Sequence[Table]) -> ServerMark:
    """How far each table is; within a transaction that is under way, as that one sees it."""
    is_alone = connection.info.transaction_status == psycopg.pq.TransactionStatus.IDLE
    with connection.transaction():
        if is_alone:
            connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        now = read_transactions(connection)
        marks = dict(_table_marks(connection, tables, now.oldest))
    return ServerMark(now.token, now.incarnation, now.oldest, marks)


def moved(connection: Connection, tables: Sequence[Table], since: CommitMark) -> bool:
    """Whether something was committed in a database since a mark."""
    assert isinstance(since, ServerMark), "marks are the engine's own"
    now = read_transactions(connection)
    if now.token == since.token and since.incarnation in ("", now.incarnation):
        return False
    if since.tables is None or since.incarnation != now.incarnation:
        return True
    return dict(_table_marks(connection, tables, since.oldest)) != since.tables


def _table_marks(
    connection: Connection, tables: Sequence[Table], oldest: int
) -> Iterator[tuple[int, TableMark]]:
    """How far tables are; the sums are over rows that came since a transaction number."""
    facts = read_facts(connection)
    marked = [table for table in tables if table.is_mirrored and number_of(table) in facts]

    def rows_and_sum(table: Table) -> str:
        return f"count(*), {_sum_of(facts[number_of(table)], oldest)}"

    for table, (rows, total) in aggregates(connection, marked, rows_and_sum):
        number = number_of(table)
        yield number, TableMark(facts[number], int(rows or 0), (total or b"").decode())


def _sum_of(facts: HeapFacts, oldest: int) -> str:
    if not facts.told_by_numbers:
        return "sum(hashtextextended((t.*)::text, 0)::numeric)"
    place = "t.tableoid::text || t.ctid::text || t.xmin::text"
    came = recent_since(oldest).replace("xmin", "t.xmin")
    return f"sum(hashtextextended({place}, 0)::numeric) FILTER (WHERE {came})"
