"""What an import would come to, from the first rows of the file."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice
from pathlib import Path
from typing import NamedTuple

from jondel.core.imports.matching import Match
from jondel.core.imports.plan import stamp_of
from jondel.core.imports.readings import column_reader
from jondel.core.imports.source import (
    AS_FOUND,
    Raw,
    RowSource,
    SourceOptions,
    UnreadRow,
    open_source,
)

SAMPLE_ROWS = 1_000


class Absent:
    """Stands where a record has no such member."""

    def __repr__(self) -> str:
        return "ABSENT"


ABSENT = Absent()


class Sample(NamedTuple):
    """The beginning of a file: its columns, and their first values.

    ``numbers`` are those of the rows. ``unread`` are rows among them that are none of the file's
    columns. ``whole``: there are no more. ``stamp`` tells the file from one that was changed.
    """

    source: RowSource
    options: SourceOptions
    numbers: tuple[int, ...]
    columns: tuple[tuple[Raw | Absent, ...], ...]
    unread: tuple[UnreadRow, ...]
    whole: bool
    has_invalid: bool
    stamp: tuple[int, int]

    def values(self, place: int) -> list[Raw]:
        """The first values of a column, where there are any."""
        return [value for value in self.columns[place] if not isinstance(value, Absent)]


class ColumnProblem(NamedTuple):
    """Values of a column that cannot be read: how many, and the first of them."""

    values: int
    first: int
    """The number of the first one's row."""
    reason: str


def sample_of(path: Path, options: SourceOptions = AS_FOUND) -> Sample:
    """Look into a file. Raises ``ImportFailed``."""
    stamp = stamp_of(path)
    source = open_source(path, options)
    numbers: list[int] = []
    rows: list[Sequence[Raw | Absent]] = []
    unread: list[UnreadRow] = []
    width = len(source.columns)
    whole, has_invalid = True, False
    batches = source.rows()
    for batch in batches:
        has_invalid = has_invalid or batch.has_invalid
        unread += batch.unread
        everything = batch.columns == tuple(range(width))
        for number, row in islice(
            zip(batch.numbers, batch.rows, strict=True), SAMPLE_ROWS - len(rows)
        ):
            numbers.append(number)
            rows.append(row if everything else _spread(batch.columns, row, width))
        if len(rows) >= SAMPLE_ROWS:
            whole = len(batch.rows) < SAMPLE_ROWS and next(batches, None) is None
            break
    columns = tuple(zip(*rows, strict=True)) if rows else ((),) * width
    return Sample(
        source, options, tuple(numbers), columns, tuple(unread), whole, has_invalid, stamp
    )


def problem_of(sample: Sample, match: Match) -> ColumnProblem | None:
    """What is wrong with the first values of a column, read as they are to be."""
    if match.target is None:
        return None
    values, numbers = [], []
    for number, value in zip(sample.numbers, sample.columns[match.place], strict=True):
        if not isinstance(value, Absent):
            values.append(value)
            numbers.append(number)
    unfit = column_reader(match.type, match.way)(values).unfit
    if not unfit:
        return None
    first = min(unfit)
    return ColumnProblem(len(unfit), numbers[first], unfit[first])


def _spread(columns: Sequence[int], row: Sequence[Raw], width: int) -> list[Raw | Absent]:
    cells: list[Raw | Absent] = [ABSENT] * width
    for column, value in zip(columns, row, strict=True):
        cells[column] = value
    return cells
