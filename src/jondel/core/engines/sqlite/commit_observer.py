"""Observes the transactions that an app commits to a SQLite file, without any lock.

* **With a log** each commit ends with a frame that says so. The log is followed while the app
  writes, by a descriptor that is kept: an app that closes the database takes the log's name away,
  not what it holds. What was followed counts only if it leads from the state before to the state
  after, page for page; a log that began anew between two looks can have taken frames along.
* **In the rollback modes** the file's header counts the transactions. An app in exclusive locking
  mode counts but the first one, so that a count of one proves nothing there.
"""

from __future__ import annotations

import os
import struct
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from jondel.core.engines.pages import PageSource
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.descriptors import PlainFile
from jondel.core.engines.sqlite.file_names import companions_of
from jondel.core.engines.sqlite.overlay import OverlayPages
from jondel.core.engines.sqlite.wal import (
    FRAME_HEADER_BYTES,
    HEADER_BYTES,
    LogMark,
    frames_before_restart,
    read_log,
)
from jondel.core.model.changes import Changes
from jondel.core.model.transactions import Transactions

_LOOK_SECONDS = 0.0005
_LOOK_FOR_LOG_SECONDS = 0.0002
"""An app that opens the database, writes and closes it has a log for a few milliseconds."""
_IN_MEMORY_BYTES = 32 << 20
_MOST_BYTES = 1 << 30
"""Of more than that the transactions are counted and not kept."""
_CHANGE_COUNTER = slice(24, 28)
_WRITE_VERSION = 18
_WAL_FORMAT = 2

Commit = dict[int, int]
"""A committed transaction: its pages from 1, and where in the kept bytes each begins."""


class CommitObserver:
    """Observes a database file again and again; what it has seen of the log is not read anew."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._seen: LogMark | None = None

    @contextmanager
    def observed(self) -> Iterator[CommitObservation]:
        """Follow the log as long as the block runs."""
        observation = CommitObservation(self._path, self._seen)
        try:
            yield observation
        finally:
            observation.close()
            self._seen = observation.mark


class CommitObservation:
    """See ``Observation``; the log is followed in a thread of its own."""

    def __init__(self, path: Path, seen: LogMark | None = None) -> None:
        """``seen`` is a place in the log up to which it is known, if it is that log still."""
        self._path = path
        self._log = companions_of(path).wal
        self._file: PlainFile | None = None
        self._mark = seen
        self._commits: list[tuple[Commit, int]] = []
        self._page_size = 0
        self._kept: IO[bytes] = tempfile.SpooledTemporaryFile(  # noqa: SIM115
            _IN_MEMORY_BYTES, prefix="jondel-"
        )
        self._end = 0
        self._lost = False
        self._stop = threading.Event()
        self._resting = threading.Event()
        self._lock = threading.Lock()
        self._look(beginning=True)
        self._thread = threading.Thread(target=self._follow, daemon=True, name="log")
        self._thread.start()

    @property
    def mark(self) -> LogMark | None:
        """How far the log was followed."""
        return self._mark

    def rest(self) -> None:
        """See ``Observation``."""
        self._resting.set()

    def pause(self) -> None:
        """See ``Observation``."""
        if not self._stop.is_set():
            self._look()
            self._stop.set()

    def told(self, before: Database, after: Database, changes: Changes) -> Transactions:
        """See ``Observation``; both are images of this file."""
        one, other = getattr(before, "pages", None), getattr(after, "pages", None)
        if one is None or other is None or not one.page_count:
            return Transactions(None, why="there was no database before")
        if not self._stop.is_set():
            self._look()
        if not self._in_log(one, other):
            return self._by_counter(one, other)
        with self._lock:
            commits = list(self._commits)
        if not commits:
            why = "its log came and went unseen"
            return Transactions(0 if one.hashes == other.hashes else None, why=why)
        exact = not self._lost and self._leads_to(one, other, commits)
        return Transactions(len(commits), exact)

    def states(self, before: Database) -> Iterator[PageSource]:
        """See ``Observation``: each is valid until the next is asked for."""
        below = getattr(before, "pages", None)
        if below is None or self._lost:
            return
        overlay = OverlayPages(below)
        try:
            for commit, pages in self._commits[:-1]:
                self._put(overlay, commit, pages)
                yield overlay
        finally:
            overlay.close()

    def close(self) -> None:
        """Follow it no longer, and let go of what was kept."""
        self._stop.set()
        self._thread.join()
        if self._file is not None:
            self._file.close()
            self._file = None
        self._kept.close()

    def _follow(self) -> None:
        while not (self._stop.is_set() or self._resting.is_set()):
            time.sleep(_LOOK_SECONDS if self._file is not None else _LOOK_FOR_LOG_SECONDS)
            self._look()

    def _look(self, *, beginning: bool = False) -> None:
        """Take in what was committed since the last look."""
        with self._lock, suppress(OSError):
            if self._file is None:
                self._open()
            elif self._replaced():
                self._read(beginning=False)  # what its app wrote before it let go of it
                self._file.close()
                self._file, self._mark = None, None
                self._open()
            self._read(beginning=beginning)

    def _open(self) -> None:
        try:
            self._file = PlainFile(self._log)
        except FileNotFoundError:
            self._log = companions_of(self._path).wal  # by another name of the file, perhaps

    def _replaced(self) -> bool:
        assert self._file is not None
        try:
            there = os.stat(self._log)
        except FileNotFoundError:
            return True
        return not os.path.samestat(there, os.fstat(self._file.descriptor))

    def _read(self, *, beginning: bool) -> None:
        before = self._mark
        log = None if self._file is None else read_log(self._file, before)
        if self._file is None or log is None:
            self._mark = None if beginning else before
            return
        if not beginning and log.start != before:
            # A log that is new has begun once; one that began anew may have had more in it.
            if before is None:
                self._lost |= bool(_times_begun_anew(self._file))
            else:
                self._lost |= frames_before_restart(self._file, before) != {}
        if beginning:
            self._mark, self._page_size = log.end, log.page_size
            return
        self._page_size = log.page_size
        if log.end.frames > log.start.frames:
            self._take(self._file, log.start.frames, log.end.frames, log.page_size)
        self._mark = log.end

    def _take(self, file: PlainFile, first: int, end: int, page_size: int) -> None:
        """Part committed frames into transactions."""
        size = FRAME_HEADER_BYTES + page_size
        commit: Commit = {}
        for number in range(first, end):
            frame = file.read(HEADER_BYTES + number * size, size)
            if len(frame) < size:
                self._lost = True
                return
            page, pages = struct.unpack_from(">2I", frame)
            if self._end < _MOST_BYTES:
                self._kept.seek(self._end)
                self._kept.write(frame[FRAME_HEADER_BYTES:])
                commit[page] = self._end
                self._end += page_size
            else:
                self._lost = True
            if pages:
                self._commits.append((commit, pages))
                commit = {}

    def _put(self, overlay: OverlayPages, commit: Commit, pages: int) -> None:
        with self._lock:
            for page, place in commit.items():
                self._kept.seek(place)
                overlay.write(page - 1, self._kept.read(self._page_size))
        overlay.cut(pages)

    def _leads_to(
        self, before: PageSource, after: PageSource, commits: list[tuple[Commit, int]]
    ) -> bool:
        """Whether what was followed leads from the one state to the other."""
        if before.page_size != self._page_size or after.page_size != self._page_size:
            return False
        overlay = OverlayPages(before)
        try:
            for commit, pages in commits:
                self._put(overlay, commit, pages)
            return overlay.page_count == after.page_count and overlay.hashes == after.hashes
        finally:
            overlay.close()

    def _in_log(self, before: PageSource, after: PageSource) -> bool:
        return bool(self._commits) or all(
            state.page_count and state.read(0)[_WRITE_VERSION] == _WAL_FORMAT
            for state in (before, after)
        )

    def _by_counter(self, before: PageSource, after: PageSource) -> Transactions:
        if not after.page_count:
            return Transactions(None, why="there is no database any more")
        counts = [int.from_bytes(state.read(0)[_CHANGE_COUNTER]) for state in (before, after)]
        count = (counts[1] - counts[0]) % (1 << 32)
        if before.hashes == after.hashes:
            return Transactions(count)
        if not count:
            return Transactions(None, why="the app does not count what it writes")
        return Transactions(count)


def _times_begun_anew(file: PlainFile) -> int:
    """How often a log was begun anew, by its header."""
    return int.from_bytes(file.read(0, HEADER_BYTES)[12:16])
