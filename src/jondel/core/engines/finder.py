"""Finds databases in a project's folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from jondel.core.engines.sqlite.connection import read_header
from jondel.core.errors import JondelError, TargetNotFound

_MAGIC = b"SQLite format 3\x00"
_SMALLEST = 512
_SKIPPED_FOLDERS = frozenset({".git", ".hg", "node_modules", "__pycache__", ".venv", "venv"})
_MOST_FOLDERS = 20_000


@dataclass(frozen=True)
class Found:
    """A database file, its size in bytes and when it was last written (seconds)."""

    path: Path
    size: int
    written_at: float


def find_in(folder: Path) -> list[Found]:
    """List the SQLite files below a folder, the most recently written first.

    Files are recognised by their first bytes, which are read through SQLite's own file layer so
    that no lock on a database open in this process is lost.

    Raises:
        TargetNotFound: the folder is not there.
    """
    if not folder.is_dir():
        raise TargetNotFound(f"{folder}: no such folder; check the path")
    return sorted(_candidates(folder), key=lambda found: -found.written_at)


def _candidates(folder: Path) -> Iterator[Found]:
    visited = 0
    for where, folders, files in os.walk(folder):
        visited += 1
        if visited > _MOST_FOLDERS:
            return
        folders[:] = sorted(name for name in folders if name not in _SKIPPED_FOLDERS)
        for name in files:
            path = Path(where, name)
            try:
                if path.is_symlink() or not path.is_file():
                    continue
                info = path.stat()
                if info.st_size < _SMALLEST or not os.access(path, os.R_OK):
                    continue
                if not read_header(path).startswith(_MAGIC):
                    continue
            except (OSError, JondelError, UnicodeEncodeError):
                continue
            yield Found(path, info.st_size, info.st_mtime)
