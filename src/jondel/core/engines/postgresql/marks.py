"""How far a database is, and whether something was committed since."""

from __future__ import annotations

import time
from collections.abc import Hashable, Sequence
from dataclasses import dataclass, field

import psycopg

from jondel.core.engines.postgresql.connection import Connection, translated
from jondel.core.engines.postgresql.heap_facts import (
    HeapFacts,
    count_rows,
    number_of,
    read_facts,
    read_transactions,
)
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.protocol import CommitMark
from jondel.core.errors import StatementFailed
from jondel.core.model.schema import Table

_UNTOLD_SECONDS = 5.0


@dataclass(frozen=True)
class ServerMark:
    """Which transactions were over. The server's databases have them in common, so what was
    committed in another one makes a difference; ``tables`` tell that apart, where they were
    counted."""

    token: str
    oldest: int = field(default=0, compare=False)
    tables: dict[int, tuple[HeapFacts, int]] | None = field(default=None, compare=False)


class ServerCommits:
    """See ``Commits``."""

    look_every_seconds = 0.25

    def __init__(self, session: Session) -> None:
        self._session = session
        self._is_told = True

    def change_token(self) -> Hashable:
        """Differs after every commit of a transaction that wrote, in whatever database.

        Where the server does not tell, it differs every few seconds.
        """
        if self._is_told:
            try:
                found: bytes = self._session.ask(Asked("SELECT pg_current_snapshot()::text"))[0][0]
                return found.decode()
            except StatementFailed as error:
                if not isinstance(error.__cause__, psycopg.errors.UndefinedFunction):
                    raise
                self._is_told = False
                self.look_every_seconds = _UNTOLD_SECONDS
        return f"untold {time.monotonic() // _UNTOLD_SECONDS}"

    def mark(self, *, exact: bool = False) -> CommitMark:
        """See ``Commits.mark``."""
        if not exact:
            return ServerMark(str(self.change_token()))
        schema = self._session.schema().schema
        connection = self._session.connection()
        tables = [table for table in schema.tables if table.is_mirrored]
        with translated(self._session.what), connection.transaction():
            connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            snapshot = read_transactions(connection)
            facts = read_facts(connection)
            counted = count_rows(connection, tables, None)
            rows = {number_of(table): count.rows for table, count in counted}
        known = {number: (facts[number], count) for number, count in rows.items()}
        return ServerMark(snapshot.token, snapshot.oldest, known)


def moved(connection: Connection, tables: Sequence[Table], since: CommitMark) -> bool:
    """Whether something was committed in a database since a mark; no table is written to now."""
    assert isinstance(since, ServerMark), "marks are the engine's own"
    if read_transactions(connection).token == since.token:
        return False
    if since.tables is None:
        return True
    facts = read_facts(connection)
    for table in tables:
        if since.tables.get(number_of(table), (None,))[0] != facts[number_of(table)]:
            return True
        if not facts[number_of(table)].told_by_numbers:
            return True
    return any(
        count.came or count.rows != since.tables[number_of(table)][1]
        for table, count in count_rows(connection, tables, since.oldest)
    )
