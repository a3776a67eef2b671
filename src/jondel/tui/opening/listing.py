"""What can be opened: databases of the project, kept connections, earlier databases."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from jondel.core.engines.registry import is_there, location_of
from jondel.core.engines.server_addresses import without_secrets
from jondel.core.errors import JondelError
from jondel.core.find.connections import Connections
from jondel.core.find.looking import FoundDatabase, look_through
from jondel.core.find.words import facts_of
from jondel.core.snapshots.store import Store

_GONE = "gone; its snapshots are kept"


class Choice(NamedTuple):
    """Something to open; ``shown`` and ``facts`` never hold a password, ``target`` may."""

    target: str
    shown: str
    facts: str
    places: tuple[str, ...] = ()


class Group(NamedTuple):
    """Choices of one sort."""

    title: str
    choices: tuple[Choice, ...]


def groups(folder: Path) -> list[Group]:
    """What can be opened from a folder, those that are likely first."""
    found: list[FoundDatabase] = []
    with suppress(JondelError):
        found = look_through(folder)
    here = tuple(
        Choice(entry.target, _short(entry.shown, folder), facts_of(entry), entry.places)
        for entry in found
    )
    known = {_location(choice.target) for choice in here}
    kept: Iterable[tuple[str, str]] = ()
    with suppress(JondelError):
        kept = Connections().all().items()
    connections = tuple(
        Choice(url, name, without_secrets(url), ("kept under this name",)) for name, url in kept
    )
    known |= {_location(choice.target) for choice in connections}
    earlier = tuple(
        Choice(location, location, "" if is_there(location) else _GONE, ("has a trail",))
        for location in _recorded()
        if location not in known
    )
    return [Group("found in this project", here), Group("kept connections", connections),
            Group("opened before", earlier)]  # fmt: skip


def _short(shown: str, folder: Path) -> str:
    """A path without the folder that is looked through."""
    return os.path.relpath(shown, folder) if shown.startswith(f"{folder}/") else shown


def _recorded() -> list[str]:
    with suppress(JondelError):
        return Store().locations()
    return []


def _location(target: str) -> str:
    with suppress(JondelError):
        return location_of(target)
    return target
