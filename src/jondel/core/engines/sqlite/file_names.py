"""What the companions of a database file go by, also where the file has several names."""

from __future__ import annotations

import errno
import os
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

_WAL, _SHM, _JOURNAL = "-wal", "-shm", "-journal"
COMPANIONS = (_WAL, _SHM, _JOURNAL)
"""What the names of the files end in that SQLite keeps beside a database."""
_QUICKLY_READ_BYTES = 2 * 1024 * 1024 * 1024


def captures_quickly(path: Path) -> bool:
    """Whether capturing a database is cheap enough to be done without being asked.

    What it costs follows the change where a log tells what changed; else all is read.
    """
    try:
        size = path.stat().st_size
    except OSError:
        return False
    return size <= _QUICKLY_READ_BYTES or path.with_name(path.name + _WAL).exists()


class Companions(NamedTuple):
    """The log and the journal of a database, wherever these may be.

    ``name`` is the name of the file that they go by: ``own`` says that it is the one it was
    opened by, and not that of another hard link to it.
    """

    name: Path
    own: bool = True

    @property
    def wal(self) -> Path:
        return self.name.with_name(self.name.name + _WAL)

    @property
    def shm(self) -> Path:
        return self.name.with_name(self.name.name + _SHM)

    @property
    def journal(self) -> Path:
        return self.name.with_name(self.name.name + _JOURNAL)

    @property
    def present(self) -> bool:
        return stat_of(self.wal) is not None or stat_of(self.journal) is not None


def stat_of(path: Path) -> os.stat_result | None:
    """What is at a path; None where nothing is, or nothing can be for the length of its name."""
    try:
        return path.stat()
    except OSError as error:
        if error.errno in (errno.ENOENT, errno.ENAMETOOLONG):
            return None
        raise


def companions_of(path: Path) -> Companions:
    """The companions of a file; of one with several names, those of the name that has some.

    An app writes to the companions of the name that it opened, and to no others.
    """
    own = Companions(path)
    info = path.stat()
    if info.st_nlink < 2 or own.present:
        return own
    for name in _other_names(path, info):
        other = Companions(name, own=False)
        if other.present:
            return other
    return own


def has_unknown_names(path: Path) -> bool:
    """Whether a file has hard links beyond those in its own folder."""
    info = path.stat()
    return info.st_nlink > 1 + len(_names_beside(path, info))


def _other_names(path: Path, info: os.stat_result) -> list[Path]:
    paths = _names_beside(path, info)
    if info.st_nlink > 1 + len(paths):
        paths += [name for name in _names_in_use(info) if name != path and name not in paths]
    return paths


def _names_beside(path: Path, info: os.stat_result) -> list[Path]:
    """The file's other names in its own folder."""
    paths = []
    with suppress(OSError), os.scandir(path.parent) as entries:
        for entry in entries:
            if entry.name != path.name and entry.inode() == info.st_ino:
                with suppress(OSError):
                    if os.path.samestat(entry.stat(), info):
                        paths.append(path.with_name(entry.name))
    return paths


def _names_in_use(info: os.stat_result) -> list[Path]:
    """The names by which processes have the file open, where the system tells (Linux)."""
    paths: list[Path] = []
    with suppress(OSError):
        for process in os.scandir("/proc"):
            if not process.name.isdecimal() or int(process.name) == os.getpid():
                continue
            with suppress(OSError), os.scandir(f"/proc/{process.name}/fd") as descriptors:
                for descriptor in descriptors:
                    with suppress(OSError):
                        if os.path.samestat(descriptor.stat(), info):
                            name = Path(os.readlink(descriptor.path))
                            if name not in paths:
                                paths.append(name)
    return paths
