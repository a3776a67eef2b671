"""Captures a SQLite database page by page, consistent while an app writes it and without a lock.

What makes a state that was read a committed one is said in ``committed_state``. A log that only
grew since the capture before names the pages that can differ, and only they are read.

Of a database with a log that is written all the time, the file cannot be read whole before a
checkpoint writes into it. So the log is followed meanwhile: a checkpoint writes nothing but pages
that are in the log, and these are read again at the end. In the rollback journal modes nothing
tells what was written, so there the app has to pause for as long as reading takes.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import apsw

from jondel.core.engines.pages import Origin, PageSink
from jondel.core.engines.sqlite.committed_state import (
    CommittedState,
    LiveFiles,
    extent,
)
from jondel.core.engines.sqlite.descriptors import writing
from jondel.core.engines.sqlite.state_wait import (
    PATIENCE_SECONDS,
    check_stop,
    no_state,
    wait_for_state,
)
from jondel.core.engines.sqlite.wal import (
    LogMark,
    frames_before_restart,
    holds,
    read_log,
)
from jondel.core.errors import DatabaseDamaged, TargetLocked

_BYTES_AT_ONCE = 1 << 20
_READ_FIRST_BYTES = 16 << 20
"""A database up to this size is read whole before anything else is done with it."""
_MOST_ROUNDS = 50


class FilesToGoOnWith:
    """The files that a capture has read, for the next one that begins where it did: what is known
    of their log need not be read again."""

    def __init__(self) -> None:
        self._files: list[LiveFiles] = []
        self._lock = threading.Lock()

    def taken(self, path: Path, mark: LogMark | None) -> LiveFiles:
        """Files to read, which nobody else does."""
        with self._lock:
            files = self._files.pop() if self._files else None
        if files is not None and files.wanted_from == mark:
            return files
        if files is not None:
            files.close()
        return LiveFiles(path, mark)

    def put(self, files: LiveFiles) -> None:
        """Keep files, if none are kept already."""
        with self._lock:
            if not self._files:
                self._files.append(files)
                return
        files.close()

    def close(self) -> None:
        """Let go of what is kept."""
        with self._lock:
            kept, self._files = self._files, []
        for files in kept:
            files.close()


def capture_pages(
    path: Path,
    sink: PageSink,
    stop: threading.Event,
    *,
    lock: bool = False,
    go_on_with: FilesToGoOnWith | None = None,
) -> None:
    """Put the database's pages into the sink; ``lock`` takes a reader's lock where it must.

    Raises:
        Cancelled: ``stop`` was set.
        TargetLocked: another process holds it so that its committed state cannot be read.
        TargetBusy: it is written without a pause.
        OSError, DatabaseDamaged: it could not be read.
    """
    kept = go_on_with or FilesToGoOnWith()
    try:
        _captured(path, sink, stop, kept)
    except TargetLocked:
        if not lock:
            raise
        with reading_lock(path):
            _captured(path, sink, stop, kept)
    finally:
        if go_on_with is None:
            kept.close()


@contextmanager
def reading_lock(path: Path) -> Iterator[None]:
    """Hold a reader's lock of SQLite's while the block runs, for which writers have to wait.

    Raises:
        apsw.BusyError: another process does not let go of the file in time.
    """
    with (
        writing(),
        closing(apsw.Connection(str(path), flags=apsw.SQLITE_OPEN_READONLY)) as connection,
    ):
        connection.set_busy_timeout(int(PATIENCE_SECONDS * 1000))
        connection.execute("BEGIN")
        connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        yield


def _captured(path: Path, sink: PageSink, stop: threading.Event, kept: FilesToGoOnWith) -> None:
    deadline = time.monotonic() + PATIENCE_SECONDS
    mark = _mark_of(sink.known or {})
    while True:
        files = kept.taken(path, mark)
        is_read = False
        try:
            state = wait_for_state(files, stop, deadline)
            is_read = _Capture(path, state, sink, stop).run()
        finally:
            if is_read:
                kept.put(files)
            else:
                files.close()
        if is_read:
            return
        mark = None
        check_stop(stop)
        if time.monotonic() >= deadline:
            raise no_state(path)


class _Capture:
    """One attempt to put a state into the sink."""

    def __init__(
        self, path: Path, state: CommittedState, sink: PageSink, stop: threading.Event
    ) -> None:
        self._path = path
        self._state = state
        self._sink = sink
        self._stop = stop
        self._known = sink.known or {}

    def run(self) -> bool:
        """Whether what was put is one committed state."""
        state, log = self._state, self._state.log
        mark = _mark_of(self._known)
        if log is None:
            return self._from_file(unchanged=mark is None and self._file_is_as_known())
        same_file = self._known.get("times", [])[:2] == list(state.times[:2])
        grown = same_file and mark is not None and mark == log.start
        # Without frames before, what is in the log now is all that came after; if the file itself
        # was not written meanwhile, no earlier log went into it.
        appeared = mark is None and not log.start.frames and self._file_is_as_known()
        if grown or appeared:
            self._sink.begin(state.page_size, state.page_count, partial=True)
            put_pages(self._sink, state, log.offsets, self._stop)
            if not state.log_holds():
                return False
            self._sink.end(self._origin(log.end))
            return True
        if log.start.frames:
            return False  # only a part of the log was read, and all of it is needed
        end = _Following(self._path, state, self._sink, self._stop).run()
        if end is None:
            return False
        self._sink.end(self._origin(end))
        return True

    def _from_file(self, *, unchanged: bool) -> bool:
        """Put a state that no log has a part of."""
        state = self._state
        self._sink.begin(state.page_size, state.page_count, partial=unchanged)
        if not (unchanged or self._put_everything()) or not state.held():
            return False
        self._sink.end(self._origin(None))
        return True

    def _put_everything(self) -> bool:
        """Put all pages; False where it is known already that they are of no one state."""
        state = self._state
        runs = _runs(state.page_count, state.page_size)
        if state.page_count * state.page_size <= _READ_FIRST_BYTES:
            # The sooner all is read, the less can be written meanwhile.
            read = [state.read_run(first, count) for first, count in runs]
            if not state.held():
                return False
            for (first, count), data in zip(runs, read, strict=True):
                self._put_run(first, count, data)
            return True
        for first, count in runs:
            check_stop(self._stop)
            data = state.read_run(first, count)
            if not state.held():
                return False
            self._put_run(first, count, data)
        return True

    def _put_run(self, first: int, count: int, data: bytes | bytearray) -> None:
        if len(data) < count * self._state.page_size:
            raise DatabaseDamaged(_cut_short(self._path, self._state))
        self._sink.put(range(first, first + count), data)

    def _origin(self, log_end: LogMark | None) -> Origin:
        state = self._state
        origin: Origin = {
            "times": list(state.times),
            "settled": state.proven and not state.from_journal,
            "header": state.header.hex(),
        }
        if log_end is not None and log_end.frames:
            origin["log"] = [*log_end.salts, log_end.frames, *log_end.sums, log_end.pages]
        return origin

    def _file_is_as_known(self) -> bool:
        """Whether the file, without its log, was not written since the capture before."""
        known, state = self._known, self._state
        as_known = bool(known.get("settled")) and known.get("times") == list(state.times)
        return as_known and not state.from_journal


class _Following:
    """Reads a whole file while its log, and checkpoints of it, go on.

    What was read from the file since the log was looked at last may be of a later state, if it is
    in frames that came meanwhile; then it is in the log, and is put again from there. So in the end
    every page is as it was at one commit.
    """

    def __init__(
        self, path: Path, state: CommittedState, sink: PageSink, stop: threading.Event
    ) -> None:
        assert state.log is not None
        self._path = path
        self._state = state
        self._sink = sink
        self._stop = stop
        self._wal = state.log.file
        self._end = state.log.end
        self._offsets = dict(state.log.offsets)
        self._began_anew = False

    def run(self) -> LogMark | None:
        """Put everything; returns the end of the log it is of, or None where that failed."""
        state, size = self._state, self._state.page_size
        pages = state.page_count
        self._sink.begin(size, pages, partial=False)
        in_file = min(pages, state.times.size // size)
        pending = {*self._offsets, *range(in_file + 1, pages + 1)}
        for first, count in _runs(in_file, size):
            check_stop(self._stop)
            data = state.read_file(first, count)
            whole = len(data) // size
            if whole:
                self._sink.put(range(first, first + whole), data[: whole * size])
            # A checkpoint may have shortened the file; what is needed of that is in the log.
            pending.update(range(first + whole + 1, first + count + 1))
            later = self._look()
            if later is None:
                return None
            pending |= later
        for _ in range(_MOST_ROUNDS):
            check_stop(self._stop)
            end = self._end
            wanted = end.pages or extent(state.read_file(0, 1), state.current_size())[1]
            if wanted != pages:
                pending.update(range(pages + 1, wanted + 1))
                self._sink.resize(wanted)
                pages = wanted
            from_file = self._put(sorted(page for page in pending if page <= pages))
            if from_file is None:
                return None
            later = self._look()
            if later is None:
                return None
            if not self._began_anew and not later & from_file:
                return end
            pending = later
        return None

    def _put(self, pages: list[int]) -> set[int] | None:
        """Put pages as the log has them now, else the file; returns those read from the file.

        None where one is in neither, and the log has changed meanwhile.
        """
        size, from_file = self._state.page_size, set()
        at_once = max(1, _BYTES_AT_ONCE // size)
        for start in range(0, len(pages), at_once):
            part = pages[start : start + at_once]
            found = []
            for page in part:
                offset = self._offsets.get(page)
                if offset is not None:
                    data = self._wal.read(offset, size)
                else:
                    data = self._state.read_file(page - 1, 1)
                    from_file.add(page)
                if len(data) < size:
                    if self._look() != set() or self._began_anew:
                        return None
                    raise DatabaseDamaged(_cut_short(self._path, self._state))
                found.append(data)
            self._sink.put([page - 1 for page in part], b"".join(found))
        return from_file

    def _look(self) -> set[int] | None:
        """Read on in the log: the pages in new frames, or None where some may have been missed."""
        if not self._state.is_in_place():
            return None
        found = read_log(self._wal, self._end)
        if found is None:
            return None
        self._began_anew = found.start != self._end
        if not self._began_anew:
            self._offsets.update(found.offsets)
            later = set(found.offsets)
        else:
            # All of the old log is in the file now, and what the new one holds counts.
            rest = frames_before_restart(self._wal, self._end)
            if rest is None or not holds(self._wal, found.page_size, found.end):
                return None
            later = {*rest, *self._offsets, *found.offsets}
            self._offsets = dict(found.offsets)
        self._end = found.end
        return later


def put_pages(
    sink: PageSink, state: CommittedState, numbers: Iterable[int], stop: threading.Event
) -> None:
    """Put some pages of a state, by their numbers from 1, in order."""
    size = state.page_size
    wanted = sorted(number for number in numbers if number <= state.page_count)
    at_once = max(1, _BYTES_AT_ONCE // size)
    for start in range(0, len(wanted), at_once):
        check_stop(stop)
        part = wanted[start : start + at_once]
        data = b"".join([state.read(number - 1) for number in part])
        sink.put([number - 1 for number in part], data)


def _cut_short(path: Path, state: CommittedState) -> str:
    return (
        f"{path}: the file is cut short ({state.times.size} bytes instead of "
        f"{state.page_count * state.page_size}); restore it from a good copy"
    )


def _runs(pages: int, size: int) -> list[tuple[int, int]]:
    at_once = max(1, _BYTES_AT_ONCE // size)
    return [(first, min(at_once, pages - first)) for first in range(0, pages, at_once)]


def _mark_of(known: Origin) -> LogMark | None:
    log_mark = known.get("log")
    if not log_mark:
        return None
    salt, other_salt, frames, first, second, pages = log_mark
    return LogMark((salt, other_salt), frames, (first, second), pages)
