"""Finds the committed state of a database file beside an app that writes it, without any lock.

Where a state is comes from what SQLite itself goes by, see ``LiveFiles.find``. Whatever was read
of it is good only if ``CommittedState.held`` says so afterwards:

* **With a log** (WAL mode) pages come from committed frames first, which their checksums tell, and
  else from the file. A checkpoint writes nothing into the file but pages that are in the log; so
  what was read from the file is good if the log is still the same one and either the file was not
  written since (by its times) or none of the pages read is in frames that came after.
* **With a journal** (a transaction is under way, or its app was killed) pages come from the journal
  first. Each transaction's journal begins with a number of its own. While that stands there, it is
  the same transaction, and the file differs from the state in pages alone that are in the journal.
* **With neither** the file is the state. That holds while its times say that it was not written.
  Journals kept in memory (MEMORY, OFF) cannot be read; whoever writes the file holds it
  exclusively then, which can be asked without taking a lock.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from jondel.core.engines.sqlite.descriptors import PlainFile
from jondel.core.engines.sqlite.file_names import Companions, companions_of, stat_of
from jondel.core.engines.sqlite.file_times import Times, seconds_to_proof, times_of
from jondel.core.engines.sqlite.journal import Journal, identity_in, read_journal
from jondel.core.engines.sqlite.lock_holders import exclusively_locked
from jondel.core.engines.sqlite.wal import LogMark, holds, read_log

HEADER_SIZE = 100
_MAGIC = b"SQLite format 3\x00"
_WAL_FORMAT = 2
_SMALLEST_PAGE, _LARGEST_PAGE = 512, 65536
_USUAL_PAGE = 4096
_READ_AHEAD_BYTES = 128 << 10
_LOOK_AGAIN_SECONDS = 0.0005


class NotYet(NamedTuple):
    """There is no state to be read at this instant.

    ``seconds`` is when to look again; ``held`` says that another process holds the file and may be
    in the middle of writing it.
    """

    seconds: float
    held: bool = False


class CommittedState:
    """One committed state, read page by page; valid as long as it is ``held``."""

    def __init__(
        self,
        main: PlainFile,
        times: Times,
        proven: bool,
        log: _Log | None,
        journal: _OpenJournal | None,
    ) -> None:
        self.times = times
        """The times of the file before any of this was found out, but after its journal was."""
        self.log = log
        self.journal = journal
        self._main = main
        self.proven = proven
        """Whether the same times later prove that the file was not written."""
        self._log_offsets = log.offsets if log is not None else {}
        effective = journal is not None and journal.found.effective
        self._journal_offsets = journal.found.offsets if effective and journal else {}
        self._ahead = b""
        self._ahead_first = self._ahead_end = self._last = -1
        self.page_size = _USUAL_PAGE
        self._seen = bytearray(1)  # the header is read first
        if log is not None:
            self.page_size = log.page_size
        elif effective and journal is not None:
            self.page_size = journal.found.page_size
        # Of a page whose size is not known yet, the header can be had.
        self.header = self._first_bytes()
        stated_size, stated_pages = extent(self.header, times.size)
        if log is None and not effective:
            self.page_size = stated_size
        self.page_count = stated_pages
        self.file_bytes = times.size if times.size >= HEADER_SIZE else 0
        """How large SQLite takes the file to be."""
        if log is not None and log.end.pages:
            self.page_count = log.end.pages
            self.file_bytes = self.page_count * self.page_size
        elif effective and journal is not None:
            self.page_count = journal.found.pages
            self.file_bytes = self.page_count * self.page_size
        self._seen = bytearray(max(1, self.page_count, -(-times.size // self.page_size)))
        self._seen[0] = not self._overlaid(1)

    @property
    def from_journal(self) -> bool:
        """Whether the file holds pages of a transaction that is not committed."""
        return self.journal is not None and self.journal.found.effective

    @property
    def in_wal_mode(self) -> bool:
        return self.log is not None or self.header[18:20] == bytes([_WAL_FORMAT] * 2)

    def read(self, index: int) -> bytes:
        """One page, from 0; short at the end of a file that is cut short."""
        size = self.page_size
        offset = self._log_offsets.get(index + 1)
        if offset is not None:
            assert self.log is not None
            return self.log.file.read(offset, size)
        offset = self._journal_offsets.get(index + 1)
        if offset is not None:
            assert self.journal is not None
            return self.journal.file.read(offset, size)
        if not self._ahead_first <= index < self._ahead_end:
            # A table's pages mostly follow each other: then many are read at once.
            pages = _READ_AHEAD_BYTES // size if index == self._last + 1 else 1
            self._ahead = os.pread(self._main.descriptor, pages * size, index * size)
            self._ahead_first, self._ahead_end = index, index + pages
        self._last = index
        if index < len(self._seen):
            self._seen[index] = 1
        start = (index - self._ahead_first) * size
        return self._ahead[start : start + size]

    def read_run(self, first: int, count: int) -> bytes | bytearray:
        """Pages one behind the other; short where the file is cut short."""
        size = self.page_size
        self._seen[first : first + count] = b"\1" * (min(len(self._seen), first + count) - first)
        data = self._main.read(first * size, count * size)
        if not (self._log_offsets or self._journal_offsets):
            return data
        overlaid = [
            page for page in range(first + 1, first + count + 1) if self._overlaid(page)
        ]  # fmt: skip
        if not overlaid:
            return data
        patched = bytearray(data)
        if len(patched) < count * size:
            patched.extend(bytes(count * size - len(patched)))
        for page in overlaid:
            start = (page - 1 - first) * size
            patched[start : start + size] = self.read(page - 1)
        return patched

    def same_as(self, other: CommittedState) -> bool:
        """Whether both are found in the same file, log and journal, unchanged."""
        if self.times != other.times or (self.log is None) != (other.log is None):
            return False
        if self.log is not None and other.log is not None:
            logs_are_same = self.log.file is other.log.file and self.log.end == other.log.end
            if not logs_are_same:
                return False
        return _journal_key(self.journal) == _journal_key(other.journal)

    def read_file(self, first: int, count: int) -> bytes:
        """Pages as the file has them now, whatever state that is of; short at its end."""
        return self._main.read(first * self.page_size, count * self.page_size)

    def current_size(self) -> int:
        """How large the file is now, in bytes."""
        return self._main.size()

    def is_in_place(self) -> bool:
        """Whether the log still is the database's."""
        return self.log is not None and self.log.is_in_place()

    def log_holds(self) -> bool:
        """Whether what was read from the log is of this state."""
        return self.log is not None and holds(self.log.file, self.page_size, self.log.end)

    def held(self) -> bool:
        """Whether everything that was read so far is of this state."""
        if self.journal is not None and not self._journal_holds(self.journal):
            return False
        untouched = self.proven and times_of(os.fstat(self._main.descriptor)) == self.times
        if self.log is None:
            return untouched or self.journal is not None
        if not self.log_holds():
            return False
        if untouched:
            return True
        later = read_log(self.log.file, self.log.end)
        return later is not None and later.start == self.log.end and not self._saw(later.offsets)

    def _journal_holds(self, journal: _OpenJournal) -> bool:
        newer: set[int] = set()
        if any(self._seen):
            later = read_journal(journal.file)
            if later is None:
                return False
            newer = later.offsets.keys() - self._journal_offsets.keys()
        # Asked last: what was read of the journal counts only if it was this transaction's still.
        header = journal.file.read(0, HEADER_SIZE)
        if identity_in(header) != journal.found.identity or not journal.is_in_place():
            return False
        return not self._saw(newer)

    def _saw(self, pages: Iterable[int]) -> bool:
        """Whether one of these pages, from 1, was read from the file."""
        seen = self._seen
        return any(page <= len(seen) and seen[page - 1] for page in pages)

    def _overlaid(self, page: int) -> bool:
        return page in self._log_offsets or page in self._journal_offsets

    def _first_bytes(self) -> bytes:
        if self._overlaid(1):
            return self.read(0)[:HEADER_SIZE]
        return self._main.read(0, HEADER_SIZE)


class _Log(NamedTuple):
    """The log as far as it is committed; ``offsets`` are of the frames since ``start``."""

    file: PlainFile
    page_size: int
    start: LogMark
    end: LogMark
    offsets: dict[int, int]
    path: Path

    def is_in_place(self) -> bool:
        return _is_at(self.path, self.file)


class _OpenJournal(NamedTuple):
    file: PlainFile
    found: Journal
    path: Path

    def is_in_place(self) -> bool:
        return _is_at(self.path, self.file)


def _journal_key(journal: _OpenJournal | None) -> tuple[bytes, int] | None:
    if journal is None:
        return None
    content = journal.found
    return content.identity, len(content.offsets) if content.effective else -1


class LiveFiles:
    """A database file and its companions, held open to find states in them.

    Used by one thread at a time. Every method may raise ``OSError``.
    """

    def __init__(self, path: Path, log_from: LogMark | None = None) -> None:
        """``log_from``: of the log only what came after this mark is wanted, if it is there."""
        self._path = path
        self._wanted_from = log_from
        self._main: PlainFile | None = None
        self._main_identity = (0, 0)
        self._names: Companions | None = None
        self._wal: PlainFile | None = None
        self._journal: PlainFile | None = None
        self._log: _Log | None = None

    @property
    def path(self) -> Path:
        return self._path

    @property
    def wanted_from(self) -> LogMark | None:
        """The mark after which the log is wanted."""
        return self._wanted_from

    @property
    def companions(self) -> Companions:
        """What the companions go by."""
        if self._names is None:
            self._names = companions_of(self._path)
        return self._names

    def find(self) -> CommittedState | NotYet:
        """Find the state that is the latest now.

        Raises:
            OSError: the file is gone, or it cannot be read.
        """
        main = self._current_main()
        times = times_of(os.fstat(main.descriptor))
        journal = self._current_journal() if times.size else None
        log = self._current_log() if times.size else None
        if journal is not None and log is None:
            # The state is the one before the journal's transaction, which may have come after the
            # times were looked at: another one may have been committed between.
            times = times_of(os.fstat(main.descriptor))
        wait = seconds_to_proof(times)
        if journal is None and log is None:
            if wait:
                return NotYet(min(wait, _LOOK_AGAIN_SECONDS * 4))
            header = main.read(0, HEADER_SIZE)
            may_be_torn = header[18:20] != bytes([_WAL_FORMAT] * 2) and exclusively_locked(
                main.descriptor
            )
            if may_be_torn and not self._journal_is_idle_since(times):
                return NotYet(_LOOK_AGAIN_SECONDS * 4, held=True)
        try:
            return CommittedState(main, times, not wait, log, journal)
        except OSError:
            if log is None and journal is None:
                raise
            return NotYet(_LOOK_AGAIN_SECONDS)

    def token(self) -> tuple[object, ...]:
        """Differs after a commit; see ``Database.change_token``. Opens nothing."""
        info = self._path.stat()
        facts: list[int] = [*info_of(info)]
        changed = [info.st_ctime_ns]
        for name in (self.companions.wal, self.companions.journal):
            companion = stat_of(name)
            if companion is None:
                facts.append(0)
                continue
            facts += info_of(companion)
            changed.append(companion.st_ctime_ns)
        latest = Times(info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns, max(changed))
        # Two commits within a tick leave one time; so a recent one counts as another later.
        return (*facts, not seconds_to_proof(latest))

    def close(self) -> None:
        """Let go of the files."""
        for file in (self._main, self._wal, self._journal):
            if file is not None:
                file.close()
        self._main = self._wal = self._journal = self._log = None

    def _current_main(self) -> PlainFile:
        info = self._path.stat()
        identity = (info.st_dev, info.st_ino)
        if self._main is None or identity != self._main_identity:
            self.close()
            self._main = PlainFile(self._path)
            opened = os.fstat(self._main.descriptor)
            self._main_identity = (opened.st_dev, opened.st_ino)
            self._names = None
        elif info.st_nlink > 1 and not self.companions.own:
            self._names = None  # the app may have come by another name meanwhile
        return self._main

    def _current_log(self) -> _Log | None:
        self._wal = _still(self._wal, self.companions.wal)
        if self._wal is None:
            self._log = None
            return None
        known = self._log if self._log is not None and self._log.file is self._wal else None
        log = read_log(self._wal, known.end if known else self._wanted_from)
        if log is None or not log.end.frames:
            self._log = None
            return None
        if known is not None and log.start == known.end:
            known.offsets.update(log.offsets)
            self._log = known._replace(end=log.end)
        else:
            name = self.companions.wal
            self._log = _Log(self._wal, log.page_size, log.start, log.end, log.offsets, name)
        return self._log

    def _current_journal(self) -> _OpenJournal | None:
        name = self.companions.journal
        self._journal = file = _still(self._journal, name)
        if file is None:
            return None
        content = read_journal(file)
        if content is None:
            return None
        return _OpenJournal(file, content, name)

    def _journal_is_idle_since(self, times: Times) -> bool:
        """Whether there is a journal of no transaction, put aside after the file was written.

        An app that holds its database exclusively keeps its journal's file between transactions.
        """
        if self._journal is None:
            return False
        return os.fstat(self._journal.descriptor).st_ctime_ns >= times.changed


def _is_at(path: Path, file: PlainFile) -> bool:
    info = stat_of(path)
    return info is not None and os.path.samestat(info, os.fstat(file.descriptor))


def _still(file: PlainFile | None, path: Path) -> PlainFile | None:
    """The file at a path: the one that is open, if it is that, else opened now."""
    info = stat_of(path)
    if file is not None:
        opened = os.fstat(file.descriptor)
        if info is not None and (opened.st_dev, opened.st_ino) == (info.st_dev, info.st_ino):
            return file
        file.close()
    if info is None:
        return None
    try:
        return PlainFile(path)
    except FileNotFoundError:
        return None


def info_of(info: os.stat_result) -> tuple[int, ...]:
    """Identity, size and times."""
    return (info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns, info.st_ctime_ns)


def extent(header: bytes, size: int) -> tuple[int, int]:
    """Page size in bytes and number of pages, as a header says or the file's size implies."""
    page_size = int.from_bytes(header[16:18], "big") if len(header) >= HEADER_SIZE else 0
    page_size = _LARGEST_PAGE if page_size == 1 else page_size
    if page_size < _SMALLEST_PAGE or page_size & (page_size - 1):
        return _USUAL_PAGE, -(-size // _USUAL_PAGE)
    stated = int.from_bytes(header[28:32], "big")
    valid = stated and header[24:28] == header[92:96]
    return page_size, stated if valid else size // page_size
