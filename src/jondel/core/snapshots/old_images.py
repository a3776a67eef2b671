"""Whole-file images, as the first format of the store kept them; they can be read, not made."""

from __future__ import annotations

from pathlib import Path

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_image
from jondel.core.errors import JondelError, StoreUnavailable

_SUFFIX = ".image"


def is_old_image(name: str) -> bool:
    return name.endswith(_SUFFIX)


def open_old_image(folder: Path, name: str, *, location: str) -> Database:
    """Open an image as a database.

    Raises:
        StoreUnavailable: it is missing or damaged.
    """
    try:
        return open_image(folder / name, location=location)
    except JondelError as error:
        raise StoreUnavailable(f"the snapshot's image cannot be opened: {error}") from error


def keep_only_old_images(folder: Path, names: set[str]) -> None:
    """Remove all images but these."""
    for path in folder.glob(f"*{_SUFFIX}"):
        if path.name not in names:
            path.unlink(missing_ok=True)
