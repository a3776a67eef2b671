"""Opens a target with the engine that fits it. Engines are imported only when used."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import cast

from jondel.core.engines.pages import PagePeek, PageSource
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetNotFound, TargetUnavailable

_ENGINE_OF_SCHEME = {"file": "jondel.core.engines.sqlite.database"}


def open_database(target: str | os.PathLike[str], *, lock: bool = False) -> Database:
    """Open a path (or ``file:`` path) for looking; nothing about it is changed.

    ``lock``: see ``Database.lock``.

    Raises:
        TargetError: it cannot be used; the message says why and what to do.
    """
    scheme, path = _split(os.fspath(target))
    return cast(Database, import_module(_ENGINE_OF_SCHEME[scheme]).open_live(Path(path), lock=lock))


def location_of(target: str | os.PathLike[str]) -> str:
    """What ``Database.location`` will say of a target, without opening it."""
    _, path = _split(os.fspath(target))
    try:
        return str(Path(path).expanduser().resolve())
    except (OSError, RuntimeError, ValueError) as error:
        raise TargetNotFound(f"{path}: cannot be reached ({error}); check the path") from None


def files_of(location: str) -> list[Path]:
    """The files that a database at a location may have, the main one first."""
    path = Path(location)
    module = import_module("jondel.core.engines.sqlite.file_names")
    return [path, *(path.with_name(path.name + ending) for ending in module.COMPANIONS)]


def captures_quickly(location: str) -> bool:
    """Whether capturing the database at a location is cheap enough to be done unasked."""
    module = import_module("jondel.core.engines.sqlite.file_names")
    return cast(bool, module.captures_quickly(Path(location)))


def is_database(path: Path) -> bool:
    """Whether the first bytes of a file are those of a database; False where it cannot be read."""
    module = import_module("jondel.core.engines.sqlite.connection")
    return cast(bool, module.is_database(path))


def open_image(path: Path, *, location: str) -> Database:
    """Open a file that holds a whole image of the database at ``location``."""
    module = import_module(_ENGINE_OF_SCHEME["file"])
    return cast(Database, module.open_image(path, location=location))


def open_pages(pages: PageSource, *, location: str) -> Database:
    """Open captured pages of the database at ``location``; closing it closes them too."""
    module = import_module("jondel.core.engines.sqlite.image")
    return cast(Database, module.open_pages(pages, location))


def write_file(pages: PageSource, path: Path, go_on: Callable[[], None]) -> None:
    """Write captured pages out as a database file, which must not be there yet.

    Raises:
        TargetUnavailable: something is there, or it cannot be written.
    """
    module = import_module("jondel.core.engines.sqlite.whole_file")
    module.write_new_file(pages, path, go_on)


def likeness(location: str, state: PagePeek) -> float:
    """How much of a file (0 to 1) is what a captured state holds; 0 where it cannot be read."""
    module = import_module("jondel.core.engines.sqlite.whole_file")
    return cast(float, module.likeness(Path(location), state))


def put_in_place(pages: PageSource, location: str) -> Path | None:
    """Make captured pages the database at a location, whatever lies there.

    Returns under which name that is kept aside; None where there was nothing.

    Raises:
        TargetLocked: another process holds what lies there.
        TargetUnavailable: it cannot be written.
    """
    module = import_module("jondel.core.engines.sqlite.whole_file")
    return cast("Path | None", module.put_in_place(pages, Path(location)))


_SQLITE = re.compile(r"sqlite3?(\+\w+)?")


def _path_of_url(url: str, rest: str) -> str:
    """The path in ``sqlite:///path`` (from here) or ``sqlite:////path`` (from the root)."""
    path = rest.removeprefix("/")
    if not os.path.exists(path):
        path = path.partition("?")[0]  # options, as some frameworks write them
    if not rest.startswith("/") or path in ("", ":memory:"):
        raise TargetUnavailable(
            f"{url}: names no file; give a path, as in sqlite:///app.db or sqlite:////home/me/app.db"
        )
    return path


def _split(target: str) -> tuple[str, str]:
    scheme, separator, rest = target.partition("://")
    if not separator or os.path.exists(target):
        return "file", target
    if _SQLITE.fullmatch(scheme):
        return "file", _path_of_url(target, rest)
    if scheme not in _ENGINE_OF_SCHEME:
        raise TargetUnavailable(
            f"{target}: Jondel cannot open {scheme}:// addresses; give the path of a SQLite file"
        )
    return scheme, rest
