"""Finds which processes hold locks on a file, where the system tells (Linux)."""

from __future__ import annotations

import os
from pathlib import Path


def describe_holders(path: Path) -> str:
    """Name the other processes that hold a lock on the file, as in ``harbour-desk (pid 71)``.

    Empty where none is known. Reads the kernel's lock table only; the file is not opened.
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
