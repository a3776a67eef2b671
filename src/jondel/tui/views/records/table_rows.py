"""The rows of a table as of a moment, or of an order of it, as a sheet draws them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

from jondel.core.browse.windows import WindowCache
from jondel.core.engines.protocol import Extent
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import RowService
from jondel.tui.widgets.sheet.headings import columns_of
from jondel.tui.widgets.sheet.source import SourceColumn


class TableRows:
    """A ``RowSource`` over a window cache."""

    def __init__(self, service: RowService, moment: Moment, cache: WindowCache) -> None:
        self._service = service
        self.moment = moment
        self.cache = cache

    @property
    def table(self) -> Table:
        return self.cache.table

    @cached_property
    def columns(self) -> Sequence[SourceColumn]:
        return columns_of(self.cache.table)

    @property
    def extent(self) -> Extent:
        return self.cache.extent

    def row(self, ordinal: int) -> tuple[Position, ShownRow] | None:
        return self.cache.row(ordinal)

    def missing(self, first: int, last: int) -> list[int]:
        return self.cache.missing(first, last)

    async def fetch(self, block: int) -> bool:
        window = await self._service.block(self.moment, self.cache, block)
        if not window.rows and window.offset < self.cache.extent.rows:
            return False
        self.cache.add(window)
        return True

    def changed_since(
        self, before: Mapping[Position, ShownRow], ordinals: Iterable[int]
    ) -> dict[Position, frozenset[int]]:
        """Which cells of some rows are others than before; see ``WindowCache``."""
        return self.cache.changed_since(before, ordinals)
