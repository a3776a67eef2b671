"""Leaves out of snapshots what would take longer, and more room, than anybody expects."""

from __future__ import annotations

from dataclasses import replace

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import OURS
from jondel.core.model.schema import Schema, Table
from jondel.core.model.sizes import size_text

_SIZES = f"""
SELECT c.oid, CASE WHEN c.relkind = 'p' THEN
    (SELECT sum(pg_table_size(p.relid)) FROM pg_partition_tree(c.oid) p)
    ELSE pg_table_size(c.oid) END
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'm') AND {OURS}
"""
_STAYS = 1.25
"""So many times the size, one that was taken in is left out: none comes and goes with each step."""


def without_large_tables(
    connection: Connection, schema: Schema, before: Schema | None, largest: int
) -> Schema:
    """The schema with tables of more bytes as ones that cannot be read, which says why.

    ``before`` is the schema of which the tables were taken in last.
    """
    sizes = {int(number): int(size or 0) for number, size in connection.execute(_SIZES).fetchall()}

    def told(table: Table) -> Table:
        was = before.find(table.id) if before is not None else None
        limit = largest * (_STAYS if was is not None and was.is_mirrored else 1)
        size = sizes.get(table.identity or 0, 0)
        if not table.is_mirrored or size <= limit:
            return table
        return replace(
            table,
            unreadable=f"it takes {size_text(size)}, more than {size_text(largest)}, and is left "
            "out of snapshots (`jondel store largest-table SIZE` takes it in)",
        )

    return replace(schema, tables=tuple(map(told, schema.tables)))
