"""Names that one process has at a time, until it ends in whatever way."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path


@contextmanager
def held(path: Path) -> Iterator[None]:
    """Hold a lock file while the block runs, waiting for others; without it where none can be made,
    as in a home that is read-only."""
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError:
        yield
        return
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX)
        yield
    finally:
        os.close(descriptor)


class Claim:
    """A lock file that this process holds; the system lets go of it when the process ends."""

    def __init__(self, path: Path, descriptor: int) -> None:
        self._path = path
        self._descriptor = descriptor

    @classmethod
    def on(cls, path: Path) -> Claim | None:
        """Claim a name; None where somebody has it, also within this process.

        Raises:
            OSError: no file can be made there.
        """
        while True:
            descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                ours = os.fstat(descriptor)
                with suppress(FileNotFoundError):
                    if os.path.samestat(ours, path.stat()):
                        return cls(path, descriptor)
            except BlockingIOError:
                os.close(descriptor)
                return None
            except BaseException:
                os.close(descriptor)
                raise
            os.close(descriptor)  # who had it removed the file in this very moment

    def release(self) -> None:
        """Let go of the name."""
        with suppress(OSError):
            self._path.unlink()
        os.close(self._descriptor)
