"""Opens a target with the engine that fits it. Engines are imported only when used."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, cast

from jondel.core.engines.pages import PagePeek, PageSource
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetNotFound, TargetUnavailable

if TYPE_CHECKING:
    from types import ModuleType

    from jondel.core.engines.server_addresses import ServerAddress
    from jondel.core.engines.server_report import ServerReport
    from jondel.core.sql.dialect import Dialect

_SQLITE_MODULE = "jondel.core.engines.sqlite.database"
_SERVERS = {"postgresql": "jondel.core.engines.postgresql.address"}
"""By scheme, the module that knows a server's addresses and opens them."""
_DIALECTS = {"postgresql": "jondel.core.engines.postgresql.dialect"}
_EXAMINERS = {"postgresql": "jondel.core.engines.postgresql.examining"}
"""The same for trying connections out."""


def open_database(target: str | os.PathLike[str], *, lock: bool = False) -> Database:
    """Open a path (or ``file:`` path) for looking; nothing about it is changed.

    ``lock``: see ``Database.lock``.

    Raises:
        TargetError: it cannot be used; the message says why and what to do.
    """
    words = os.fspath(target)
    server = _server_of(words)
    if server is not None:
        return cast(Database, import_module(server).open_at(words))
    path = _path_of(words)
    return cast(Database, import_module(_SQLITE_MODULE).open_live(Path(path), lock=lock))


def location_of(target: str | os.PathLike[str]) -> str:
    """What ``Database.location`` will say of a target, without opening it."""
    address = server_address(target)
    if address is not None:
        return address.location
    path = _path_of(os.fspath(target))
    try:
        return str(Path(path).expanduser().resolve())
    except (OSError, RuntimeError, ValueError) as error:
        raise TargetNotFound(f"{path}: cannot be reached ({error}); check the path") from None


def server_address(target: str | os.PathLike[str]) -> ServerAddress | None:
    """Which server and database a target names; None where it is a file.

    Raises:
        TargetUnavailable: it is a URL that cannot be understood.
    """
    words = os.fspath(target)
    server = _server_of(words)
    return cast("ServerAddress", import_module(server).address_of(words)) if server else None


def examine(target: str | os.PathLike[str]) -> ServerReport:
    """Try a connection out.

    Raises:
        TargetError: it cannot be had; the message says why and what to do.
    """
    return cast("ServerReport", _of_server(target).examine(os.fspath(target)))


def databases_beside(target: str | os.PathLike[str]) -> tuple[str, ...]:
    """The databases of the same server. Raises ``TargetError``."""
    return cast("tuple[str, ...]", _of_server(target).databases_at(os.fspath(target)))


def create_database(target: str | os.PathLike[str]) -> None:
    """Make a database that is not there yet: an empty file, or one on a server.

    Raises:
        TargetError: it is there, or cannot be made.
    """
    if _server_of(os.fspath(target)) is not None:
        _of_server(target).create_database(os.fspath(target))
        return
    import_module("jondel.core.engines.sqlite.whole_file").make_empty(Path(location_of(target)))


def require_driver(target: str | os.PathLike[str]) -> None:
    """Raise ``TargetUnavailable`` where what a server is reached by is not installed."""
    server = _server_of(os.fspath(target))
    if server is not None:
        import_module(server).require_driver(os.fspath(target))


def _of_server(target: str | os.PathLike[str]) -> ModuleType:
    server = _server_of(os.fspath(target))
    if server is None:
        raise TargetUnavailable(f"{target}: this is a file; only a server is connected to")
    import_module(server).require_driver(os.fspath(target))
    return import_module(_EXAMINERS[_scheme_of(os.fspath(target))])


def other_host(target: str | os.PathLike[str]) -> str:
    """The machine that a database is on, where that is not this one; else nothing."""
    address = server_address(target)
    return "" if address is None or address.is_local else address.host


def is_on_server(location: str) -> bool:
    """Whether a database at a location is one that a server has."""
    return location.partition("://")[0] in _SERVERS and "://" in location


def is_there(location: str) -> bool:
    """Whether there may be a database at a location: a server's is asked when it is opened."""
    return is_on_server(location) or os.path.lexists(location)


def name_of(location: str) -> str:
    """A short name for the database at a location, without opening it."""
    last = location.rpartition("/")[2]
    if is_on_server(location):
        from urllib.parse import unquote  # slow to load, and files need it not

        return unquote(last)
    return last


def dialect_of(location: str | None) -> Dialect:
    """The SQL of the engine at a location; None for that of steps, whatever they are of."""
    scheme = (location or "").partition("://")[0]
    module = _DIALECTS.get(scheme, "jondel.core.engines.sqlite.dialect")
    return cast("Dialect", import_module(module).DIALECT)


def files_of(location: str) -> list[Path]:
    """The files that a database at a location may have, the main one first."""
    if is_on_server(location):
        return []
    path = Path(location)
    module = import_module("jondel.core.engines.sqlite.file_names")
    return [path, *(path.with_name(path.name + ending) for ending in module.COMPANIONS)]


def captures_quickly(location: str) -> bool:
    """Whether capturing the database at a location is cheap enough to be done unasked."""
    if is_on_server(location):
        return True  # what it costs follows the change, once there is a mirror
    module = import_module("jondel.core.engines.sqlite.file_names")
    return cast(bool, module.captures_quickly(Path(location)))


def is_database(path: Path) -> bool:
    """Whether the first bytes of a file are those of a database; False where it cannot be read."""
    module = import_module("jondel.core.engines.sqlite.connection")
    return cast(bool, module.is_database(path))


def open_image(path: Path, *, location: str) -> Database:
    """Open a file that holds a whole image of the database at ``location``."""
    module = import_module(_SQLITE_MODULE)
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
    if is_on_server(location):
        raise TargetUnavailable(
            f"{location}: a snapshot can only be put in place of a file; "
            "have the server serve the database again, then restore"
        )
    module = import_module("jondel.core.engines.sqlite.whole_file")
    return cast("Path | None", module.put_in_place(pages, Path(location)))


_SQLITE = re.compile(r"sqlite3?")


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


_SPELLINGS = {"postgres": "postgresql"}


def _scheme_of(target: str) -> str:
    """The scheme of a URL, without the driver that some frameworks name in it; empty for a path."""
    scheme, separator, _ = target.partition("://")
    if not separator or os.path.exists(target):
        return ""
    plain = scheme.partition("+")[0].lower()
    return _SPELLINGS.get(plain, plain)


def _server_of(target: str) -> str | None:
    return _SERVERS.get(_scheme_of(target))


def _path_of(target: str) -> str:
    scheme = _scheme_of(target)
    if not scheme:
        return target
    rest = target.partition("://")[2]
    if _SQLITE.fullmatch(scheme):
        return _path_of_url(target, rest)
    if scheme != "file":
        from jondel.core.engines.server_addresses import without_secrets

        known = ", ".join(f"{name}://" for name in _SERVERS)
        raise TargetUnavailable(
            f"{without_secrets(target)}: Jondel cannot open {scheme}:// addresses; "
            f"give the path of a SQLite file, or a URL that begins with {known}"
        )
    return rest
