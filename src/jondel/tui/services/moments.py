"""The moments at which a database can be looked at.

``Now`` is the live database, ``AtStep`` the database as a step left it. Asking the trail for a
moment gives ``Now``, the step itself, or ``GoneStep`` where there is no such step any more; that
is never taken for now.
"""

from __future__ import annotations

from typing import NamedTuple, TypeAlias

from jondel.core.errors import SnapshotNotFound
from jondel.core.trail.trail import Step


class Now:
    """The live database; there is only ``NOW``."""


class AtStep(NamedTuple):
    """The database as the step of this number left it."""

    number: int


class OtherDatabase(NamedTuple):
    """Another database that is open, as it is now; one can compare from there."""

    location: str
    name: str


class GoneStep:
    """A step that was there and is no longer on the trail."""

    def __init__(self, number: int) -> None:
        self.number = number


NOW = Now()
Moment: TypeAlias = Now | AtStep
Resolved: TypeAlias = Now | Step | GoneStep


class StepGone(SnapshotNotFound):
    """What was asked for is of a step that is no longer on the trail."""

    def __init__(self, number: int) -> None:
        super().__init__(f"s{number} is no longer on the trail; n goes to now")
        self.number = number
