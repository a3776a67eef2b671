"""A table's rows in blocks: which are at hand, which to read next, and how to read them fast.

``WindowCache`` is plain bookkeeping and never reads by itself. Whoever shows rows asks ``row`` for
each line, ``missing`` for the blocks that a stretch of lines lacks, reads those with ``fetch``
(possibly in another thread) and gives them back with ``add``.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database, Extent, RowOrder
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, identical

if TYPE_CHECKING:
    from jondel.core.model.filters import Arrangement

BLOCK_ROWS = 128
_KEPT_BLOCKS = 48
_READ_AT_ONCE = 500


class WindowCache:
    """Blocks of one table's rows, the least recently used dropped first.

    The rows are those of an arrangement, or the table as it is for None. While its order is being
    made, only the first rows are known.
    """

    def __init__(
        self,
        table: Table,
        extent: Extent,
        arrangement: Arrangement | None = None,
        order: RowOrder | None = None,
    ) -> None:
        self.table = table
        self.extent = extent
        self.arrangement = arrangement
        self.order = order
        self._blocks: OrderedDict[int, Window] = OrderedDict()

    @property
    def complete(self) -> bool:
        """Whether it is known how many rows there are, and any can be read."""
        return self.extent.precision == "exact" and (self.arrangement is None or bool(self.order))

    @property
    def anywhere(self) -> bool:
        """Whether any connection can read the rows."""
        return self.order is None or self.order.anywhere

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        """The row at an ordinal from 0, or None where its block is not at hand.

        The row is empty where it was there when its order was made, and is no more.
        """
        window = self._blocks.get(ordinal // BLOCK_ROWS)
        within = ordinal % BLOCK_ROWS
        if window is None or within >= len(window.rows):
            return None
        return window.positions[within], window.rows[within]

    def ordinal_near(self, position: Position, ordinal: int) -> int | None:
        """Where a record is, if it is at this ordinal or in a block at hand around it."""
        at = self.row(ordinal)
        if at is not None and at[0] == position:
            return ordinal
        block = ordinal // BLOCK_ROWS
        for number in (block, block - 1, block + 1):
            window = self._blocks.get(number)
            if window is not None and position in window.positions:
                return window.offset + list(window.positions).index(position)
        return None

    def missing(self, first: int, last: int) -> list[int]:
        """The blocks not at hand for the rows from ``first`` to ``last``, both included."""
        last = min(last, self.extent.rows - 1)
        if last < first:
            return []
        wanted = range(max(0, first) // BLOCK_ROWS, last // BLOCK_ROWS + 1)
        for block in wanted:
            if block in self._blocks:
                self._blocks.move_to_end(block)
        if self.arrangement is not None and self.order is None:
            return []
        return [block for block in wanted if block not in self._blocks]

    def fetch(self, database: Database, block: int) -> Window:
        """Read a block, going on from a neighbour where one is at hand."""
        offset = block * BLOCK_ROWS
        limit = min(BLOCK_ROWS, self.extent.rows - offset)
        if self.order is not None:
            return database.rows.read_window(self.table, offset, limit, order=self.order)
        earlier, later = self._blocks.get(block - 1), self._blocks.get(block + 1)
        after = earlier.positions[-1] if earlier and len(earlier.rows) == BLOCK_ROWS else None
        before = later.positions[0] if later and later.rows else None
        return database.rows.read_window(
            self.table,
            offset,
            limit,
            extent=self.extent,
            after=after or None,
            before=before or None,
        )

    def add(self, window: Window) -> None:
        """Keep a block that ``fetch`` returned."""
        self._blocks[window.offset // BLOCK_ROWS] = window
        while len(self._blocks) > _KEPT_BLOCKS:
            self._blocks.popitem(last=False)

    def read_around(self, database: Database, ordinals: Iterable[int]) -> None:
        """Read the blocks that these rows are in, where they are not at hand."""
        last = max(0, self.extent.rows - 1)
        wanted = {0, *(min(max(0, ordinal), last) for ordinal in ordinals)}
        for block in sorted({ordinal // BLOCK_ROWS for ordinal in wanted}):
            if block not in self._blocks:
                self.add(self.fetch(database, block))

    def take_extent(self, extent: Extent) -> None:
        """Know better how many rows there are.

        A last block that was cut short by the former extent is read anew.
        """
        self.extent = extent
        for block, window in list(self._blocks.items()):
            expected = min(BLOCK_ROWS, extent.rows - window.offset)
            if len(window.rows) != expected:
                del self._blocks[block]

    def changed_since(
        self, before: Mapping[Position, ShownRow], ordinals: Iterable[int]
    ) -> dict[Position, frozenset[int]]:
        """Which cells of some rows at hand are others than before, by their columns' indexes."""
        changed: dict[Position, frozenset[int]] = {}
        for ordinal in ordinals:
            position, row = self.row(ordinal) or ((), ())
            earlier = before.get(position, ()) if position else ()
            if len(earlier) != len(row):
                continue
            pairs = enumerate(zip(earlier, row, strict=True))
            cells = frozenset(index for index, pair in pairs if not identical(*pair))
            if cells:
                changed[position] = cells
        return changed


def rows_of(
    database: Database, table: Table, order: RowOrder
) -> Iterator[tuple[Position, ShownRow]]:
    """All rows of an order one after the other, read by windows: large values are clipped."""
    for offset in range(0, order.rows, _READ_AT_ONCE):
        window = database.rows.read_window(table, offset, _READ_AT_ONCE, order=order)
        yield from zip(window.positions, window.rows, strict=True)
