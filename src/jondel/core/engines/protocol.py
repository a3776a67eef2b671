"""The ``Database`` protocol: what every engine offers, and what it may lack.

What a database can do is split into roles (``engines.roles``); the types here are what they take
and give.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass
from enum import Enum
from typing import TYPE_CHECKING, Literal, NamedTuple, Protocol, TypeAlias, TypeVar

from jondel.core.errors import FeatureMissing
from jondel.core.model.rows import Position
from jondel.core.model.schema import Schema
from jondel.core.model.values import Exact, Row, Value

if TYPE_CHECKING:  # not needed to look at a database
    from array import array

    import numpy as np
    import numpy.typing as npt

    from jondel.core.engines.delta import DeltaSource
    from jondel.core.engines.roles import (
        Capturer,
        Commits,
        ConstraintChecker,
        Finder,
        Rehearser,
        Restorer,
        RowReader,
        Scanner,
        ScriptRunner,
        StatementRunner,
        TransactionObserver,
        TransactionRehearser,
        Writer,
    )


R = TypeVar("R")
LANDMARK_ROWS = 1024
"""Rows from one landmark of an extent to the next."""

Precision: TypeAlias = Literal["exact", "estimate", "at least"]


class Extent(NamedTuple):
    """How many rows a table has, and what helps to find one by its place.

    ``dense_from`` is the first row number where row numbers run on without a gap, so that the
    n-th row can be found by its number alone; else None. ``landmarks`` are the positions of
    every ``LANDMARK_ROWS``-th row, from the first of those on, where it takes them to find a row.
    """

    rows: int
    dense_from: int | None = None
    precision: Precision = "exact"
    landmarks: tuple[Position, ...] = ()


class ArrangingProgress(NamedTuple):
    """How far an order is: the share of the table that was looked at, from 0 to 1, or None where
    that is not known; and how many rows of the order are there."""

    looked_at: float | None
    rows: int


class RowOrder(Protocol):
    """The rows of a filtered or sorted sheet in their order; made and read by one engine."""

    @property
    def rows(self) -> int:
        """How many rows."""

    @property
    def anywhere(self) -> bool:
        """Whether every connection to the same state can read by it, or only that which made it."""

    @property
    def bytes(self) -> int:
        """What it takes in memory."""

    def ordinal_of(self, position: Position) -> int | None:
        """The place of a row from 0, or None where it is not in the order."""


class Tally(NamedTuple):
    """What a column holds: counts, and the least, the greatest, the sum and the mean.

    ``least`` and ``greatest`` are in the engine's order and may be clipped; None without any but
    NULL. ``total`` and ``mean`` are of the numbers alone, None where there are none.
    """

    rows: int
    distinct: int
    nulls: int
    empty: int
    least: Value
    greatest: Value
    total: int | float | Exact | None
    mean: float | None


class Hit(NamedTuple):
    """A cell that holds what was searched for; the position is empty for a view's."""

    position: Position
    column: str
    value: Value


CommitMark: TypeAlias = Hashable
"""How far a database is; marks taken with nothing committed in between are equal."""


@dataclass(frozen=True, eq=False)
class Selection:
    """Some rows of a table: by their numbers, rising, or by their keys where they have none.

    It may name rows that are not there.
    """

    row_ids: array[int] | npt.NDArray[np.int64] | None = None
    """Of 8 bytes each."""
    keys: tuple[Row, ...] = ()

    @property
    def empty(self) -> bool:
        return not len(self.keys if self.row_ids is None else self.row_ids)


class Feature(Enum):
    """What not every database can do; the value says it in words that follow "cannot"."""

    COMMITS = "tell what was committed"
    CAPTURE = "be captured in a snapshot"
    WRITING = "be written to"
    RESTORING = "be put back as a whole"
    STATEMENTS = "run statements"
    SCRIPTS = "run scripts that write"
    REHEARSING = "try scripts out"


class Features:
    """Which features a database has, and why it lacks the others."""

    def __init__(self, of: str, missing: Mapping[Feature, str] | None = None) -> None:
        """``of`` is the database in words; ``missing`` says of each feature that it lacks why."""
        self._of = of
        self._missing = dict(missing or {})

    def __contains__(self, feature: Feature) -> bool:
        return feature not in self._missing

    def why_not(self, feature: Feature) -> str:
        """Why it lacks a feature, for a person; empty where it has it."""
        return self._missing.get(feature, "")

    def require(self, feature: Feature, role: R | None) -> R:
        """The role that a feature is had by.

        Raises:
            FeatureMissing: the database lacks it.
        """
        if role is None:
            why = self._missing.get(feature)
            raise FeatureMissing(f"{self._of} cannot {feature.value}{f': {why}' if why else ''}")
        return role


class Database(Protocol):
    """An open database, and what it can do: a role each, None where it cannot.

    Any thread may call ``interrupt``; all else is called from one thread at a time.
    """

    lock: bool
    """Whether a reader's lock may be taken where the app writes without a pause; else
    ``TargetBusy`` is raised then."""

    @property
    def location(self) -> str:
        """Where it is: an absolute path or a URL. One location, one trail."""

    @property
    def name(self) -> str:
        """A short name to show."""

    @property
    def engine(self) -> str:
        """The engine's name and version, to show."""

    @property
    def features(self) -> Features: ...

    @property
    def notices(self) -> tuple[str, ...]:
        """What a person should know about how this database could be opened, a line each."""

    def schema(self) -> Schema:
        """Read the schema; cached until it changes."""

    # Roles

    @property
    def rows(self) -> RowReader: ...

    @property
    def finder(self) -> Finder: ...

    @property
    def scanner(self) -> Scanner: ...

    @property
    def commits(self) -> Commits | None: ...

    @property
    def capturer(self) -> Capturer | None: ...

    @property
    def deltas(self) -> DeltaSource | None:
        """For a database that is captured by way of a mirror, instead of a capturer."""

    @property
    def writer(self) -> Writer | None: ...

    @property
    def restorer(self) -> Restorer | None: ...

    @property
    def statements(self) -> StatementRunner | None: ...

    @property
    def scripts(self) -> ScriptRunner | None: ...

    @property
    def rehearser(self) -> Rehearser | None:
        """Of a captured state; a live database is captured for it, unless it has the next one."""

    @property
    def rehearsals(self) -> TransactionRehearser | None:
        """Of a live database that tries scripts out itself."""

    @property
    def transactions(self) -> TransactionObserver | None:
        """Of a live database of which it can be told in which transactions an app writes."""

    @property
    def constraints(self) -> ConstraintChecker | None:
        """Of an engine whose tables can hold what they declare not to."""

    # Stopping and closing

    def interrupt(self) -> None:
        """Stop what is running, and all that is asked from now on, until ``resume`` is called.

        What is stopped raises ``Cancelled``. Callable from any thread.
        """

    def resume(self) -> None:
        """Have what was stopped before be no concern of what comes."""

    def close(self) -> None:
        """Let go of everything; calling it again does nothing."""
