"""Finds databases in a project's folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from jondel.core.engines.registry import is_database
from jondel.core.errors import TargetNotFound
from jondel.core.files.home import jondel_home

_SMALLEST = 512
_SKIPPED_FOLDERS = frozenset(
    {".git", ".hg", "node_modules", "__pycache__", ".venv", "venv", ".tox", ".nox", ".hypothesis"}
)
_MOST_FOLDERS = 20_000
_CATALOGUE = "catalogue.db"


def may_be_the_projects(folder: str) -> bool:
    """Whether a folder of this name may hold databases of the project, and not its tools'."""
    is_cache = folder.startswith(".") and "cache" in folder.casefold()
    return folder not in _SKIPPED_FOLDERS and not is_cache


def files_in(folder: Path, endings: tuple[str, ...]) -> list[Path]:
    """The files in a project whose names end so, in small letters; those changed last first."""
    found: list[tuple[float, Path]] = []
    for visited, (where, folders, files) in enumerate(os.walk(folder)):
        if visited > _MOST_FOLDERS:
            break
        folders[:] = sorted(filter(may_be_the_projects, folders))
        for name in files:
            if name.lower().endswith(endings):
                path = Path(where, name)
                with suppress(OSError):
                    found.append((path.stat().st_mtime, path))
    return [path for _, path in sorted(found, key=lambda entry: -entry[0])]


@dataclass(frozen=True)
class Found:
    """A database file, its size in bytes and when it was last written (seconds)."""

    path: Path
    size: int
    written_at: float


def find_in(folder: Path) -> list[Found]:
    """List the database files below a folder, the most recently written first.

    Files are recognised by their first bytes. Those that Jondel keeps itself are left out.

    Raises:
        TargetNotFound: the folder is not there.
    """
    if not folder.is_dir():
        raise TargetNotFound(f"{folder}: no such folder; check the path")
    return sorted(
        _candidates(folder, os.path.realpath(jondel_home())),
        key=lambda candidate: -candidate.written_at,
    )


def _is_store(folder: str, names: list[str]) -> bool:
    """Whether a folder is a store of snapshots, wherever it was moved to."""
    if _CATALOGUE not in names:
        return False
    with suppress(OSError), os.scandir(os.path.join(folder, "images")) as shelves:
        return any(os.path.isdir(os.path.join(shelf.path, "manifests")) for shelf in shelves)
    return False


def _candidates(folder: Path, home: str) -> Iterator[Found]:
    visited = 0
    for where, folders, files in os.walk(folder):
        visited += 1
        if visited > _MOST_FOLDERS:
            return
        folders[:] = sorted(filter(may_be_the_projects, folders))
        if os.path.realpath(where) == home or _is_store(where, files):
            folders.clear()
            continue
        for name in files:
            path = Path(where, name)
            try:
                if path.is_symlink() or not path.is_file():
                    continue
                info = path.stat()
                if info.st_size < _SMALLEST or not os.access(path, os.R_OK):
                    continue
            except OSError:
                continue
            if not is_database(path):
                continue
            yield Found(path, info.st_size, info.st_mtime)
