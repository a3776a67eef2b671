"""What a sheet draws: columns, and rows that are read in blocks as they come into view."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from jondel.core.engines.protocol import Extent
from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow


class SourceColumn(NamedTuple):
    """A column: its name, what heads it, and what else is known of it in few characters."""

    name: str
    heading: str
    remark: str = ""
    numeric: bool = False
    """Whether it is declared to hold numbers; its values decide where there are any."""
    in_key: bool = False


class RowSource(Protocol):
    """Rows in an order of their own; ordinals count from 0."""

    @property
    def columns(self) -> Sequence[SourceColumn]:
        """The columns, in the order of the values in each row."""

    @property
    def extent(self) -> Extent:
        """How many rows there are, as far as that is known."""

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        """A row and its position, or None while it has not been read.

        The position is empty where rows have no address. The values are empty where the row was
        there when its order was made, and no longer is.
        """

    def missing(self, first: int, last: int) -> list[int]:
        """The blocks to fetch for the rows from ``first`` to ``last``, both included."""

    async def fetch(self, block: int) -> bool:
        """Read a block. Returns False where there were no such rows any more.

        Raises:
            JondelError: it cannot be read.
        """


class ListedRows:
    """Rows that are all at hand; a position is the row's ordinal."""

    def __init__(self, columns: Sequence[SourceColumn], rows: Sequence[ShownRow]) -> None:
        self.columns = columns
        self.extent = Extent(len(rows))
        self._rows = rows

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        return ((ordinal,), self._rows[ordinal]) if 0 <= ordinal < len(self._rows) else None

    def missing(self, first: int, last: int) -> list[int]:
        return []

    async def fetch(self, block: int) -> bool:
        return False
