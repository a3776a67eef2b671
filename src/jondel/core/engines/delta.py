"""What changed in a database since it was last captured, as its engine tells it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.schema import Schema
from jondel.core.model.values import Row

Mark: TypeAlias = dict[str, Any]
"""How far an engine was when it told a delta, in its own words; JSON values only."""

Hints: TypeAlias = dict[str, Any]
"""What an engine remembers to tell the next delta more quickly, in its own words; JSON values
only. Without them it is told as well."""


class PutRow(NamedTuple):
    """A row that came or changed. The position is empty where rows have no address."""

    position: Position
    row: Row


NULL_FIELD = "\\N"
"""Stands for NULL where rows are told as text; no value is told so that reads like it."""

Fields: TypeAlias = list[str]
"""Some rows as text, their fields one behind another; see ``value_text``."""


Span: TypeAlias = tuple[int, int]
"""Values of a column from one to another, both included."""


class PresentKeys(Protocol):
    """The keys that a table has now, for whoever knows all of them and perhaps more."""

    @property
    def rows(self) -> int:
        """How many rows there are."""

    @property
    def within(self) -> Sequence[Span] | None:
        """Where alone keys can have gone, rising; None where they can have gone anywhere."""

    def counts(self, low: int, width: int, within: Sequence[Span]) -> dict[int, int]:
        """How many rows there are in each range of so many values of the key's first column, an
        integer, as far as they are in some spans; the ranges are numbered, and number 0 begins
        with ``low``."""

    def keys(self, within: Sequence[Span] | None) -> Iterator[Position]:
        """The keys whose first column is in one of some spans; all for None."""


@dataclass(frozen=True)
class TableDelta:
    """What changed in a table, read once: first what went, then what is put, then ``present``.

    ``whole``: what is put is all there is, and what was there before goes. ``gone`` are the
    positions of rows that went; of a table whose rows have no address, the rows themselves, each
    as often as it went. ``bulk`` are rows that are put as well, where many are told as text, which
    costs less; only of a table that is told whole. ``present`` tells, where it is not known which
    rows went, which stayed.
    """

    table: TableId
    whole: bool
    gone: Iterable[Position] = ()
    put: Iterable[PutRow] = ()
    bulk: Iterable[Fields | list[PutRow]] = ()
    present: PresentKeys | None = None
    rows: Callable[[], int] | None = None
    """How many rows there are now; asked for once the rest is read. None where nobody counted."""
    whole_again: Callable[[], TableDelta] | None = None
    """Tells the table whole, where what was told leads to another number of rows."""


@dataclass(frozen=True)
class Delta:
    """All that changed, of one consistent state.

    Reading a table's rows raises ``TableUnreadable`` where that table alone cannot be read.
    """

    schema: Schema
    tables: Iterator[TableDelta]
    mark: Mark = field(default_factory=dict)
    """Asked for once the tables are read."""
    hints: Hints = field(default_factory=dict)
    """Asked for once the tables are read."""


class Known(NamedTuple):
    """What went with the last delta, and how large a table may be, in bytes: larger ones are left
    out, and the schema says so."""

    mark: Mark | None = None
    schema: Schema | None = None
    hints: Hints | None = None
    largest_table: int | None = None


class DeltaSource(Protocol):
    """Tells what changed."""

    def delta(self, known: Known) -> AbstractContextManager[Delta]:
        """What changed since; everything, where nothing is known.

        Tables that are declared otherwise now, or are new, are told whole.
        """
