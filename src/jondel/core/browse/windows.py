"""A table's rows in blocks: which are at hand, which to read next, and how to read them fast.

``WindowCache`` is plain bookkeeping and never reads by itself. Whoever shows rows asks ``row`` for
each line, ``missing`` for the blocks that a stretch of lines lacks, reads those with ``fetch``
(possibly in another thread) and gives them back with ``add``.
"""

from __future__ import annotations

from collections import OrderedDict

from jondel.core.engines.protocol import Database, Extent
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow

BLOCK_ROWS = 128
_KEPT_BLOCKS = 48


class WindowCache:
    """Blocks of one table's rows, the least recently used dropped first."""

    def __init__(self, table: Table, extent: Extent) -> None:
        self.table = table
        self.extent = extent
        self._blocks: OrderedDict[int, Window] = OrderedDict()

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        """The row at an ordinal from 0, or None where its block is not at hand."""
        window = self._blocks.get(ordinal // BLOCK_ROWS)
        within = ordinal % BLOCK_ROWS
        if window is None or within >= len(window.rows):
            return None
        return window.positions[within], window.rows[within]

    def missing(self, first: int, last: int) -> list[int]:
        """The blocks not at hand for the rows from ``first`` to ``last``, both included."""
        last = min(last, self.extent.rows - 1)
        if last < first:
            return []
        wanted = range(max(0, first) // BLOCK_ROWS, last // BLOCK_ROWS + 1)
        for block in wanted:
            if block in self._blocks:
                self._blocks.move_to_end(block)
        return [block for block in wanted if block not in self._blocks]

    def fetch(self, database: Database, block: int) -> Window:
        """Read a block, going on from a neighbour where one is at hand."""
        offset = block * BLOCK_ROWS
        limit = min(BLOCK_ROWS, self.extent.rows - offset)
        earlier, later = self._blocks.get(block - 1), self._blocks.get(block + 1)
        after = earlier.positions[-1] if earlier and len(earlier.rows) == BLOCK_ROWS else None
        before = later.positions[0] if later and later.rows else None
        return database.read_window(
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
