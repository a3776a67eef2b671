"""Finds out who holds locks on a database file, without taking any."""

from __future__ import annotations

import errno
import os
import struct
import sys
from pathlib import Path

_SHARED_FIRST, _SHARED_BYTES = 0x40000002, 510
"""The bytes that SQLite's readers share and a writer to the file has alone
(https://www.sqlite.org/lockingv3.html)."""

_ATTACHED = 128
"""The byte of a log's index that every connection to the database has a share in."""


def exclusively_locked(descriptor: int) -> bool:
    """Tell whether another process may be writing to a database: it holds the EXCLUSIVE lock.

    Asking takes no lock. Locks of this process do not count.
    """
    return _is_locked(descriptor, _SHARED_FIRST, _SHARED_BYTES, "F_RDLCK")


def is_attached(descriptor: int) -> bool:
    """Tell from a log's index (the ``-shm`` file) whether another process has the database open."""
    return _is_locked(descriptor, _ATTACHED, 1, "F_WRLCK")


def _is_locked(descriptor: int, start: int, length: int, kind: str) -> bool:
    """Whether another process holds a lock that such a lock would have to wait for."""
    import fcntl

    wanted = getattr(fcntl, kind)
    # struct flock, see fcntl(2): type, whence, start, length, process.
    if sys.platform == "darwin":
        asked = struct.pack("@qqihh", start, length, 0, wanted, 0)
        answer = fcntl.fcntl(descriptor, fcntl.F_GETLK, asked)
        return struct.unpack("@qqihh", answer)[3] != fcntl.F_UNLCK
    asked = struct.pack("@hhqqi4x", wanted, 0, start, length, 0)
    try:
        answer = fcntl.fcntl(descriptor, fcntl.F_GETLK, asked)
    except OSError as error:
        if error.errno in (errno.ENOLCK, errno.EINVAL, errno.EOPNOTSUPP):
            return False  # a file system without locks: SQLite has none there either
        raise
    return int(struct.unpack("@hhqqi4x", answer)[0]) != fcntl.F_UNLCK


def describe_holders(path: Path) -> str:
    """Name the other processes that hold a lock on the file, as in ``harbour-desk (pid 71)``.

    Empty where none is known. Reads the kernel's lock table only (Linux); the file is not opened.
    """
    return ", ".join(f"{_process_name(pid)} (pid {pid})" for pid in _holders(path))


def _holders(path: Path) -> list[int]:
    try:
        info = path.stat()
        lines = Path("/proc/locks").read_text("ascii", "replace").splitlines()
    except OSError:
        return []
    # A line: "1: POSIX  ADVISORY  WRITE 1234 08:01:5678 1073741824 1073742335"
    file = f"{os.major(info.st_dev):02x}:{os.minor(info.st_dev):02x}:{info.st_ino}"
    fields = [line.split() for line in lines]
    pids = {int(f[4]) for f in fields if len(f) == 8 and f[5] == file and f[4].isdigit()}
    return sorted(pids - {os.getpid(), 0})


def _process_name(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/comm").read_text("utf-8", "replace").strip() or "a process"
    except OSError:
        return "a process"
