"""Has everything that is read of a live database read of one committed state, without a lock.

A piece of work is run on the latest state and counts if that state still held afterwards; else it
is run again. Work that takes too long for a database that is written all the time is run on a copy
of a state. What was read of no one state is never handed on, nor are errors that came of it.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Generator, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TypeVar

import apsw

from jondel.core.engines.sqlite.committed_state import CommittedState, LiveFiles
from jondel.core.engines.sqlite.file_names import has_unknown_names
from jondel.core.engines.sqlite.page_vfs import LivePages, ServedState
from jondel.core.engines.sqlite.state_wait import PATIENCE_SECONDS, wait_for_state
from jondel.core.errors import Cancelled, TargetBusy

T = TypeVar("T")
_TRIED_ANEW_SECONDS = 0.25
"""Work that did not succeed within this time is done on a copy."""
_SCHEMA_COOKIE = slice(40, 44)
_HEADER_BYTES = 100


class LiveReader:
    """The states of one live database, as its one connection reads them. For one thread."""

    def __init__(self, path: Path, stop: threading.Event, *, lock: bool = False) -> None:
        """``stop`` ends all waiting; ``lock`` allows a reader's lock where nothing else helps."""
        self.pages = LivePages()
        self.lock = lock
        self.epoch = 0
        """Changes when the connection must be opened anew: the file is another one."""
        self._files = LiveFiles(path)
        self._path = path
        self._stop = stop
        self._depth = 0
        self._identity = (0, 0)
        self._schema_mark = (b"", 0)

    @property
    def working(self) -> bool:
        """Whether work is going on, of which it is not known yet whether its state held."""
        return self._depth > 0

    @property
    def stop(self) -> threading.Event:
        """Ends all waiting once it is set."""
        return self._stop

    @property
    def files(self) -> LiveFiles:
        return self._files

    @property
    def notice(self) -> str:
        """What a person should know about how the file is reached; mostly empty."""
        names = self._files.companions
        if not names.own:
            return f"read together with the log of its other name, {names.name.name}"
        state = self.pages.state
        if state is None or not state.in_wal_mode or names.present:
            return ""
        if has_unknown_names(self._path):
            return (
                "it has other names (hard links) in other folders; what an app writes under one of "
                "those is seen here only after a checkpoint"
            )
        return ""

    def steadily(self, work: Callable[[], T]) -> T:
        """Run work on one committed state.

        Raises:
            TargetLocked, TargetBusy: no state could be read in time.
            Cancelled: that was asked for meanwhile.
            OSError: the file cannot be read.
        """
        if self._depth:
            result = work()
            if not self._held():
                raise self._moved_on()
            return result
        started = time.monotonic()
        while True:
            try:
                self._begin(started + PATIENCE_SECONDS)
            except TargetBusy:
                if self.lock:
                    break
                raise
            try:
                with self._inside():
                    result = work()
            except (Cancelled, apsw.InterruptError, AssertionError):
                raise
            except Exception:
                if self._held():
                    raise
            else:
                if self._held():
                    return result
            self._distrust_connection()
            if time.monotonic() - started > _TRIED_ANEW_SECONDS:
                break
        with self._private_copy(), self._inside():
            return work()

    def stream(
        self, work: Callable[[], Generator[T, None, None]], *, repeatable: bool
    ) -> Iterator[T]:
        """Run work that yields on one committed state; each item is checked before it is handed on.

        Where the state is lost on the way, ``repeatable`` work goes on with a copy of a later one,
        leaving out what was yielded before; its items are hashable.

        Raises:
            TargetBusy: it is not repeatable, and something was yielded already.
        """
        if self._depth:
            with closing(work()) as items:
                for item in items:
                    if not self._held():
                        raise self._moved_on()
                    yield item
            return
        self._begin(time.monotonic() + PATIENCE_SECONDS)
        begun, yielded = False, set[T]()
        try:
            with self._inside(), closing(work()) as items:
                for item in items:
                    if not self._held():
                        raise _Lost
                    begun = True
                    if repeatable:
                        yielded.add(item)
                    yield item
                return
        except (Cancelled, apsw.InterruptError, AssertionError, GeneratorExit):
            raise
        except Exception as error:
            if not isinstance(error, _Lost) and self._held():
                raise
        self._distrust_connection()
        if begun and not repeatable:
            raise self._moved_on()
        with self._private_copy(), self._inside(), closing(work()) as items:
            for item in items:
                if item not in yielded:
                    yield item

    def close(self) -> None:
        self._files.close()

    def _begin(self, deadline: float) -> None:
        """Turn to the latest state."""
        state = wait_for_state(self._files, self._stop, deadline)
        if not isinstance(self.pages.state, CommittedState) or not state.same_as(self.pages.state):
            self._turn_to(state, state.times[:2])

    def _turn_to(self, state: ServedState, identity: tuple[int, int]) -> None:
        self.pages.turn_to(state)
        first = state.read(0) if state.page_count else b""
        # SQLite reads its schema anew where a number in the first page differs; a file that was
        # copied over another can have the same number and another schema.
        mark = (first[_SCHEMA_COOKIE], hash(first[_HEADER_BYTES:]))
        replaced = identity != self._identity
        if replaced or (mark[0] == self._schema_mark[0] and mark[1] != self._schema_mark[1]):
            self.epoch += 1
        self._identity, self._schema_mark = identity, mark

    def _held(self) -> bool:
        state = self.pages.state
        return not isinstance(state, CommittedState) or state.held()

    def _distrust_connection(self) -> None:
        """Have the connection opened anew: it may have read its schema while nothing held.

        SQLite reads the schema again only where its number differs, and that may be the right one
        beside pages of another state.
        """
        self.epoch += 1

    def _moved_on(self) -> TargetBusy:
        return TargetBusy(f"{self._path}: the app has written to it meanwhile; try again")

    @contextmanager
    def _inside(self) -> Iterator[None]:
        self._depth += 1
        try:
            yield
        finally:
            self._depth -= 1

    @contextmanager
    def _private_copy(self) -> Iterator[None]:
        """Serve a copy of the latest state while the block runs."""
        from jondel.core.engines.sqlite.capture import capture_pages  # not needed to look
        from jondel.core.engines.sqlite.private_copy import PrivateCopy

        with closing(PrivateCopy()) as copy:
            capture_pages(self._path, copy, self._stop, lock=self.lock)
            info = self._path.stat()
            self._turn_to(copy, (info.st_dev, info.st_ino))
            try:
                yield
            finally:
                self.pages.state = None


class _Lost(Exception):
    """The state that was being read is there no more."""
