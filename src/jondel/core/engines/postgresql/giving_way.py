"""Gives way to whoever waits for a lock that we hold: the app's migrations."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.outside import Outside
from jondel.core.errors import JondelError, TargetLocked

_LOOK_EVERY_SECONDS = 0.1
_WAITING = """
SELECT ours.state FROM pg_stat_activity ours WHERE ours.pid = {0} AND EXISTS (
    SELECT 1 FROM pg_stat_activity a
    WHERE a.wait_event_type = 'Lock' AND {0} = ANY(pg_blocking_pids(a.pid)) {1}
)
"""
_FOR_A_CHANGE_OF_A_TABLE = """
AND EXISTS (SELECT 1 FROM pg_locks l
    WHERE l.pid = a.pid AND NOT l.granted AND l.mode = 'AccessExclusiveLock')
"""


@contextmanager
def giving_way(
    connection: Connection, outside: Outside, what: str, *, writes: bool = False
) -> Iterator[None]:
    """Stop what a connection does in the block once somebody waits for it.

    Whoever takes less time than the first look does not notice. A connection that only keeps its
    locks, while nothing is asked of it, is closed. One that ``writes`` gives way to changes of
    tables alone, for which everybody else would have to wait, too.

    Raises:
        TargetLocked: it was stopped for that.
    """
    done, gave_way, acting = threading.Event(), threading.Event(), threading.Lock()
    pid = connection.info.backend_pid
    waiting = _WAITING.format(pid, _FOR_A_CHANGE_OF_A_TABLE if writes else "")

    def look() -> None:
        try:
            while not done.wait(_LOOK_EVERY_SECONDS):
                found = outside.ask(waiting)
                if not found:
                    continue
                with acting:  # what comes after the block is not to be stopped
                    if done.is_set():
                        return
                    # A statement is cancelled and ends at once; a transaction that is idle is not.
                    runs = found[0][0] == b"active" and not gave_way.is_set()
                    stop = "pg_cancel_backend" if runs else "pg_terminate_backend"
                    gave_way.set()
                    outside.ask(f"SELECT {stop}({pid})")
        except (JondelError, psycopg.Error):
            return  # then nobody looks; what is done goes on

    looking = threading.Thread(target=look, name="giving-way", daemon=True)
    looking.start()
    try:
        yield
    except BaseException as error:
        if gave_way.is_set():
            raise TargetLocked(
                f"{what}: another session waits to change a table; "
                f"{'nothing was written' if writes else 'reading gave way'}, try again"
            ) from error
        raise
    finally:
        with acting:
            done.set()
