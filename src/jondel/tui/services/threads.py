"""Runs blocking database work in a thread of its own, so that it can be awaited and stopped."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import AsyncGenerator, Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Protocol, TypeVar

from jondel.core.errors import Cancelled, JondelError

T = TypeVar("T")


class Interruptible(Protocol):
    """What work can wait for: a database, an app's action."""

    def interrupt(self) -> None:
        """Have it end soon. Callable from any thread."""

    def resume(self) -> None:
        """Have it go on as before."""


class Job:
    """One piece of work, and what must be interrupted to stop it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._used: list[Interruptible] = []
        self._running = False
        self._stopped = False

    def uses(self, used: Interruptible) -> None:
        """Note what the work waits for from now on.

        Raises:
            Cancelled: the work was stopped before it came to this.
        """
        with self._lock:
            if self._stopped:
                raise Cancelled("stopped")
            self._used.append(used)

    def require_wanted(self) -> None:
        """Raise ``Cancelled`` where the work was stopped."""
        with self._lock:
            if self._stopped:
                raise Cancelled("stopped")

    def see_through(self) -> None:
        """The rest of the work is not stopped any more: what it is about has been done."""
        with self._lock:
            was_used, self._used = self._used, []
            for used in was_used:
                used.resume()

    def stop(self) -> None:
        """Interrupt the work if it is running; has no effect on any later work."""
        with self._lock:
            self._stopped = True
            if self._running:
                for used in self._used:
                    used.interrupt()

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


class WorkThread:
    """One thread in which work runs in the order it was asked for."""

    def __init__(self, name: str) -> None:
        self._executor = ThreadPoolExecutor(1, thread_name_prefix=name)
        self._current: set[Job] = set()

    async def run(self, work: Callable[[Job], T]) -> T:
        """Run work in the thread. Cancelling the awaiting task stops the work."""
        job = Job()
        self._current.add(job)
        try:
            return await asyncio.wrap_future(self._executor.submit(job.run, self._prepared(work)))
        except asyncio.CancelledError:
            job.stop()
            raise
        finally:
            self._current.discard(job)

    async def run_to_an_end(self, work: Callable[[Job], T]) -> T:
        """Run work that changes something. Cancelling the awaiting task stops it, but it is awaited
        all the same: it may have been done before it could be stopped."""
        job = Job()
        self._current.add(job)
        future = asyncio.wrap_future(self._executor.submit(job.run, self._prepared(work)))
        cancelled = False
        try:
            while True:
                try:
                    result = await asyncio.shield(future)
                except asyncio.CancelledError:
                    if future.cancelled() or (cancelled and future.done()):
                        raise
                    cancelled = True
                    job.stop()
                except Cancelled:
                    if cancelled:
                        raise asyncio.CancelledError from None
                    raise
                else:
                    task = asyncio.current_task()
                    if cancelled and task is not None:
                        task.uncancel()
                    return result
        finally:
            self._current.discard(job)

    def _prepared(self, work: Callable[[Job], T]) -> Callable[[Job], T]:
        """Work with what has to be done before it, in the thread."""
        return work

    async def stream(
        self, work: Callable[[Job, Callable[[T], None]], None]
    ) -> AsyncGenerator[T, None]:
        """Run work that hands on items while it goes; closing the generator stops it.

        ``work`` is given what to call with each item, and raises in the end if it failed.
        """
        loop = asyncio.get_running_loop()
        items: asyncio.Queue[tuple[T] | None] = asyncio.Queue()

        def send(item: T) -> None:
            loop.call_soon_threadsafe(items.put_nowait, (item,))

        task = asyncio.ensure_future(self.run(lambda job: work(job, send)))
        task.add_done_callback(lambda _: items.put_nowait(None))
        try:
            while (item := await items.get()) is not None:
                yield item[0]
            await task
        finally:
            if not task.done():
                task.cancel()
                with suppress(asyncio.CancelledError, JondelError):
                    await task

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
