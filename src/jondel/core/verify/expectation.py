"""Expectations: what an action should write."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import MARKS, ChangeKind
from jondel.core.verify.matchers import Matcher

_CELLS_IN_WORDS = 4


class Count(NamedTuple):
    """How many: at least, and at most (None: any number more)."""

    least: int
    most: int | None

    def met_by(self, number: int) -> bool:
        return self.least <= number and (self.most is None or number <= self.most)

    @property
    def words(self) -> str:
        if self.most is None:
            return f"{self.least} or more"
        return str(self.least) if self.least == self.most else f"{self.least} to {self.most}"


ONCE = Count(1, 1)


@dataclass(frozen=True)
class ExpectedRecord:
    """A record that is to be added, changed or removed.

    ``key`` and ``cells`` are matchers by column. Columns of an added or removed record that are
    not named may hold anything; cells of a changed record that are not named must not change.
    ``name`` is what ``SameAs`` calls it. ``times`` is how many such records there are; with
    ``digest``, they hold in all other columns what that was made of, see ``digest_of``.
    """

    kind: ChangeKind
    key: tuple[tuple[str, Matcher], ...] = ()
    cells: tuple[tuple[str, Matcher], ...] = ()
    name: str = ""
    times: Count = ONCE
    digest: str = ""

    def words(self) -> str:
        """Which record, for a person."""
        cells = self.cells[:_CELLS_IN_WORDS]
        key = ", ".join(f"{name} {matcher.words}" for name, matcher in self.key)
        named = ", ".join(f"{name} {matcher.words}" for name, matcher in cells)
        more = ", …" if self.cells[_CELLS_IN_WORDS:] else ""
        times = "" if self.times == ONCE else f" × {self.times.words}"
        words = f"{key}: {named}{more}" if key and named else key or f"{named}{more}"
        return f"{MARKS[self.kind]} {words or self.name or 'a record'}{times}"


@dataclass(frozen=True)
class ExpectedTable:
    """What is expected of one table's records.

    ``counts`` says by kind how many records there are of it in all; of a kind that is not named
    there are those in ``records`` and no others.
    """

    table: TableId
    records: tuple[ExpectedRecord, ...] = ()
    counts: dict[ChangeKind, Count] = field(default_factory=dict)
    anything: bool = False
    """Whatever happens in the table is expected."""

    def count(self, kind: ChangeKind) -> Count:
        """How many records of a kind there are to be."""
        if self.anything:
            return Count(0, None)
        if kind in self.counts:
            return self.counts[kind]
        times = [record.times for record in self.records if record.kind == kind]
        unbounded = any(count.most is None for count in times)
        most = None if unbounded else sum(count.most or 0 for count in times)
        return Count(sum(count.least for count in times), most)


@dataclass(frozen=True)
class Expectation:
    """What a step is to write; a table that is not in it must not change.

    ``transactions`` is in how many it is to be written, None where that is of no concern.
    ``schema`` are the changes of the schema, in words as the comparison has them.
    """

    name: str
    tables: tuple[ExpectedTable, ...] = ()
    transactions: Count | None = None
    schema: tuple[str, ...] = ()

    def table(self, table: TableId) -> ExpectedTable | None:
        """What is expected of a table: by its address, else by its name where that is alone so."""
        exact = [expected for expected in self.tables if expected.table == table]
        by_name = [e for e in self.tables if e.table == TableId(table.name)]
        return next(iter(exact or by_name), None)
