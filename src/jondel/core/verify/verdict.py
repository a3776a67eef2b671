"""What came of an expectation: met, missing, unexpected, differing."""

from __future__ import annotations

from typing import NamedTuple

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeKind, NoValue, RecordChange, TableChanges
from jondel.core.model.values import Value
from jondel.core.verify.expectation import Count, ExpectedRecord


class Mismatch(NamedTuple):
    """A cell that is not as expected; ``found`` is NO_VALUE where the record has no such cell, and
    ``wanted`` is None where nothing was expected to change."""

    column: str
    wanted: str | None
    found: Value | NoValue
    before: Value | NoValue


class Found(NamedTuple):
    """A record of a step, with its table's changes."""

    table: TableChanges
    record: RecordChange


class Met(NamedTuple):
    """A record that is as expected."""

    wanted: ExpectedRecord
    found: Found


class Differing(NamedTuple):
    """A record that is expected, and the one that comes nearest to it, with what differs."""

    table: TableId
    wanted: ExpectedRecord
    found: Found
    cells: tuple[Mismatch, ...]


class Missing(NamedTuple):
    """A record that is expected and is not there; ``nearest`` is one that was taken for another,
    or is of another kind."""

    table: TableId
    wanted: ExpectedRecord
    nearest: Found | None = None


class Unexpected(NamedTuple):
    """A record that nobody expected; ``nearest`` is what was expected and comes nearest to it."""

    found: Found
    nearest: ExpectedRecord | None = None
    cells: tuple[Mismatch, ...] = ()


class WrongCount(NamedTuple):
    """How many records of a kind were expected in a table, and how many there are."""

    table: TableId
    kind: ChangeKind
    wanted: Count
    found: int


class Verdict(NamedTuple):
    """A step held against its expectation. ``problems`` are all else that is wrong, in words."""

    expectation: str
    met_records: tuple[Met, ...] = ()
    differing: tuple[Differing, ...] = ()
    missing: tuple[Missing, ...] = ()
    unexpected: tuple[Unexpected, ...] = ()
    counts: tuple[WrongCount, ...] = ()
    problems: tuple[str, ...] = ()
    more_unexpected: int = 0
    """How many records nobody expected beside those that are listed."""

    @property
    def met(self) -> bool:
        """Whether everything is as expected."""
        return not (
            self.differing or self.missing or self.unexpected or self.counts or self.problems
        )

    @property
    def summary(self) -> str:
        """What came of it in a few words."""
        if self.met:
            return "met"
        parts = (
            (len(self.differing), "differing"),
            (len(self.missing), "missing"),
            (len(self.unexpected) + self.more_unexpected, "unexpected"),
        )
        words = [f"{number} {what}" for number, what in parts if number]
        # Counts are told where nothing else says that something is wrong with them.
        words += [f"{self.counts[0].table}: wrong number"] if self.counts and not words else []
        return ", ".join([*words, *self.problems[:1]])
