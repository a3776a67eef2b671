"""Opens connections to SQLite files so that looking changes nothing.

How a file is opened depends on what is found, because SQLite's own defaults would leave traces:

* A file in a rollback journal mode is opened read-only.
* A file in WAL mode with its ``-wal`` beside it is opened read-only too: a read-only connection
  never checkpoints, so what an app or its crash left in the WAL stays there.
* A file in WAL mode without a ``-wal`` is nobody's at the moment. A read-only connection would
  create companion files and could not remove them, so it is opened read-write with
  ``query_only``: SQLite then removes the companions itself when the last connection closes, and
  as there was nothing in the WAL, it writes nothing to the file.
* Where that is not allowed (read-only file or folder), it is opened as ``immutable``; whoever
  reads must then watch the file's signature and open it anew when that differs.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import TypeAlias
from urllib.parse import quote

import apsw

from jondel.core.engines.sqlite.failures import translated
from jondel.core.engines.sqlite.page_vfs import uri_of
from jondel.core.errors import (
    NotADatabase,
    PermissionMissing,
    TargetNotFound,
    TargetUnavailable,
)

BUSY_TIMEOUT_MS = 2000
_HEADER_BYTES = 100
_WAL_FORMAT = 2
_TICK_SECONDS = 0.011
"""Two writes closer than this may leave the same time on a file; kernels count in ticks."""
_COARSE_TICK_SECONDS = 2.1
"""The same where a file system keeps whole seconds, or two."""
BUILT_IN_COLLATIONS = ("BINARY", "NOCASE", "RTRIM")

Signature: TypeAlias = tuple[int, ...]
"""Identity, size and modification time (ns) of the file and of its WAL."""


class Access(Enum):
    """How a file was opened."""

    READ_ONLY = "read-only"
    UNATTENDED = "query-only"
    """Read-write without the permission to write, so that companions are cleaned up."""
    IMMUTABLE = "immutable"


@dataclass
class OpenFile:
    """A connection, how it was opened, and names of collations that only the app knows."""

    connection: apsw.Connection
    access: Access
    stand_in_collations: set[str]


def check_path(path: Path) -> None:
    """Raise the fitting ``TargetError`` unless the path is a file that the user may read."""
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        if path.is_symlink():
            raise TargetNotFound(f"{path}: the link points to a file that is not there") from None
        raise TargetNotFound(f"{path}: no such file; check the path") from None
    except PermissionError:
        raise PermissionMissing(f"{path}: permission denied; its folder is closed to you") from None
    except (OSError, ValueError) as error:
        raise TargetNotFound(f"{path}: cannot be reached ({error}); check the path") from None
    if stat.S_ISDIR(mode):
        raise NotADatabase(f"{path}: a directory; name a database file in it")
    if not stat.S_ISREG(mode):
        raise NotADatabase(f"{path}: not a regular file; give the path of a database file")
    if not os.access(path, os.R_OK):
        raise PermissionMissing(f"{path}: permission denied; make the file readable for you")


def signature(path: Path) -> Signature:
    """Stat the file and its WAL; takes no lock and opens nothing."""
    info = path.stat()
    found = (info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns)
    try:
        wal = wal_path(path).stat()
    except FileNotFoundError:
        return found
    return (*found, wal.st_ino, wal.st_size, wal.st_mtime_ns)


def unsettled_seconds(moments: Sequence[int]) -> float:
    """How long it takes until another write is sure to change these times (ns) of a file."""
    coarse = all(moment % 1_000_000_000 == 0 for moment in moments)
    tick = _COARSE_TICK_SECONDS if coarse else _TICK_SECONDS
    return min(tick, max(0.0, tick - (time.time() - max(moments) / 1e9)))


def wal_path(path: Path) -> Path:
    return path.with_name(path.name + "-wal")


def open_file(path: Path) -> OpenFile:
    """Open a checked path as the module's docstring lays down."""
    access = _fitting_access(path)
    if access is Access.IMMUTABLE:
        return open_immutable(path)
    flags = {
        Access.READ_ONLY: apsw.SQLITE_OPEN_READONLY,
        Access.UNATTENDED: apsw.SQLITE_OPEN_READWRITE,
    }[access]
    # URIs are for what is attached beside; an absolute path is none.
    return _open(str(path), flags | apsw.SQLITE_OPEN_URI, path, access)


def open_immutable(path: Path) -> OpenFile:
    """Open a file that nobody writes, without locks and companions."""
    flags = apsw.SQLITE_OPEN_READONLY | apsw.SQLITE_OPEN_URI
    return _open(f"file:{quote(os.fsencode(path))}?immutable=1", flags, path, Access.IMMUTABLE)


def open_pages(name: str, path: Path) -> OpenFile:
    """Open served pages (see ``page_vfs``); ``path`` names them in messages."""
    flags = apsw.SQLITE_OPEN_READONLY | apsw.SQLITE_OPEN_URI
    return _open(uri_of(name), flags, path, Access.IMMUTABLE)


def _fitting_access(path: Path) -> Access:
    if read_header(path)[18:20] != bytes([_WAL_FORMAT, _WAL_FORMAT]):
        return Access.READ_ONLY
    folder_writable = os.access(path.parent, os.W_OK)
    if wal_path(path).exists():
        shm_ready = path.with_name(path.name + "-shm").exists()
        if folder_writable or shm_ready:
            return Access.READ_ONLY
        if wal_path(path).stat().st_size == 0:
            return Access.IMMUTABLE
        raise TargetUnavailable(
            f"{path}: its latest writes are in {path.name}-wal, which cannot be read in a "
            "read-only folder; copy both files to a folder you may write to and open the copy"
        )
    if folder_writable and os.access(path, os.W_OK):
        return Access.UNATTENDED
    return Access.IMMUTABLE


def read_header(path: Path) -> bytes:
    """The file's first bytes, read through SQLite's file layer."""
    flags = apsw.SQLITE_OPEN_MAIN_DB | apsw.SQLITE_OPEN_READONLY
    with translated(path):
        file = apsw.VFSFile("", str(path), [flags, 0])
        try:
            size = min(file.xFileSize(), _HEADER_BYTES)
            return file.xRead(size, 0) if size else b""
        finally:
            file.xClose()


def _open(filename: str, flags: int, path: Path, access: Access) -> OpenFile:
    stand_ins: set[str] = set()
    with translated(path):
        connection = apsw.Connection(filename, flags=flags)
        try:
            connection.set_busy_timeout(BUSY_TIMEOUT_MS)
            connection.config(apsw.SQLITE_DBCONFIG_DEFENSIVE, 1)
            connection.config(apsw.SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0)
            connection.execute("PRAGMA query_only=ON")
            connection.collation_needed(_stand_in_collation(stand_ins))
            # The first real read: fails here if the file is locked, damaged or no database.
            connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        except BaseException:
            connection.close()
            raise
    return OpenFile(connection, access, stand_ins)


def _stand_in_collation(stand_ins: set[str]):  # type: ignore[no-untyped-def]
    """Register a plain comparison for collations that only the app has, so tables can be read."""

    def needed(connection: apsw.Connection, name: str) -> None:
        if name.upper() in BUILT_IN_COLLATIONS:
            return  # asked for in UTF-16 databases too; SQLite then adapts its own
        stand_ins.add(name)
        connection.create_collation(name, _compare)

    return needed


def _compare(one: str, other: str) -> int:
    return (one > other) - (one < other)
