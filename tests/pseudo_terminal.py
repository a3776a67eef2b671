"""Runs the ``jondel`` command with a terminal as its output."""

from __future__ import annotations

import os
import pty
import subprocess
import sys
from pathlib import Path


def on_a_terminal(*arguments: str | Path) -> bytes:
    """All bytes that the command writes to the terminal, to its error stream too."""
    ours, theirs = pty.openpty()
    with subprocess.Popen(
        [sys.executable, "-m", "jondel", *map(str, arguments)],
        stdin=subprocess.DEVNULL,
        stdout=theirs,
        stderr=theirs,
    ):
        os.close(theirs)
        output = bytearray()
        try:
            while part := os.read(ours, 65536):
                output += part
        except OSError:
            pass  # that is how a terminal ends
    os.close(ours)
    return bytes(output)
