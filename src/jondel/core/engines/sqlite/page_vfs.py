"""Lets SQLite read a database from pages that lie elsewhere, by way of its file layer (a VFS).

Nothing can be written through it and nothing is locked: what it serves never changes.
"""

from __future__ import annotations

import itertools
import threading

import apsw

from jondel.core.engines.pages import PageSource

_NAME = "jondel-pages"
_SECTOR_BYTES = 4096
_ROLLBACK_FORMAT = b"\x01\x01"
_sources: dict[str, PageSource] = {}
_numbers = itertools.count(1)
_registering = threading.Lock()
_vfs: _PageVfs | None = None


def serve(source: PageSource) -> str:
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
    return f"file:{name}?vfs={_NAME}&immutable=1"


class _PageVfs(apsw.VFS):
    def __init__(self) -> None:
        super().__init__(_NAME, "")

    def xOpen(  # type: ignore[override]
        self, name: str | apsw.URIFilename | None, flags: list[int]
    ) -> _PageFile | apsw.VFSFile:
        if not flags[0] & apsw.SQLITE_OPEN_MAIN_DB:
            return apsw.VFSFile("", name, flags)  # sorting may need temporary files
        path = name.filename() if isinstance(name, apsw.URIFilename) else str(name)
        flags[1] = apsw.SQLITE_OPEN_READONLY
        return _PageFile(_sources[path])

    def xFullPathname(self, name: str) -> str:
        return name if name in _sources else super().xFullPathname(name)

    def xAccess(self, pathname: str, flags: int) -> bool:
        return False


class _PageFile:
    """The main file of one served database."""

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
            # Without a log there is no WAL mode; the file says that it is in the other format.
            data = data[:18] + _ROLLBACK_FORMAT + data[20:]
        if within or amount != size:
            return data[within : within + amount]
        return data

    def xFileSize(self) -> int:
        return self._page_size * self._pages

    def xClose(self) -> None:
        pass

    def xLock(self, level: int) -> None:
        pass

    def xUnlock(self, level: int) -> None:
        pass

    def xCheckReservedLock(self) -> bool:
        return False

    def xFileControl(self, op: int, pointer: int) -> bool:
        return False

    def xSectorSize(self) -> int:
        return _SECTOR_BYTES

    def xDeviceCharacteristics(self) -> int:
        return apsw.SQLITE_IOCAP_IMMUTABLE

    def xSync(self, flags: int) -> None:
        pass

    def xTruncate(self, size: int) -> None:
        raise apsw.ReadOnlyError("a snapshot cannot be written")

    def xWrite(self, data: bytes, offset: int) -> None:
        raise apsw.ReadOnlyError("a snapshot cannot be written")
