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
    """Print the databases below a folder."""
    from jondel.core.browse.display import line, size_text
    from jondel.core.engines.finder import find_in

    databases = find_in(folder)
    if as_json:
        tell(dumped([{"path": str(f.path), "bytes": f.size} for f in databases]))
        return
    for entry in databases:
        tell(f"{line(str(entry.path), 1000)}  {size_text(entry.size)}")
    if not databases:
        say(f"{folder}: no database found here")
