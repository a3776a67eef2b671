"""Opens a target with the engine that fits it. Engines are imported only when used."""

from __future__ import annotations

import os
from importlib import import_module
from pathlib import Path
from typing import cast

from jondel.core.engines.pages import PageSource
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetUnavailable

_ENGINE_OF_SCHEME = {"file": "jondel.core.engines.sqlite.database"}


def open_database(target: str | os.PathLike[str]) -> Database:
    """Open a path (or ``file:`` path) for looking; nothing about it is changed.

    Raises:
        TargetError: it cannot be used; the message says why and what to do.
    """
    scheme, path = _split(os.fspath(target))
    return cast(Database, import_module(_ENGINE_OF_SCHEME[scheme]).open_live(Path(path)))


def location_of(target: str | os.PathLike[str]) -> str:
    """What ``Database.location`` will say of a target, without opening it."""
    _, path = _split(os.fspath(target))
    return str(Path(path).expanduser().resolve())


def open_image(path: Path, *, location: str) -> Database:
    """Open a file that holds a whole image of the database at ``location``."""
    module = import_module(_ENGINE_OF_SCHEME["file"])
    return cast(Database, module.open_image(path, location=location))


def open_pages(pages: PageSource, *, location: str) -> Database:
    """Open captured pages of the database at ``location``; closing it closes them too."""
    module = import_module("jondel.core.engines.sqlite.image")
    return cast(Database, module.open_pages(pages, location))


def _split(target: str) -> tuple[str, str]:
    scheme, separator, rest = target.partition("://")
    if not separator or os.path.exists(target):
        return "file", target
    if scheme not in _ENGINE_OF_SCHEME:
        raise TargetUnavailable(
            f"{target}: Jondel cannot open {scheme}:// addresses; give the path of a SQLite file"
        )
    return scheme, rest
