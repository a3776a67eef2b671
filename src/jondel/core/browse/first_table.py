"""Which table a database opens with: the one last looked at, else one that says something."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from jondel.core.files.small_files import SmallFile
from jondel.core.model.schema import Table


class LastTable:
    """The table that was last looked at in the database at a location."""

    def __init__(self, location: str) -> None:
        self._file = SmallFile("places", location)

    def read(self) -> str:
        """Its name; nothing where none is known."""
        name = self._file.read().get("table")
        return name if isinstance(name, str) else ""

    def write(self, name: str) -> None:
        """Keep it for the next time.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        self._file.write({"table": name})


def first_table(
    tables: Sequence[Table], last: str = "", changed: Mapping[str, int] | None = None
) -> Table:
    """The table to open with, of one at least.

    ``last`` is the name of the one last looked at; ``changed`` counts the rows of a table that
    changed lately. Otherwise it is the one that most others are linked with, and of several the
    first.
    """
    known = next((table for table in tables if table.name == last), None)
    if known is not None:
        return known
    linked = _links(tables)
    changes = changed or {}

    def weight(table: Table) -> tuple[bool, int, bool, int]:
        readable = table.unreadable is None
        return (readable, changes.get(table.name, 0), table.kind != "view", linked[table.name])

    return max(tables, key=weight)


def _links(tables: Sequence[Table]) -> Counter[str]:
    """How many foreign keys lead from and to each table, one of its own counted once."""
    folded = {table.name.casefold(): table.name for table in tables}
    counts: Counter[str] = Counter()
    for table in tables:
        for key in table.foreign_keys:
            target = folded.get(key.target_table.casefold())
            counts.update({table.name, target} if target is not None else ())
    return counts
