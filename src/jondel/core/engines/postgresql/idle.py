"""Closes connections that nobody has asked anything for a while.

An open one keeps others from dropping the database, or making a copy of it.
"""

from __future__ import annotations

import threading
import time
import weakref
from collections.abc import Callable
from contextlib import suppress

import psycopg
from psycopg.pq import TransactionStatus

from jondel.core.engines.postgresql.connection import Connection

IDLE_SECONDS = 0.6
_LOOK_EVERY_SECONDS = 0.2


class _Watched:
    """A connection that is closed once it is idle."""

    def __init__(
        self, connection: Connection, lock: threading.Lock, in_use: Callable[[], bool]
    ) -> None:
        self.connection = weakref.ref(connection)
        self._lock, self._in_use = lock, in_use

    def is_over(self) -> bool:
        """Close it if it is time to; whether it is closed."""
        connection = self.connection()
        if connection is None or connection.closed:
            return True
        if time.monotonic() - connection.used_at < IDLE_SECONDS:
            return False
        if not self._lock.acquire(blocking=False):
            return False
        try:
            if self._in_use() or connection.info.transaction_status != TransactionStatus.IDLE:
                return False
            with suppress(psycopg.Error):
                connection.close()
            return True
        finally:
            self._lock.release()


_watched: list[_Watched] = []
_guard = threading.Lock()
_watching = False


def close_when_idle(
    connection: Connection, lock: threading.Lock, in_use: Callable[[], bool]
) -> None:
    """Close a connection once it has been idle for a while, and is not in use.

    Whoever starts to use it holds the lock as they do, and looks then whether it is closed.
    """
    global _watching
    with _guard:
        _watched.append(_Watched(connection, lock, in_use))
        if not _watching:
            _watching = True
            threading.Thread(target=_watch, name="idle-connections", daemon=True).start()


def _watch() -> None:
    global _watching
    while True:
        time.sleep(_LOOK_EVERY_SECONDS)
        with _guard:
            watched = list(_watched)
        over = [one for one in watched if one.is_over()]
        with _guard:
            for one in over:
                _watched.remove(one)
            if not _watched:
                _watching = False
                return
