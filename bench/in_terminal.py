"""Runs a command in a terminal of its own, types into it and times what it writes."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import signal
import struct
import sys
import termios
import time
from collections.abc import Sequence
from types import TracebackType

_LINES, _COLUMNS = 47, 160
_LONGEST_SECONDS = 60.0
_QUIET_SECONDS = 0.03


class Terminal:
    """A command in a terminal of 160×47 cells."""

    def __init__(self, command: Sequence[str], environment: dict[str, str]) -> None:
        self._command = command
        self.started = time.perf_counter()
        self.pid, self._terminal = pty.fork()
        if self.pid == 0:
            os.execvpe(command[0], list(command), environment)
        size = struct.pack("HHHH", _LINES, _COLUMNS, 0, 0)
        fcntl.ioctl(self._terminal, termios.TIOCSWINSZ, size)

    def __enter__(self) -> Terminal:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        os.kill(self.pid, signal.SIGKILL)
        os.close(self._terminal)
        os.waitpid(self.pid, 0)

    def seconds_until(self, words: bytes, since: float | None = None) -> float:
        """Wait for words to be written; returns how long that took from the start or since."""
        begun = self.started if since is None else since
        written = b""
        while words not in written:
            written += self._read(_LONGEST_SECONDS - (time.perf_counter() - begun), words)
        return time.perf_counter() - begun

    def press(self, key: bytes, words: bytes) -> float:
        """Press a key; returns the seconds until the frame that holds the words was written."""
        begun = time.perf_counter()
        os.write(self._terminal, key)
        self.seconds_until(words, begun)
        painted = time.perf_counter()
        while select.select([self._terminal], [], [], _QUIET_SECONDS)[0]:
            os.read(self._terminal, 1 << 16)
            painted = time.perf_counter()
        return painted - begun

    def type(self, keys: bytes) -> None:
        os.write(self._terminal, keys)

    def settle(self, seconds: float = 0.3) -> None:
        """Read until nothing has been written for a while."""
        while select.select([self._terminal], [], [], seconds)[0]:
            os.read(self._terminal, 1 << 16)

    def resident_bytes(self) -> int:
        """The memory that the command holds now."""
        with open(f"/proc/{self.pid}/statm") as file:
            return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")

    def _read(self, left: float, words: bytes) -> bytes:
        if left <= 0 or not select.select([self._terminal], [], [], left)[0]:
            sys.exit(f"{' '.join(self._command)}: {words!r} did not come in time")
        return os.read(self._terminal, 1 << 16)
