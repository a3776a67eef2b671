"""Which table a database opens with: the one last looked at, else one that says something."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table


class LastTable:
    """The table that was last looked at in the database at a location."""

    def __init__(self, location: str) -> None:
        self._file = SmallFile("places", location)

    def read(self) -> TableId | None:
        """Its address; None where none is known."""
        try:
            return TableId.kept(self._file.read().get("table"))
        except ValueError:
            return None

    def write(self, table: TableId) -> None:
        """Keep it for the next time.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        self._file.write({"table": list(table)})


def first_table(
    tables: Sequence[Table],
    last: TableId | None = None,
    changed: Mapping[TableId, int] | None = None,
) -> Table:
    """The table to open with, of one at least.

    ``last`` is the one last looked at; ``changed`` counts the rows of a table that
    changed lately. Otherwise it is the one that most others are linked with, and of several the
    first.
    """
    known = next((table for table in tables if table.id == last), None)
    if known is not None:
        return known
    linked = _links(tables)
    changes = changed or {}

    def weight(table: Table) -> tuple[bool, int, bool, int]:
        readable = table.unreadable is None
        return (readable, changes.get(table.id, 0), table.kind != "view", linked[table.id])

    return max(tables, key=weight)


def _links(tables: Sequence[Table]) -> Counter[TableId]:
    """How many foreign keys lead from and to each table, one of its own counted once."""
    schema = Schema(tuple(tables))
    counts: Counter[TableId] = Counter()
    for table in tables:
        for key in table.foreign_keys:
            target = schema.find(key.target_table)
            counts.update({table.id, target.id} if target is not None else ())
    return counts
