"""How many rows lie in each range of a table's key: where the number is another one, or rows came,
rows may have gone; nowhere else.

The ranges are of the key's first column, an integer, and as wide as a power of two.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt
from psycopg.pq import TransactionStatus

from jondel.core.engines.delta import Span
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.copying import copied_keys
from jondel.core.engines.postgresql.range_sums import in_spans, leading_integer
from jondel.core.engines.postgresql.sql_text import source, unmarked
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table

FEWEST_ROWS = 5000
"""In fewer rows than this, those that went are found as quickly without."""
_MOST_RANGES = 1 << 14
_FEWEST_IN_A_RANGE = 64
_BLOCKS_AT_ONCE = 64
Numbers: TypeAlias = npt.NDArray[np.int64]
_NONE: Numbers = np.array([], np.int64)
_MOST_SPANS = 600
"""Above this, asking for single parts of a table takes longer than asking for all of it."""


@dataclass(frozen=True)
class KeyRanges:
    """The rows of a table, by ranges of its key.

    A key belongs to the range whose number is the key without its last ``shift`` bits. ``numbers``
    of ranges rise; ``counts`` are the rows of each.
    """

    shift: int
    numbers: Numbers
    counts: Numbers

    @property
    def rows(self) -> int:
        return int(self.counts.sum())

    def as_json(self) -> list[Any]:
        """The form in which they are kept."""
        return [self.shift, self.numbers.tolist(), self.counts.tolist()]

    @classmethod
    def from_json(cls, kept: Any) -> KeyRanges | None:
        """What was kept; None where it is none of ours."""
        with suppress(ValueError, TypeError, OverflowError):
            shift, numbers, counts = kept
            if len(numbers) == len(counts):
                return cls(int(shift), np.array(numbers, np.int64), np.array(counts, np.int64))
        return None

    def bearable(self) -> KeyRanges:
        """The same in fewer ranges, where there are more than are of use."""
        return self.in_fewer_than(2 * max(1, min(_MOST_RANGES, self.rows // _FEWEST_IN_A_RANGE)))

    def in_fewer_than(self, most: int) -> KeyRanges:
        """The same in so many ranges at most, each as wide as several were, if need be."""
        ranges = self
        while len(ranges.numbers) > most:
            numbers, first = np.unique(ranges.numbers >> 1, return_index=True)
            ranges = KeyRanges(ranges.shift + 1, numbers, np.add.reduceat(ranges.counts, first))
        return ranges


class RangeCounter:
    """Counts the keys of a table while all its rows go by."""

    def __init__(self) -> None:
        self._ranges = KeyRanges(0, _NONE, _NONE)
        self._waiting: list[Numbers] = []

    def add(self, keys: Iterable[int]) -> None:
        self._waiting.append(np.array(list(keys), np.int64))
        if len(self._waiting) == _BLOCKS_AT_ONCE:
            self._count()

    def _count(self) -> None:
        known = self._ranges
        numbers, counts = np.unique(
            np.concatenate([_NONE, *self._waiting]) >> known.shift, return_counts=True
        )
        self._waiting.clear()
        every, places = np.unique(np.append(known.numbers, numbers), return_inverse=True)
        rows = np.zeros(len(every), np.int64)
        np.add.at(rows, places, np.append(known.counts, counts))
        self._ranges = KeyRanges(known.shift, every, rows).in_fewer_than(2 * _MOST_RANGES)

    @property
    def ranges(self) -> KeyRanges:
        """Of what went by so far."""
        self._count()
        return self._ranges.bearable()


@dataclass(frozen=True)
class RangesNow:
    """The rows of a table by ranges, and how many of each came since some time."""

    ranges: KeyRanges
    came: Numbers

    def suspects(self, before: KeyRanges) -> list[Span] | None:
        """The only spans in which rows came or went, rising; None where they are too many.

        ``before`` has ranges of the same width.
        """
        now, shift = self.ranges, self.ranges.shift
        numbers = np.union1d(before.numbers, now.numbers)
        balance = np.zeros(len(numbers), np.int64)
        balance[np.searchsorted(numbers, now.numbers)] = now.counts
        balance[np.searchsorted(numbers, before.numbers)] -= before.counts
        touched = balance != 0
        touched[np.searchsorted(numbers, now.numbers[self.came > 0])] = True
        spans: list[Span] = []
        for number in numbers[touched].tolist():
            first, last = number << shift, ((number + 1) << shift) - 1
            if spans and spans[-1][1] == first - 1:
                spans[-1] = (spans[-1][0], last)
            else:
                spans.append((first, last))
        return spans if len(spans) <= _MOST_SPANS else None


def read_ranges(
    connection: Connection, table: Table, before: KeyRanges | None, recent: str
) -> RangesNow:
    """Count the rows of a table by ranges as wide as before; ``recent``: SQL for those that came
    since."""
    shift = before.shift if before is not None else _first_shift(connection, table)
    # As three lists, for which the driver takes a fraction of the time that as many rows take.
    lists = connection.execute(
        "SELECT array_agg(n), array_agg(rows), array_agg(came) FROM ("
        f"SELECT {leading_integer(table)}::int8 >> {shift}, count(*), "
        f"count(*) FILTER (WHERE {recent}) FROM {unmarked(source(table))} GROUP BY 1"
        ") AS ranges(n, rows, came)"
    ).fetchall()[0]
    numbers, counts, came = map(_listed, lists)
    order = np.argsort(numbers)
    return RangesNow(KeyRanges(shift, numbers[order], counts[order]), came[order])


def _listed(written: bytes | None) -> Numbers:
    """The numbers of a list as the server writes it."""
    return np.array(list(map(int, written[1:-1].split(b","))) if written else [], np.int64)


def _first_shift(connection: Connection, table: Table) -> int:
    """So much that there are not too many ranges."""
    name = leading_integer(table)
    low, high = connection.execute(
        f"SELECT min({name}), max({name}) FROM {unmarked(source(table))}"
    ).fetchall()[0]
    return max(0, ((int(high or 0) - int(low or 0)) // _MOST_RANGES).bit_length())


class ServerKeys:
    """See ``PresentKeys``."""

    def __init__(
        self, connection: Connection, table: Table, rows: int, within: Sequence[Span] | None = None
    ) -> None:
        self._connection = connection
        self._table = table
        self.rows = rows
        self.within = within

    def counts(self, low: int, width: int, within: Sequence[Span]) -> dict[int, int]:
        sql = (
            f"SELECT ({leading_integer(self._table)}::int8 - {low}) / {width}, count(*) "
            f"FROM {unmarked(source(self._table))} WHERE {in_spans(self._table, within)} GROUP BY 1"
        )
        with by_index(self._connection, unless=self.within is None):
            return {int(n): int(count) for n, count in self._connection.execute(sql).fetchall()}

    def keys(self, within: Sequence[Span] | None) -> Iterator[Position]:
        if within is None:
            yield from copied_keys(self._connection, self._table, "TRUE")
            return
        with by_index(self._connection):
            yield from copied_keys(self._connection, self._table, in_spans(self._table, within))


@contextmanager
def by_index(connection: Connection, *, unless: bool = False) -> Iterator[None]:
    """Have the server look up what is asked for by single parts of a table: it may take their
    number for a reason to go through all of it, and try each part on each row."""
    if not unless:
        connection.execute("SET LOCAL enable_seqscan = off")
    try:
        yield
    finally:
        if not unless and connection.info.transaction_status == TransactionStatus.INTRANS:
            connection.execute("SET LOCAL enable_seqscan = on")
