"""Has files reach the disk without anybody waiting for it."""

from __future__ import annotations

import os
from contextlib import suppress
from queue import SimpleQueue
from threading import Thread


class Syncer:
    """Syncs and closes files in a thread of its own, in the order in which they come."""

    def __init__(self, *, lasting: bool = True) -> None:
        """What is not to be ``lasting`` is closed; the system writes it when it will."""
        self._lasting = lasting
        self._files: SimpleQueue[int | None] = SimpleQueue()
        self._thread: Thread | None = None

    def sync(self, descriptor: int) -> None:
        """Take over an open file."""
        if not self._lasting:
            os.close(descriptor)
            return
        if self._thread is None:
            self._thread = Thread(target=self._run, daemon=True)
            self._thread.start()
        self._files.put(descriptor)

    def close(self) -> None:
        """Wait until every file has reached the disk."""
        if self._thread is not None:
            self._files.put(None)
            self._thread.join()
            self._thread = None

    def _run(self) -> None:
        while (descriptor := self._files.get()) is not None:
            with suppress(OSError):  # a disk that fails is found out when the pages are read
                os.fdatasync(descriptor)
            os.close(descriptor)
