"""Plain descriptors of the files of a database, closed so that no lock of this process is lost.

On POSIX, closing any descriptor of a file drops every lock that the process holds on it, those of
SQLite's own connections included. Looking holds none; only while something is written is there a
connection with locks. So descriptors of a database file are closed by ``close_safely``, which
waits for the end of every ``writing`` block. SQLite never locks a log or a journal: those need no
such care.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_lock = threading.Lock()
_writers = 0
_to_close: list[int] = []


@contextmanager
def writing() -> Iterator[None]:
    """Have no descriptor closed while the block runs, in which SQLite may hold locks."""
    global _writers
    with _lock:
        _writers += 1
    try:
        yield
    finally:
        with _lock:
            _writers -= 1
            if not _writers:
                for descriptor in _to_close:
                    os.close(descriptor)
                _to_close.clear()


def close_safely(descriptor: int) -> None:
    """Close a descriptor of a database file now, or as soon as nothing is being written."""
    with _lock:
        if _writers:
            _to_close.append(descriptor)
        else:
            os.close(descriptor)


class PlainFile:
    """A file read by its descriptor; of one that is a database, see ``close_safely``."""

    def __init__(self, path: Path) -> None:
        """Open it. Raises ``OSError``."""
        self.descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)

    def size(self) -> int:
        return os.fstat(self.descriptor).st_size

    def read(self, offset: int, amount: int) -> bytes:
        """Up to ``amount`` bytes; fewer only at the end of the file."""
        data = os.pread(self.descriptor, amount, offset)
        if len(data) in (0, amount):
            return data
        parts = [data]  # the system gives at most 2 GB at once
        got = len(data)
        while got < amount and (data := os.pread(self.descriptor, amount - got, offset + got)):
            parts.append(data)
            got += len(data)
        return b"".join(parts)

    def close(self) -> None:
        close_safely(self.descriptor)
