"""Runs an action's command."""

from __future__ import annotations

import os
import signal
import subprocess
import threading
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO

from jondel.core.errors import ActionFailed

KEPT_BYTES = 64 << 10
"""Of what a command prints, so much of its beginning and of its end is kept."""
_GRACE_SECONDS = 2.0
_LOOK_SECONDS = 0.02


class CommandResult:
    """How a command ended: its exit status, as a shell gives it, and what it printed."""

    def __init__(self, status: int, output: str, stopped: str) -> None:
        self.status = status
        self.output = output
        self.stopped = stopped
        """Why it was stopped before its end; empty where it was not."""


def run_command(
    words: Sequence[str],
    folder: Path,
    environment: Mapping[str, str],
    timeout: float,
    cancelled: threading.Event,
) -> CommandResult:
    """Run a command to its end, or until its time is over or somebody cancels it.

    What it prints on both of its outputs is kept in the order in which it came. Its input is empty.

    Raises:
        ActionFailed: it cannot be run.
    """
    try:
        running = subprocess.Popen(
            words,
            cwd=folder,
            env=dict(environment),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,  # so that what it starts itself can be stopped with it
        )
    except OSError as error:
        if not folder.is_dir():
            raise ActionFailed(f"{folder}: there is no such folder to run it in") from error
        raise ActionFailed(f"{words[0]}: cannot be run ({error.strerror})") from error
    except ValueError as error:  # a NUL among the words
        raise ActionFailed(f"{words[0]!r}: cannot be run ({error})") from error
    assert running.stdout is not None
    kept = _Kept(running.stdout)
    reading = threading.Thread(target=kept.read, daemon=True)
    reading.start()
    ends = time.monotonic() + timeout
    stopped = ""
    while running.poll() is None and not stopped:
        with suppress(subprocess.TimeoutExpired):
            running.wait(_LOOK_SECONDS)
            break
        if cancelled.is_set():
            stopped = "it was stopped"
        elif time.monotonic() > ends:
            stopped = f"it did not end within {timeout:g} seconds, and was stopped"
    if stopped:
        _stop(running)
    # What it left running in the background may hold its output open for good.
    reading.join(_GRACE_SECONDS if not stopped else _LOOK_SECONDS)
    status = running.wait()
    return CommandResult(128 - status if status < 0 else status, kept.text, stopped)


def _stop(running: subprocess.Popen[bytes]) -> None:
    """Ask a command and all it started to end, and kill what does not."""
    for number in (signal.SIGTERM, signal.SIGKILL):
        with suppress(ProcessLookupError, PermissionError):
            os.killpg(running.pid, number)
        with suppress(subprocess.TimeoutExpired):
            running.wait(_GRACE_SECONDS)
            if number == signal.SIGTERM:
                continue  # others of its group may be there yet
            return


class _Kept:
    """The beginning and the end of what a command prints."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream
        self._begin = bytearray()
        self._end = bytearray()
        self._left_out = 0

    def read(self) -> None:
        with suppress(OSError, ValueError):
            while part := os.read(self._stream.fileno(), 1 << 16):
                room = KEPT_BYTES - len(self._begin)
                self._begin += part[:room]
                self._end += part[room:] if room < len(part) else b""
                over = len(self._end) - KEPT_BYTES
                if over > 0:
                    del self._end[:over]
                    self._left_out += over
            self._stream.close()

    @property
    def text(self) -> str:
        begin, end = bytes(self._begin), bytes(self._end)
        if self._left_out:
            left = f"\n… {self._left_out} bytes left out …\n".encode()
            return (begin + left + end).decode("utf-8", "replace")
        return (begin + end).decode("utf-8", "replace")
