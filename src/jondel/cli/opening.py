"""The commands that open the interface, and the one that finds databases."""

from __future__ import annotations

from pathlib import Path

from jondel.cli.output import say, tell
from jondel.core.files.json_values import dumped


def open_target(target: str | None, read_only: bool = False) -> None:
    """Open the interface."""
    from jondel.cli.interface import open_target as open_it

    open_it(target, read_only=read_only)


def open_demo(fresh: bool, clock: str | None, engine: str) -> None:
    """Open the demo."""
    from jondel.cli.interface import open_demo as open_it

    open_it(fresh=fresh, clock=clock, engine=engine)


def find_databases(folder: Path, as_json: bool) -> None:
    """Print the databases of a project: files below a folder, and what its settings name."""
    from jondel.core.browse.display import line
    from jondel.core.find.looking import look_through
    from jondel.core.find.words import as_plain, facts_of

    databases = look_through(folder)
    if as_json:
        tell(dumped([as_plain(entry) for entry in databases]))
        return
    for entry in databases:
        tell(f"{line(entry.shown, 1000)}  {line(facts_of(entry), 1000)}")
        for place in entry.places:
            tell(f"    in {line(place, 1000)}")
    if not databases:
        say(f"{folder}: no database found here")
