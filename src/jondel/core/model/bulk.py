"""Many rows that are inserted into a table as one statement, each by itself or not at all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple, Protocol

from jondel.core.model.addresses import TableId
from jondel.core.model.values import Row


class BulkBatch(NamedTuple):
    """Some of the rows: values of the same columns, and the number of each where it comes from."""

    columns: tuple[str, ...]
    numbers: Sequence[int]
    rows: Sequence[Row]


class BulkRows(Protocol):
    """The rows, and what is told of them while they are inserted."""

    table: TableId

    def batches(self) -> Iterator[BulkBatch]:
        """All rows from the first on, each time it is called.

        Raises:
            ImportFailed: they cannot be read on.
        """

    def refused(self, number: int, reason: str) -> None:
        """The database does not take a row; the others go in all the same."""

    def hold(self, number: int) -> bool:
        """A row may be taken later, when others are there: it is tried again after the last one,
        and refused only then. False where so many wait already that it is to be refused now."""

    def inserted(self, rows: int) -> None:
        """So many rows are in the table by now."""
