"""Lets SQLite read a database from pages that Jondel hands it, by way of its file layer (a VFS).

Nothing is locked, and nothing can be written through it but to an ``OverlayPages``, which keeps
that to itself. What a *captured* state serves never changes. A *live* database serves one committed
state after the other; SQLite learns of another one as it always does, by the change counter in the
first page, which is ours here: it counts the states served. The log and the journal are seen to by
whoever finds the states, so to SQLite the file says that it has neither.
"""

from __future__ import annotations

import itertools
import threading
from typing import Protocol, TypeAlias

import apsw

from jondel.core.engines.pages import PageSource
from jondel.core.engines.sqlite.overlay import OverlayPages

_NAME = "jondel-pages"
_SECTOR_BYTES = 4096
_MAGIC = b"SQLite format 3\x00"
_ROLLBACK_FORMAT = b"\x01\x01"
_WAL_FORMAT = b"\x02\x02"


class ServedState(Protocol):
    """A state of a live database."""

    @property
    def page_size(self) -> int: ...

    @property
    def page_count(self) -> int: ...

    @property
    def file_bytes(self) -> int:
        """How large SQLite takes the file to be."""

    @property
    def in_wal_mode(self) -> bool: ...

    def read(self, index: int) -> bytes:
        """One page, from 0."""


class LivePages:
    """What is served of a live database; ``generation`` counts the states."""

    def __init__(self) -> None:
        self.state: ServedState | None = None
        self.generation = 0

    def turn_to(self, state: ServedState) -> None:
        """Serve another state from the next transaction on."""
        self.state = state
        self.generation = (self.generation + 1) & 0xFFFFFFFF


_Served: TypeAlias = PageSource | LivePages | OverlayPages
_sources: dict[str, _Served] = {}
_numbers = itertools.count(1)
_registering = threading.Lock()
_vfs: _PageVfs | None = None


def serve(source: _Served) -> str:
    """Serve pages under the name that is returned, until it is withdrawn."""
    global _vfs
    with _registering:
        if _vfs is None:
            _vfs = _PageVfs()
    name = f"/pages-{next(_numbers)}"
    _sources[name] = source
    return name


def withdraw(name: str) -> None:
    _sources.pop(name, None)


def uri_of(name: str) -> str:
    """What SQLite opens served pages by."""
    changes = isinstance(_sources.get(name), LivePages | OverlayPages)
    return f"file:{name}?vfs={_NAME}" + ("" if changes else "&immutable=1")


class _PageVfs(apsw.VFS):
    def __init__(self) -> None:
        super().__init__(_NAME, "")

    def xOpen(  # type: ignore[override]
        self, name: str | apsw.URIFilename | None, flags: list[int]
    ) -> _File | apsw.VFSFile:
        if not flags[0] & apsw.SQLITE_OPEN_MAIN_DB:
            return apsw.VFSFile("", name, flags)  # sorting may need temporary files
        path = name.filename() if isinstance(name, apsw.URIFilename) else str(name)
        source = _sources[path]
        if isinstance(source, OverlayPages) and flags[0] & apsw.SQLITE_OPEN_READWRITE:
            flags[1] = apsw.SQLITE_OPEN_READWRITE
            return _OverlayFile(source)
        flags[1] = apsw.SQLITE_OPEN_READONLY
        return _LiveFile(source) if isinstance(source, LivePages) else _PageFile(source)

    def xFullPathname(self, name: str) -> str:
        return name if name in _sources else super().xFullPathname(name)

    def xAccess(self, pathname: str, flags: int) -> bool:
        return False


class _File:
    """What the main files of all served databases have in common."""

    def xClose(self) -> None:
        pass

    def xLock(self, level: int) -> None:
        pass

    def xUnlock(self, level: int) -> None:
        pass

    def xCheckReservedLock(self) -> bool:
        return False

    def xSectorSize(self) -> int:
        return _SECTOR_BYTES

    def xSync(self, flags: int) -> None:
        pass

    def xTruncate(self, size: int) -> None:
        raise apsw.ReadOnlyError("it is only read")

    def xWrite(self, data: bytes, offset: int) -> None:
        raise apsw.ReadOnlyError("it is only read")


class _PageFile(_File):
    """The main file of a captured state."""

    def __init__(self, source: PageSource) -> None:
        self._read_page = source.read
        self._page_size = source.page_size
        self._pages = source.page_count

    def xRead(self, amount: int, offset: int) -> bytes:
        size = self._page_size
        index, within = divmod(offset, size)
        if index >= self._pages:
            return b""
        data = self._read_page(index)  # its error goes through SQLite to whoever asked
        if not index:
            data = data[:18] + _ROLLBACK_FORMAT + data[20:]
        if within or amount != size:
            return data[within : within + amount]
        return data

    def xFileSize(self) -> int:
        return self._page_size * self._pages

    def xDeviceCharacteristics(self) -> int:
        return apsw.SQLITE_IOCAP_IMMUTABLE

    def xFileControl(self, op: int, pointer: int) -> bool:
        in_wal_mode = bool(self._pages) and self._read_page(0)[18:20] == _WAL_FORMAT
        return _answers_journal_mode(op, pointer, in_wal_mode)


class _LiveFile(_File):
    """The main file of a live database, as the state that is served at the moment."""

    def __init__(self, pages: LivePages) -> None:
        self._pages = pages

    def xRead(self, amount: int, offset: int) -> bytes:
        state = self._pages.state
        assert state is not None, "a state is found before SQLite reads"
        size = state.page_size
        index, within = divmod(offset, size)
        data = state.read(index)
        if not index:
            data = self._stamped(data, state.page_count)
        if within or amount != size:
            return data[within : within + amount]
        return data

    def xFileSize(self) -> int:
        state = self._pages.state
        return state.file_bytes if state is not None else 0

    def xDeviceCharacteristics(self) -> int:
        return 0

    def _stamped(self, data: bytes, pages: int) -> bytes:
        """The first page with our own counter of states in it."""
        if not data.startswith(_MAGIC):
            return data
        counter = self._pages.generation.to_bytes(4, "big")
        counted = counter + pages.to_bytes(4, "big")
        return b"".join(
            (data[:18], _ROLLBACK_FORMAT, data[20:24], counted, data[32:92], counter, data[96:])
        )

    def xFileControl(self, op: int, pointer: int) -> bool:
        state = self._pages.state
        return _answers_journal_mode(op, pointer, state is not None and state.in_wal_mode)


class _OverlayFile(_File):
    """The main file of a state that is written to."""

    def __init__(self, pages: OverlayPages) -> None:
        self._pages = pages

    def xRead(self, amount: int, offset: int) -> bytes:
        pages = self._pages
        size = pages.page_size
        index = offset // size
        if index >= pages.page_count:
            return b""
        data = pages.read(index)
        if index and amount == size:
            return data
        within = offset - index * size
        if not index:
            data = data[:18] + _ROLLBACK_FORMAT + data[20:]
        return data[within : within + amount]

    def xWrite(self, data: bytes, offset: int) -> None:
        pages = self._pages
        if not pages.page_count:
            pages.page_size = len(data)  # the first page of a database that was empty
        index, within = divmod(offset, pages.page_size)
        if within or len(data) != pages.page_size:
            raise apsw.ReadOnlyError("pages of another size cannot be tried out")
        pages.write(index, bytes(data))

    def xTruncate(self, size: int) -> None:
        self._pages.cut(size // self._pages.page_size)

    def xFileSize(self) -> int:
        return self._pages.page_size * self._pages.page_count

    def xDeviceCharacteristics(self) -> int:
        return 0

    def xFileControl(self, op: int, pointer: int) -> bool:
        return False


def _answers_journal_mode(op: int, pointer: int, in_wal_mode: bool) -> bool:
    """Answer ``PRAGMA journal_mode`` as the database itself would; False for all else."""
    if op != apsw.SQLITE_FCNTL_PRAGMA:
        return False
    asked = apsw.VFSFcntlPragma(pointer)
    if asked.name.lower() != "journal_mode" or asked.value is not None:
        return False
    asked.result = "wal" if in_wal_mode else "delete"
    return True
