"""What a scanner says that knows nothing of how rows are stored."""

from __future__ import annotations

from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database, Selection
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import SequenceState

if TYPE_CHECKING:
    from jondel.core.engines.pages import PagePeek


class PlainScanner:
    """The part of ``Scanner`` by which an engine tells what need not be read: here nothing."""

    def rows_that_may_differ(self, older: Database, table: TableId) -> Selection | None:
        return None

    def settings(self) -> tuple[StoredValue, ...]:
        return ()

    def tables_alike(self, older: Database) -> frozenset[TableId]:
        return frozenset()

    def reads_alike(self, other: PagePeek) -> bool:
        return False

    def sequences(self) -> tuple[SequenceState, ...]:
        return ()

    def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        declared = table.column(column)
        return None, declared is not None and declared.default is None
