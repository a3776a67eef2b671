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


class AtResult(NamedTuple):
    """The rows that a statement gave, as they are kept: a database of one table.

    ``origin`` is the moment that it was asked of, where its links lead.
    """

    path: str
    title: str
    origin: Now | AtStep


class OtherDatabase(NamedTuple):
    """Another database that is open, as it is now; one can compare from there."""

    location: str
    name: str


class GoneStep:
    """A step that was there and is no longer on the trail."""

    def __init__(self, number: int) -> None:
        self.number = number


NOW = Now()
Moment: TypeAlias = Now | AtStep | AtResult
Resolved: TypeAlias = Now | Step | GoneStep | AtResult


def origin_of(moment: Moment) -> Moment:
    """Where the records are that a record points to: of a statement's rows, what was asked."""
    return moment.origin if isinstance(moment, AtResult) else moment


class StepGone(SnapshotNotFound):
    """What was asked for is of a step that is no longer on the trail."""

    def __init__(self, number: int) -> None:
        super().__init__(f"s{number} is no longer on the trail; n goes to now")
        self.number = number


class NotAState(SnapshotNotFound):
    """What was asked for needs a state of the database, and there are only a statement's rows."""

    def __init__(self) -> None:
        super().__init__("these are the rows of a statement, and no state of the database; n: now")
