"""Puts a file in the place of another, whole or not at all: the one way in which files are kept.

What is written goes into a file of its own beside the other one, and takes its name at the end. A
process that is killed leaves the old file, and perhaps an unfinished one that ``sweep_unfinished``
removes. Whether a machine that stops may bring the old one back is the caller's choice.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from itertools import count
from pathlib import Path
from typing import BinaryIO

_SUFFIX = ".unfinished"
_LONGEST_NAME = 100
_ABANDONED_SECONDS = 60
"""A file is written in far less, and each one is new."""
_numbers = count(1)


@contextmanager
def replacing(path: Path, *, mode: int = 0o600, durable: bool = False) -> Iterator[BinaryIO]:
    """Give a file to write, which stands at ``path`` once the block has ended well.

    It has the mode of the file that was there, ``mode`` where there was none. With ``durable`` its
    content and its name are on the disk then; without, the system writes them when it will.

    Raises:
        OSError: it cannot be written, or not put in place; nothing has changed then.
    """
    path = Path(os.path.realpath(path))  # a link goes on leading to it
    with unfinished_beside(path, mode=mode) as (file, unfinished):
        with suppress(FileNotFoundError):
            os.fchmod(file.fileno(), path.stat().st_mode & 0o777)
        yield file
        finish(file, durable=durable)
        unfinished.replace(path)
    if durable:
        sync_folder(path.parent)


@contextmanager
def unfinished_beside(path: Path, *, mode: int) -> Iterator[tuple[BinaryIO, Path]]:
    """Give a file beside ``path`` to write, and its name; the block may rename it.

    Where it still has that name in the end, it is removed. Raises ``OSError``.
    """
    name = f".{path.name[:_LONGEST_NAME]}.{os.getpid()}-{next(_numbers)}{_SUFFIX}"
    unfinished = path.with_name(name)
    with suppress(FileNotFoundError):
        unfinished.unlink()  # of a process that had our number
    descriptor = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
    try:
        with os.fdopen(descriptor, "wb") as file:
            yield file, unfinished
    finally:
        with suppress(OSError):
            unfinished.unlink()


def finish(file: BinaryIO, *, durable: bool) -> None:
    """Have everything that was written be in the file, and with ``durable`` on the disk."""
    file.flush()
    if durable:
        os.fsync(file.fileno())


def replace_text(path: Path, text: str, *, mode: int = 0o600, durable: bool = False) -> None:
    """Have a file hold a text; see ``replacing``."""
    with replacing(path, mode=mode, durable=durable) as file:
        file.write(text.encode("utf-8"))


def sweep_unfinished(folder: Path) -> None:
    """Remove what killed processes left; the caller sees to it that none is writing there."""
    for path in folder.glob(f"*{_SUFFIX}"):
        path.unlink(missing_ok=True)
    for path in folder.glob(f".*{_SUFFIX}"):
        path.unlink(missing_ok=True)


def sweep_abandoned(folder: Path) -> None:
    """Remove what killed processes left, where others may be writing: only what is so old that
    nobody can be at it still."""
    long_ago = time.time() - _ABANDONED_SECONDS
    with suppress(OSError):
        for path in folder.glob(f".*{_SUFFIX}"):
            with suppress(OSError):
                if path.stat().st_mtime < long_ago:
                    path.unlink()


def sync_folder(folder: Path) -> None:
    """Have the names in a folder be on the disk, where its file system can do that."""
    with suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
