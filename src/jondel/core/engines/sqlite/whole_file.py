"""Writes a captured state out as a database file."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path
from typing import BinaryIO

import apsw
from xxhash import xxh3_128_digest

from jondel.core.engines.pages import PagePeek, PageSource
from jondel.core.engines.sqlite.committed_state import HEADER_SIZE, extent
from jondel.core.engines.sqlite.descriptors import PlainFile
from jondel.core.engines.sqlite.error_translation import locked_message
from jondel.core.engines.sqlite.file_names import Companions
from jondel.core.engines.sqlite.lock_holders import describe_holders
from jondel.core.errors import TargetLocked, TargetUnavailable
from jondel.core.files.replacement import finish, sync_folder, unfinished_beside

_PAGES_AT_ONCE, _SAMPLED_PAGES = 256, 64


def write_new_file(pages: PageSource, path: Path, go_on: Callable[[], None]) -> None:
    """Write a state to a file that must not be there yet; it is there whole or not at all.

    ``go_on`` is called again and again, and may raise what is to stop it.

    Raises:
        TargetUnavailable: something is there, or it cannot be written.
    """
    try:
        with unfinished_beside(path, mode=0o600) as (file, unfinished):
            _write(pages, file, go_on)
            os.link(unfinished, path)  # unlike a renaming, never over another file
    except FileExistsError:
        raise TargetUnavailable(f"{path}: there is a file already; give another name") from None
    except OSError as error:
        raise TargetUnavailable(f"{path}: cannot be written ({error.strerror})") from error


def likeness(path: Path, state: PagePeek) -> float:
    """How much of a file is what a captured state holds, by a sample of its pages."""
    import numpy as np  # slow to load, and seldom needed

    try:
        file = PlainFile(path)
    except OSError:
        return 0.0
    try:
        size, count = extent(file.read(0, HEADER_SIZE), file.size())
        if size != state.page_size or not count:
            return 0.0
        sample = np.unique(np.linspace(0, count - 1, _SAMPLED_PAGES).astype(np.intp))
        same = total = 0
        for index in sample.tolist():
            page = file.read(index * size, size)
            if not page.strip(b"\0"):
                continue  # they are all alike
            total += 1
            hashes = state.hashes(np.array([index], np.intp))
            same += hashes is not None and xxh3_128_digest(page) == hashes[0].tobytes()
        return same / total if total else 0.0
    except OSError:
        return 0.0
    finally:
        file.close()


def make_empty(path: Path) -> None:
    """Make a database in which there is nothing yet.

    Raises:
        TargetUnavailable: something is there, or it cannot be made.
    """
    if os.path.lexists(path):
        raise TargetUnavailable(f"{path}: something is there already")
    try:
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute("VACUUM")  # a file without any page is not one yet
    except apsw.Error as error:
        raise TargetUnavailable(f"{path}: cannot be made ({error})") from error


def put_in_place(pages: PageSource, path: Path) -> Path | None:
    """Make a state the database at a path, whatever lies there.

    What lay there is kept aside with its companions, under the name that is returned; None where
    there was nothing.

    Raises:
        TargetLocked: another process holds what lies there.
        TargetUnavailable: it cannot be written.
    """
    if describe_holders(path):
        raise TargetLocked(locked_message(path))
    mode = 0o666
    with suppress(OSError):
        mode = path.stat().st_mode & 0o777 if path.is_file() else mode
    try:
        with unfinished_beside(path, mode=mode) as (file, unfinished):
            _write(pages, file)
            aside = _moved_aside(path)
            unfinished.rename(path)
    except OSError as error:
        raise TargetUnavailable(f"{path}: cannot be replaced ({error.strerror})") from error
    sync_folder(path.parent)
    return aside


def _write(pages: PageSource, file: BinaryIO, go_on: Callable[[], None] = lambda: None) -> None:
    for first in range(0, pages.page_count, _PAGES_AT_ONCE):
        go_on()
        last = min(pages.page_count, first + _PAGES_AT_ONCE)
        file.write(b"".join([pages.read(index) for index in range(first, last)]))
    finish(file, durable=True)


def _moved_aside(path: Path) -> Path | None:
    """Rename what is at a path and its companions; a log must not meet another file."""
    ours = Companions(path)
    present = [p for p in (path, ours.wal, ours.shm, ours.journal) if os.path.lexists(p)]
    if not present:
        return None
    stamp = time.strftime("%Y%m%d-%H%M%S")
    number, aside = 1, path.with_name(f"{path.name}.replaced-{stamp}")
    while os.path.lexists(aside):
        number += 1
        aside = path.with_name(f"{path.name}.replaced-{stamp}-{number}")
    for companion in present:
        companion.rename(aside.with_name(aside.name + companion.name[len(path.name) :]))
    return aside
