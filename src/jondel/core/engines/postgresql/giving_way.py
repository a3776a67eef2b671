"""Gives way to whoever waits for a lock that our reading holds: the app's migrations."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg

from jondel.core.engines.postgresql.connection import Connection, connect
from jondel.core.errors import JondelError, TargetLocked

_LOOK_EVERY_SECONDS = 0.4
_WAITING = """
SELECT EXISTS (
    SELECT 1 FROM pg_stat_activity
    WHERE wait_event_type = 'Lock' AND %s::int = ANY(pg_blocking_pids(pid))
)
"""


@contextmanager
def giving_way(connection: Connection, target: str, what: str) -> Iterator[None]:
    """Have what a connection runs in the block be cancelled once somebody waits for it.

    Whoever takes less time than the first look does not notice.

    Raises:
        TargetLocked: it was cancelled for that.
    """
    done, gave_way = threading.Event(), threading.Event()
    pid = connection.info.backend_pid

    def look() -> None:
        if done.wait(_LOOK_EVERY_SECONDS):
            return
        try:
            with connect(target, what) as other:
                while not done.wait(_LOOK_EVERY_SECONDS):
                    found = other.execute(_WAITING, (str(pid),)).fetchone()
                    if found is not None and found[0] == b"t":
                        gave_way.set()
                        connection.cancel_safe(timeout=2)
        except (JondelError, psycopg.Error):
            return  # then nobody looks; what is read goes on

    looking = threading.Thread(target=look, name="giving-way", daemon=True)
    looking.start()
    try:
        yield
    except BaseException as error:
        if gave_way.is_set():
            raise TargetLocked(
                f"{what}: another session waits to change a table; reading gave way, try again"
            ) from error
        raise
    finally:
        done.set()
