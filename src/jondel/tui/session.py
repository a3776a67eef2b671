"""Runs blocking database work in a thread of its own, so that it can be awaited and stopped."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import TypeVar

from jondel.core.engines.protocol import Database
from jondel.core.errors import JondelError

T = TypeVar("T")


class Job:
    """One piece of work, and the databases that must be interrupted to stop it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._databases: list[Database] = []
        self._running = False
        self._stopped = False

    def uses(self, database: Database) -> None:
        """Note a database that the work reads from now on."""
        with self._lock:
            self._databases.append(database)

    def stop(self) -> None:
        """Interrupt the work if it is running; has no effect on any later work."""
        with self._lock:
            self._stopped = True
            if self._running:
                for database in self._databases:
                    database.interrupt()

    def run(self, work: Callable[[Job], T]) -> T:
        with self._lock:
            if self._stopped:
                raise asyncio.CancelledError
            self._running = True
        try:
            return work(self)
        finally:
            with self._lock:
                self._running = False


class Session:
    """One thread in which work runs in the order it was asked for."""

    def __init__(self, name: str) -> None:
        self._executor = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._current: set[Job] = set()

    async def run(self, work: Callable[[Job], T]) -> T:
        """Run work in the session's thread. Cancelling the awaiting task stops the work."""
        job = Job()
        self._current.add(job)
        try:
            return await asyncio.wrap_future(self._executor.submit(job.run, work))
        except asyncio.CancelledError:
            job.stop()
            raise
        finally:
            self._current.discard(job)

    def close(self, last: Callable[[], None] | None = None) -> None:
        """Stop what runs and what waits, then run ``last`` in the thread and end it."""
        for job in list(self._current):
            job.stop()

        def end() -> None:
            with suppress(JondelError):
                if last:
                    last()

        self._executor.submit(end)
        self._executor.shutdown(wait=False)
