"""What is known of the moment one is at: its tables, their counts, and its changes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.model.schema import Table


class MomentState:
    """Filled in as it becomes known. Another moment has another state, so answers that come late
    reach only the state that nobody shows any more."""

    def __init__(self, tables: Sequence[Table] = ()) -> None:
        self.tables = list(tables)
        self.counts: dict[TableId, int | None] = {}
        """Rows by table, None for a table whose rows cannot be counted."""
        self.changes: Changes | None = None
        """None while they are not known."""
        self.changes_at: datetime | None = None
        """When they were found."""
        self.changes_notice = ""
        """What to show in place of changes, while there are none to show."""
        self.problem = ""
        """Why nothing of the moment can be shown; empty where it can."""

    def table(self, wanted: TableId | None) -> Table | None:
        """A table by its address."""
        return next((table for table in self.tables if table.id == wanted), None)
