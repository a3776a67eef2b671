"""Packs: files that pages are appended to and never changed in.

Beside them lies an index of every page's hash and place, appended to likewise. It only helps to
find out that a page is there already, and is not trusted: a page found through it is read and
compared before it is used. What a crash leaves at the end of either file is skipped.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from queue import Queue
from threading import Lock, Thread

import xxhash

from jondel.core.engines.pages import HASH_BYTES
from jondel.core.errors import StoreUnavailable
from jondel.core.files.replacement import replace_text, replacing
from jondel.core.snapshots.pack_marks import Identity, identities
from jondel.core.snapshots.places import PLACE_BYTES, offset_of, pack_of, place_in

_LARGEST_PACK_BYTES = 256 << 20
ENTRY_BYTES = HASH_BYTES + PLACE_BYTES
_SUFFIX = ".pages"
_ENTRIES_AT_ONCE = 1 << 15
_ALONE_BYTES = 4 << 20
"""More than this is written in a thread of its own."""
_MOST_WAITING = 8

hash_page = xxhash.xxh3_128_digest


class PackFolder:
    """The packs of one database's pages. Writing needs the store's lock, reading none."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._index = folder / "index"
        self._readable: dict[int, int] = {}
        self._opening = Lock()

    def close(self) -> None:
        for descriptor in self._readable.values():
            os.close(descriptor)
        self._readable.clear()

    def prepare(self) -> None:
        """Make the folder."""
        self._folder.mkdir(mode=0o700, exist_ok=True)

    def numbers(self) -> list[int]:
        return sorted(int(path.stem) for path in self._folder.glob(f"*{_SUFFIX}"))

    def pack_size(self, pack: int) -> int:
        return self._path(pack).stat().st_size

    def remove(self, pack: int) -> None:
        """Remove a pack; states that are open and have read from it can go on doing so."""
        self._path(pack).unlink(missing_ok=True)

    def appender(self, *, fresh: bool = False) -> PackAppender:
        """Start to append pages, at the end of the newest pack or in a new one."""
        numbers = self.numbers()
        last = numbers[-1] if numbers and not fresh else None
        if last is not None and self.pack_size(last) >= _LARGEST_PACK_BYTES:
            last = None
        return PackAppender(self._path, self._new_number, last)

    def _new_number(self) -> int:
        """A number that no pack ever had: somebody may still have the old one open."""
        counter = self._folder / "last"
        try:
            last = int(counter.read_text("ascii"))
        except (FileNotFoundError, ValueError):
            last = 0
        number = max([last, *self.numbers()]) + 1
        replace_text(counter, str(number))
        return number

    def read(self, place: int, page_size: int) -> bytes:
        """Read a page, unverified; short where the pack is cut short.

        Raises:
            StoreUnavailable: the pack is gone.
        """
        pack = pack_of(place)
        descriptor = self._readable.get(pack)
        if descriptor is None:
            descriptor = self._opened(pack)
        return os.pread(descriptor, page_size, offset_of(place))

    def _opened(self, pack: int) -> int:
        with self._opening:
            descriptor = self._readable.get(pack)
            if descriptor is None:
                try:
                    descriptor = os.open(self._path(pack), os.O_RDONLY | os.O_CLOEXEC)
                except OSError as error:
                    raise StoreUnavailable(
                        f"{self._path(pack)}: a file of the store is missing "
                        f"({error.strerror}); snapshots that need it are lost"
                    ) from error
                self._readable[pack] = descriptor
            return descriptor

    def require(self, packs: Iterable[int]) -> None:
        """Open packs by their numbers; they can then be read whatever becomes of them.

        Raises:
            StoreUnavailable: one is gone.
        """
        for pack in packs:
            if pack not in self._readable:
                self._opened(pack)

    def holds(self, place: int, digest: bytes, page_size: int) -> bool:
        """Whether the page at a place is what its hash says."""
        try:
            return hash_page(self.read(place, page_size)) == digest
        except StoreUnavailable:
            return False

    def identities(self) -> dict[str, Identity]:
        """How the packs are now; see ``pack_marks``."""
        return identities(self._folder, _SUFFIX)

    def describe(self, place: int) -> str:
        """Where a page lies, for messages."""
        return f"{self._path(pack_of(place))} at byte {offset_of(place)}"

    def index_entries(self) -> int:
        """How many pages the index tells of."""
        try:
            return self._index.stat().st_size // ENTRY_BYTES
        except FileNotFoundError:
            return 0

    def index(self) -> Iterator[bytes]:
        """The index, a part at a time: a hash and a place for each page that was appended."""
        with suppress(FileNotFoundError), self._index.open("rb") as file:
            while part := file.read(_ENTRIES_AT_ONCE * ENTRY_BYTES):
                yield part[: len(part) - len(part) % ENTRY_BYTES]

    def extend_index(self, entries: bytes) -> None:
        """Remember where pages are; the entries of a crash's torn end are cut off first."""
        descriptor = os.open(self._index, os.O_WRONLY | os.O_CREAT, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            end = file.seek(0, os.SEEK_END)
            file.seek(end - end % ENTRY_BYTES)
            file.write(entries)

    def replace_index(self, entries: bytes) -> None:
        with replacing(self._index) as file:
            file.write(entries)

    def _path(self, pack: int) -> Path:
        return self._folder / f"{pack:06d}{_SUFFIX}"


class PackAppender:
    """Appends pages to packs."""

    def __init__(
        self, path_of: Callable[[int], Path], new_number: Callable[[], int], last: int | None
    ) -> None:
        """``last`` is the pack to go on with, if there is one that may grow."""
        self._path_of = path_of
        self._new_number = new_number
        self._last = last
        self._pack = 0
        self._descriptor: int | None = None
        self._offset = 0
        self._written = 0
        self._ends: dict[int, int] = {}
        self._writer: _Writer | None = None
        self._sizes_before: dict[int, int] = {}

    @property
    def ends(self) -> dict[int, int]:
        """The packs that were appended to, each with where the last page ends, in bytes."""
        ends = {pack: self._ends.get(pack, size) for pack, size in self._sizes_before.items()}
        if self._pack in ends:
            ends[self._pack] = self._offset
        return ends

    def append(self, data: bytes | bytearray, page_size: int) -> range:
        """Write whole pages one behind the other and return their places."""
        if self._descriptor is None or self._offset >= _LARGEST_PACK_BYTES:
            self._open_next()
        assert self._descriptor is not None
        first = place_in(self._pack, self._offset)
        self._offset += len(data)
        self._written += len(data)
        if self._writer is None and self._written > _ALONE_BYTES:
            self._writer = _Writer(self._descriptor)
        if self._writer is not None:
            self._writer.write(data)
        else:
            write_all(self._descriptor, data)
        return range(first, first + len(data), page_size)

    def finish(self, sync: Callable[[int], None] | None = None) -> None:
        """Wait until everything is written.

        ``sync`` is given an open file to see to it that it reaches the disk, and closes it;
        without it, that is waited for.
        """
        self._end_writer()
        descriptor, self._descriptor = self._descriptor, None
        if descriptor is None:
            return
        if sync is not None:
            sync(descriptor)
        else:
            os.fdatasync(descriptor)
            os.close(descriptor)

    def abandon(self) -> None:
        """Take back everything that was appended; nothing refers to it yet."""
        self.close()
        for pack, size in self._sizes_before.items():
            if size:
                os.truncate(self._path_of(pack), size)
            else:
                self._path_of(pack).unlink(missing_ok=True)

    def close(self) -> None:
        writer, self._writer = self._writer, None
        if writer is not None:
            writer.stop()
        if self._descriptor is not None:
            os.close(self._descriptor)
            self._descriptor = None

    def _end_writer(self) -> None:
        writer, self._writer = self._writer, None
        if writer is not None:
            writer.stop()
            writer.check()

    def _open_next(self) -> None:
        if self._descriptor is not None:
            self._ends[self._pack] = self._offset
            self.finish()
            self._written = 0
        self._pack, self._last = self._last or self._new_number(), None
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC
        self._descriptor = os.open(self._path_of(self._pack), flags, 0o600)
        self._offset = os.lseek(self._descriptor, 0, os.SEEK_END)
        self._sizes_before[self._pack] = self._offset
        # Offsets need not be aligned: what a crash left at the end stays there, unreferred to.


class _Writer:
    """Writes in a thread of its own, so that reading and hashing go on meanwhile."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._waiting: Queue[bytes | bytearray | None] = Queue(_MOST_WAITING)
        self._error: OSError | None = None
        self._thread = Thread(target=self._run, daemon=True)
        self._thread.start()

    def write(self, data: bytes | bytearray) -> None:
        self.check()
        self._waiting.put(data)

    def stop(self) -> None:
        self._waiting.put(None)
        self._thread.join()

    def check(self) -> None:
        """Raise what writing failed with, if it did."""
        if self._error is not None:
            raise self._error

    def _run(self) -> None:
        while (data := self._waiting.get()) is not None:
            if self._error is not None:
                continue
            try:
                write_all(self._descriptor, data)
            except OSError as error:
                self._error = error


def write_all(descriptor: int, data: bytes | bytearray | memoryview) -> None:
    """Write everything, however often the system takes only a part."""
    rest = memoryview(data)
    while rest:
        rest = rest[os.write(descriptor, rest) :]
