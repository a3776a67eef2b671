"""The command that takes a snapshot."""

from __future__ import annotations

from jondel.cli.making_room import make_room
from jondel.cli.output import tell
from jondel.cli.target import opened
from jondel.core.files.json_values import dumped
from jondel.core.formats.end_json import end_json


def take_snapshot(target: str, label: str | None, lock: bool, as_json: bool) -> None:
    """Take a snapshot and print its label or id."""
    with opened(target, lock=lock, logged=False) as given:
        taken = given.trail.take(given.database, label)
        tell(dumped(end_json(taken)) if as_json else taken.label or taken.id)
        make_room(given.trail)
