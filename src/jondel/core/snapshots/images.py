"""Whole images of databases, each kept once and named by its content."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_image
from jondel.core.errors import JondelError, StoreUnavailable
from jondel.core.snapshots.home import private_folder

_CHUNK_BYTES = 1 << 20
_UNFINISHED = "unfinished-"
_SWEPT_AFTER_SECONDS = 6 * 3600


class ImageFolder:
    """A folder of images. Two captures with nothing committed in between are one image."""

    def __init__(self, folder: Path) -> None:
        self._folder = private_folder(folder)

    def capture(self, database: Database) -> str:
        """Take an image of the database as it is now and return its name.

        A crash at any instant leaves at most an unfinished file that nothing refers to.
        """
        with self._explained(), self._written(database) as (unfinished, name):
            unfinished.rename(self._folder / name)
            _sync_folder(self._folder)
        return name

    @contextmanager
    def passing(self, database: Database) -> Iterator[tuple[str, str]]:
        """Take an image that is gone afterwards.

        Gives the name to open it by, and the name that ``capture`` would have given it.
        """
        with self._explained():
            written = self._written(database)
            unfinished, name = written.__enter__()
        try:
            yield unfinished.name, name
        finally:
            written.__exit__(None, None, None)

    def open(self, name: str, *, location: str) -> Database:
        """Open an image as a database.

        Raises:
            StoreUnavailable: the image is missing or damaged.
        """
        try:
            return open_image(self._folder / name, location=location)
        except JondelError as error:
            raise StoreUnavailable(f"the snapshot's image cannot be opened: {error}") from error

    def discard(self, name: str) -> None:
        """Remove an image that nothing refers to any more."""
        (self._folder / name).unlink(missing_ok=True)

    @contextmanager
    def _written(self, database: Database) -> Iterator[tuple[Path, str]]:
        self._sweep()
        unfinished = self._folder / f"{_UNFINISHED}{os.urandom(8).hex()}"
        try:
            previous = os.umask(0o077)
            try:
                database.capture(unfinished)
            finally:
                os.umask(previous)
            yield unfinished, _digest_and_sync(unfinished)
        finally:
            unfinished.unlink(missing_ok=True)

    def _sweep(self) -> None:
        """Remove what a crash left long ago."""
        for path in self._folder.glob(f"{_UNFINISHED}*"):
            with suppress(FileNotFoundError):
                if time.time() - path.stat().st_mtime > _SWEPT_AFTER_SECONDS:
                    path.unlink()

    @contextmanager
    def _explained(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise StoreUnavailable(
                f"{self._folder}: the snapshot could not be kept ({error.strerror}); "
                "make room or set JONDEL_HOME to another folder"
            ) from error


def _digest_and_sync(path: Path) -> str:
    import xxhash

    digest = xxhash.xxh3_128()
    with path.open("rb") as file:
        while chunk := file.read(_CHUNK_BYTES):
            digest.update(chunk)
        os.fsync(file.fileno())
    return f"{digest.hexdigest()}.image"


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
