"""Captures a SQLite database page by page, consistent while an app writes it.

In WAL mode the state captured is that of the last commit found in the log. A log that only grew
since the capture before names the pages that can differ, and they are read from it: no lock is
needed, for its checksums tell what belongs together. Even a reader's lock could meet the app's
commit, in an instant when SQLite makes a reader wait for a writer's header. Only where the app
goes on checkpointing while the whole file is read is a read transaction held; it keeps the file
as it is and makes no writer wait.

In the rollback journal modes a reader's lock would make the app's commit wait, so pages are read
without one. SQLite is asked for a moment's lock before, to know that no transaction is half
written; that nothing was written since then is told afterwards by the file's times. An app that
writes faster than its file can be read is captured under a lock in the end.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TypeAlias

import apsw
import numpy as np

from jondel.core.engines.pages import Origin, PageSink
from jondel.core.engines.sqlite.connection import Access, unsettled_seconds, wal_path
from jondel.core.engines.sqlite.wal import HEADER_BYTES, Log, LogMark, read_log
from jondel.core.errors import Cancelled, DatabaseDamaged, TargetLocked

_BYTES_AT_ONCE = 1 << 20
_HEADER_BYTES = 100
_WAL_FORMAT = b"\x02\x02"
_UNLOCKED_TRIES = 4
_Patches: TypeAlias = dict[int, int]


def capture_pages(
    connection: apsw.Connection, path: Path, access: Access, sink: PageSink, stop: threading.Event
) -> None:
    """Put the database's pages into the sink.

    Raises:
        Cancelled: ``stop`` was set.
        apsw.Error, OSError: it could not be read.
    """
    with _opened(path) as file:
        capture = _Capture(file, path, sink, stop)
        for _ in range(_UNLOCKED_TRIES):
            times = _times(path)
            in_log = access is not Access.IMMUTABLE and capture.is_in_log()
            if in_log and capture.with_log_unlocked(times):
                return
            if access is not Access.IMMUTABLE:
                with _reading(connection):
                    times = _times(path)
                    if connection.execute("PRAGMA journal_mode").get == "wal":
                        capture.with_log(times)
                        return
            wait = unsettled_seconds(times[3:])
            if not wait and capture.without_lock(times):
                return
            time.sleep(wait)
        if access is Access.IMMUTABLE:
            raise TargetLocked(f"{path}: it is being written all the time; try again")
        with _reading(connection):
            capture.locked(_times(path))


class File:
    """A file read through SQLite's own file layer, which never drops the process's locks."""

    def __init__(self, path: Path, kind: int) -> None:
        self._file = apsw.VFSFile("", str(path), [kind | apsw.SQLITE_OPEN_READONLY, 0])

    def size(self) -> int:
        return self._file.xFileSize()

    def read(self, offset: int, amount: int) -> bytes:
        amount = min(amount, self.size() - offset)
        return self._file.xRead(amount, offset) if amount > 0 else b""

    def close(self) -> None:
        self._file.xClose()


@contextmanager
def _opened(path: Path, kind: int = apsw.SQLITE_OPEN_MAIN_DB) -> Iterator[File]:
    file = File(path, kind)
    try:
        yield file
    finally:
        file.close()


@contextmanager
def _reading(connection: apsw.Connection) -> Iterator[None]:
    connection.execute("BEGIN")
    try:
        # Fails within the busy timeout where an app holds the file for good.
        connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        yield
    finally:
        if connection.in_transaction:
            connection.execute("ROLLBACK")


class _FileMayChange(Exception):
    """Without a lock, what is read from the file could be of two states."""


class _Capture:
    """One attempt at a time to put a consistent state into the sink."""

    def __init__(self, file: File, path: Path, sink: PageSink, stop: threading.Event) -> None:
        self._file = file
        self._path = path
        self._sink = sink
        self._stop = stop
        self._known = sink.known or {}
        self._log_origin: Origin = {}

    def is_in_log(self) -> bool:
        """Whether the latest commits are in a log that is there."""
        header = self._file.read(0, _HEADER_BYTES)
        try:
            return header[18:20] == _WAL_FORMAT and wal_path(self._path).stat().st_size > 0
        except FileNotFoundError:
            return False

    def with_log_unlocked(self, times: list[int]) -> bool:
        """Capture a database in WAL mode without any lock; False where it was written meanwhile.

        What is in the log is told by its checksums, and the log cannot have begun anew where its
        header is the same afterwards. A checkpoint that writes the file meanwhile shows in the
        file's times, which matter only where the file itself is read.
        """
        settled = _settled(times)
        try:
            with _opened(wal_path(self._path), apsw.SQLITE_OPEN_WAL) as wal:
                header = wal.read(0, HEADER_BYTES)
                mark = _mark_of(self._known)
                log = read_log(wal, mark)
                grown = self._put_state(log, mark, times, wal, file_may_change=not settled)
                unchanged = grown or (settled and _times(self._path) == times)
                if log is None or not unchanged or wal.read(0, HEADER_BYTES) != header:
                    return False
        except (apsw.CantOpenError, apsw.IOError, DatabaseDamaged, _FileMayChange):
            return False  # it may have been in the middle of a change; with a lock it is not
        self._sink.end(self._log_origin)
        return True

    def with_log(self, times: list[int]) -> None:
        """Capture a database in WAL mode; the caller holds a read transaction."""
        mark = _mark_of(self._known)
        try:
            with _opened(wal_path(self._path), apsw.SQLITE_OPEN_WAL) as wal:
                log = read_log(wal, mark)
                self._put_state(log, mark, times, wal)
        except apsw.CantOpenError:
            self._put_state(None, mark, times, None)
        self._sink.end(self._log_origin)

    def _put_state(
        self,
        log: Log | None,
        mark: LogMark | None,
        times: list[int],
        wal: File | None,
        *,
        file_may_change: bool = False,
    ) -> bool:
        """Put what the log and the file hold; True where all of it came from the log.

        Raises:
            _FileMayChange: the file itself must be read, and it may change meanwhile.
        """
        header = self._file.read(0, _HEADER_BYTES)
        end = log.end if log else None
        origin = {"times": times, "settled": _settled(times), "header": header.hex()}
        if end is not None and end.frames:
            origin["log"] = [*end.salts, end.frames, *end.sums, end.pages]
        same_file = self._known.get("times", [])[:2] == times[:2]
        grown = same_file and log is not None and mark is not None and mark == log.start
        # Without frames before, what is in the log now is all that came after; if the file itself
        # was not written meanwhile, no earlier log went into it.
        appeared = mark is None and self._file_is_as_known(times, header)
        page_size, pages = _extent(header, self._file.size())
        if end is not None and end.pages:
            page_size, pages = (log.page_size if log else page_size), end.pages
        patches = log.offsets if log else {}
        if grown or appeared:
            self._sink.begin(page_size, pages, partial=True)
            self._put_patches(page_size, pages, patches, wal)
        elif file_may_change:
            raise _FileMayChange
        else:
            self._sink.begin(page_size, pages, partial=False)
            self._put_all(page_size, pages, patches, wal)
        self._log_origin = origin
        return grown

    def without_lock(self, times: list[int]) -> bool:
        """Capture what lies in the file; False where it was written meanwhile.

        The times were read while no transaction was half written, and are settled.
        """
        header = self._file.read(0, _HEADER_BYTES)
        try:
            self._put_file(times, header)
        except DatabaseDamaged:
            if _times(self._path) == times:
                raise
        if _times(self._path) != times:
            return False
        self._sink.end({"times": times, "settled": True, "header": header.hex()})
        return True

    def locked(self, times: list[int]) -> None:
        """Capture what lies in the file; the caller holds a read transaction."""
        header = self._file.read(0, _HEADER_BYTES)
        self._put_file(times, header)
        self._sink.end({"times": times, "settled": _settled(times), "header": header.hex()})

    def _put_file(self, times: list[int], header: bytes) -> None:
        page_size, pages = _extent(header, self._file.size())
        same = "log" not in self._known and self._file_is_as_known(times, header)
        self._sink.begin(page_size, pages, partial=same)
        if not same:
            self._put_all(page_size, pages, {}, None)

    def _file_is_as_known(self, times: list[int], header: bytes) -> bool:
        known = self._known
        return bool(
            known.get("settled")
            and known.get("times") == times
            and known.get("header") == header.hex()
        )

    def _put_patches(self, page_size: int, pages: int, patches: _Patches, wal: File | None) -> None:
        numbers = sorted(number for number in patches if number <= pages)
        at_once = max(1, _BYTES_AT_ONCE // page_size)
        for start in range(0, len(numbers), at_once):
            self._check_stop()
            part = numbers[start : start + at_once]
            assert wal is not None
            data = b"".join([wal.read(patches[number], page_size) for number in part])
            self._sink.put(np.array(part, np.intp) - 1, data)

    def _put_all(self, page_size: int, pages: int, patches: _Patches, wal: File | None) -> None:
        at_once = max(1, _BYTES_AT_ONCE // page_size)
        patched = np.array(sorted(patches), np.intp)
        for first in range(0, pages, at_once):
            self._check_stop()
            count = min(at_once, pages - first)
            data: bytes | bytearray = self._file.read(first * page_size, count * page_size)
            within = np.searchsorted(patched, (first + 1, first + count + 1))
            replaced = patched[within[0] : within[1]].tolist()
            if replaced and wal is not None:
                data = bytearray(data).ljust(count * page_size, b"\0")
                for number in replaced:
                    start = (number - 1 - first) * page_size
                    data[start : start + page_size] = wal.read(patches[number], page_size)
            if len(data) < count * page_size:
                raise DatabaseDamaged(
                    f"{self._path}: the file is cut short ({self._file.size()} bytes instead of "
                    f"{pages * page_size}); restore it from a good copy"
                )
            self._sink.put(np.arange(first, first + count), data)

    def _check_stop(self) -> None:
        if self._stop.is_set():
            raise Cancelled("stopped")


def _mark_of(known: Origin) -> LogMark | None:
    found = known.get("log")
    if not found:
        return None
    salt, other_salt, frames, first, second, pages = found
    return LogMark((salt, other_salt), frames, (first, second), pages)


def _times(path: Path) -> list[int]:
    """Identity, size and times of the file; the time of its inode cannot be set by hand."""
    info = path.stat()
    return [info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns, info.st_ctime_ns]


def _settled(times: list[int]) -> bool:
    """Tell whether a write from now on is sure to change the times."""
    return not unsettled_seconds(times[3:])


def _extent(header: bytes, size: int) -> tuple[int, int]:
    """Page size in bytes and number of pages, as the header says or the file's size implies."""
    if len(header) < _HEADER_BYTES:
        return 4096, 0
    page_size = int.from_bytes(header[16:18], "big")
    page_size = 65536 if page_size == 1 else page_size
    if page_size < 512 or page_size & (page_size - 1):
        return 4096, 0
    stated = int.from_bytes(header[28:32], "big")
    valid = stated and header[24:28] == header[92:96]
    return page_size, stated if valid else size // page_size
