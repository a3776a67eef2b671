"""Looks through a project for databases, and tries those of this machine."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path

from jondel.core.engines.finder import find_in, may_be_the_projects
from jondel.core.engines.registry import examine, is_database, location_of, server_address
from jondel.core.engines.server_addresses import without_secrets
from jondel.core.errors import JondelError, PasswordNeeded
from jondel.core.find.configuration import settings_in, settings_of_variables
from jondel.core.find.settings import Setting

_MOST_FOLDERS = 20_000
_TRIED_AT_ONCE = 8


@dataclass(frozen=True)
class FoundDatabase:
    """A database that was found.

    ``target`` opens it, and may hold a password; ``shown`` never does. ``places`` are where it was
    found: files, each with the key. ``state`` says in words how it is reached, or why not.
    """

    target: str
    shown: str
    engine: str
    places: tuple[str, ...] = ()
    state: str = ""
    reachable: bool | None = None
    """None where it was not tried."""
    size: int | None = None
    tables: int | None = None
    written_at: float | None = None

    def __repr__(self) -> str:
        return f"FoundDatabase({self.shown})"


def look_through(folder: Path, *, trying: bool = True) -> list[FoundDatabase]:
    """The databases of a project: its files, then those that its configuration names.

    Servers of other machines are not tried. Raises ``TargetNotFound``.
    """
    found: dict[str, FoundDatabase] = {}
    for file in find_in(folder):
        found[os.path.realpath(file.path)] = FoundDatabase(
            str(file.path), str(file.path), "sqlite", (), "", True, file.size,
            written_at=file.written_at,
        )  # fmt: skip
    for path, setting in _settings(folder):
        place = f"{path} {setting.place}".strip()
        # Frameworks take relative paths from here or from there.
        key, entry = _of_setting(setting, (folder / Path(path).parent, folder))
        earlier = found.get(key)
        if earlier is not None:
            found[key] = replace(earlier, places=(*earlier.places, place))
        else:
            found[key] = replace(entry, places=(place,))
    entries = list(found.values())
    if not trying:
        return entries
    with ThreadPoolExecutor(_TRIED_AT_ONCE) as pool:
        return list(pool.map(_tried, entries))


def _settings(folder: Path) -> Iterator[tuple[str, Setting]]:
    for setting in settings_of_variables(os.environ):
        yield "", setting._replace(place=f"environment {setting.place}")
    for where, folders, files in islice(os.walk(folder), _MOST_FOLDERS):
        folders[:] = sorted(filter(may_be_the_projects, folders))
        for name in sorted(files):
            path = Path(where, name)
            for setting in settings_in(path):
                yield os.path.relpath(path, folder), setting


def _of_setting(setting: Setting, folders: Sequence[Path]) -> tuple[str, FoundDatabase]:
    engine = setting.url.partition(":")[0]
    if engine == "sqlite":
        path = Path(setting.url.removeprefix("sqlite:///"))
        path = next((f / path for f in folders if (f / path).is_file()), folders[-1] / path)
        there = path.is_file() and is_database(path)
        size = path.stat().st_size if there else None
        state = "" if there else "there is no such file yet"
        return os.path.realpath(path), FoundDatabase(
            str(path), str(path), engine, state=state, reachable=there, size=size
        )
    shown = without_secrets(setting.url)
    with suppress(JondelError):
        if server_address(setting.url) is not None:
            shown = location_of(setting.url)
            return shown, FoundDatabase(setting.url, shown, engine)
    return shown, FoundDatabase(
        setting.url, shown, engine, state=f"Jondel cannot open {engine} databases", reachable=False
    )


def _tried(entry: FoundDatabase) -> FoundDatabase:
    if entry.reachable is not None:
        return entry
    address = server_address(entry.target)
    if address is not None and not address.is_local:
        return replace(entry, state="on another machine, not tried")
    try:
        report = examine(entry.target)
    except PasswordNeeded as error:
        return replace(entry, state=_reason(error), reachable=True)
    except JondelError as error:
        return replace(entry, state=_reason(error), reachable=False)
    return replace(
        entry, state=report.server, reachable=True, tables=report.tables, size=report.size
    )


def _reason(error: JondelError) -> str:
    """What is wrong, without the database that is named beside it."""
    return str(error).partition(": ")[2] or str(error)
