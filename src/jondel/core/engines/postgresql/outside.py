"""Questions about a whole server, asked from outside the database that they concern."""

from __future__ import annotations

import threading
from contextlib import suppress
from typing import Any

import psycopg

from jondel.core.engines.postgresql.connection import Connection, connect
from jondel.core.engines.postgresql.idle import close_when_idle
from jondel.core.errors import JondelError

_DATABASE = "postgres"


class Outside:
    """A connection to the server's maintenance database.

    A session in a database keeps others from dropping it or making a copy of it; one out here does
    not. Where the maintenance database is closed to the user, each question connects to the
    database itself, and lets go at once. Any thread may ask.
    """

    def __init__(self, target: str, what: str) -> None:
        """``what`` names the database in messages."""
        self._target, self._what = target, what
        self._lock = threading.Lock()
        self._connection: Connection | None = None
        self._is_shut_out = False
        self._is_closed = False

    @property
    def is_cheap(self) -> bool:
        """Whether asking does not take a connection each time."""
        return not self._is_shut_out

    def ask(self, sql: str, values: tuple[str, ...] = ()) -> list[tuple[Any, ...]]:
        """Run a statement that reads.

        Raises:
            TargetError: the server cannot be reached.
            psycopg.Error: it could not be run.
        """
        with self._lock:
            try:
                connection = self._connection
                if connection is not None and not connection.closed:
                    with suppress(psycopg.OperationalError):  # lost meanwhile
                        return connection.execute(sql, values).fetchall()
                return self._connected().execute(sql, values).fetchall()
            finally:
                if self._is_shut_out or self._is_closed:
                    self._let_go()

    def _connected(self) -> Connection:
        if not self._is_shut_out:
            with suppress(JondelError):
                self._connection = connect(self._target, self._what, database=_DATABASE)
                close_when_idle(self._connection, self._lock, lambda: False)
                return self._connection
            # Shut out, or there is no server any more, which the next line tells.
        self._connection = connect(self._target, self._what)
        self._is_shut_out = True
        return self._connection

    def _let_go(self) -> None:
        if self._connection is not None:
            self._connection.close()

    def close(self) -> None:
        """Let go; asking again connects again, for that question."""
        self._is_closed = True
        # A connection that another thread uses must not be closed here: that thread does so.
        if self._lock.acquire(blocking=False):
            try:
                self._let_go()
            finally:
                self._lock.release()
