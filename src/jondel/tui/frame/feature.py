"""What every feature is: its commands, what it adds to the card, and what it wants to hear of."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping

from jondel.core.errors import JondelError
from jondel.core.model.values import Value
from jondel.tui.frame.commands import Command
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.view import ShownRecord


class Feature:
    """Works with the desk alone; no feature knows another, or a widget above it.

    Everything it hears of is called in the interface's thread.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def commands(self) -> Iterable[Command]:
        """What it lets a person do."""
        return ()

    # What it adds to the card

    def completed(self, record: ShownRecord) -> ShownRecord:
        """The record with more of its values, where more is known of them."""
        return record

    def readings(self, record: ShownRecord) -> Mapping[str, str]:
        """How values read otherwise, by column."""
        return {}

    def edited(self, record: ShownRecord) -> Mapping[str, Value]:
        """Values that are in the draft, by column."""
        return {}

    # What it hears of

    def started(self) -> None:
        """The first rows are on the screen."""

    def trail_opened(self, error: JondelError | None) -> None:
        """What is recorded is known now, or why it cannot be."""

    def record_shown(self, record: ShownRecord) -> None:
        """The card shows a record of the sheet."""

    def record_left(self) -> None:
        """The card shows something else than a record of the sheet."""

    def arrived(self) -> None:
        """One is at another place."""

    def action_began(self) -> None:
        """While watching: something was committed that is in no step yet."""

    def action_over(self, token: Hashable) -> None:
        """While watching: something was committed, and then nothing for the settle time."""

    def closed(self) -> None:
        """The interface is closing."""
