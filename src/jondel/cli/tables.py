"""The tables that a command line names."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.engines.protocol import Database
from jondel.core.errors import TableNotFound
from jondel.core.model.addresses import TableId


def tables_called(names: Iterable[str], states: Iterable[Database]) -> frozenset[TableId]:
    """The addresses of the tables that are called so in any of some states of a database.

    Raises:
        TableNotFound: there is no such table in any of them.
    """
    schemas = [state.schema() for state in states]
    found: set[TableId] = set()
    for name in names:
        called = {table.id for schema in schemas if (table := schema.named(name)) is not None}
        if not called:
            known = {table.title for schema in schemas for table in schema.tables}
            shown = ", ".join(sorted(known)[:12])
            where = "on either side" if len(schemas) > 1 else "there"
            raise TableNotFound(f"no table {name!r} {where}; there are: {shown}")
        found |= called
    return frozenset(found)
