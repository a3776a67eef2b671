"""Into which table a file goes: one that is there, or a new one."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.engines.protocol import Database
from jondel.core.errors import ImportFailed
from jondel.core.imports.matching import matches_for_new, matches_with
from jondel.core.imports.plan import ImportPlan
from jondel.core.imports.preview import Sample
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.sql.dialect import Dialect

_NOT_INSERTED_INTO = ("view", "materialised view")


def plan_for_table(sample: Sample, table: Table) -> ImportPlan:
    """The import of a file into a table that is there."""
    matches = matches_with(sample.source.columns, table)
    return ImportPlan(sample.source.path, sample.options, table.id, matches, stamp=sample.stamp)


def plan_for_new(sample: Sample, table: TableId, dialect: Dialect) -> ImportPlan:
    """The import of a file into a table that is made for it."""
    source = sample.source
    values = [sample.values(place) for place in range(len(source.columns))]
    matches = matches_for_new(source.columns, values, dialect)
    return ImportPlan(source.path, sample.options, table, matches, is_new=True, stamp=sample.stamp)


def new_table_id(name: str, schema: Schema, dialect: Dialect) -> TableId:
    """The address of a table that is to be made.

    Raises:
        ImportFailed: there is one of that name, or the name is none.
    """
    if not name.strip():
        raise ImportFailed("the new table has no name")
    table = TableId.parsed(name)
    if dialect.searched and len(table) == 1:
        table = TableId(min(dialect.searched), table.name)
    if schema.find(table) is not None:
        raise ImportFailed(f"there is a table {table} already")
    return table


def table_like(name: str, schema: Schema) -> Table | None:
    """The table that a file is named after."""
    found = schema.named(name)
    return found if found is not None and found.kind not in _NOT_INSERTED_INTO else None


def table_that_fits(columns: Sequence[str], schema: Schema, seen: Table | None) -> Table | None:
    """The table that a file's columns fit: the one that is ``seen`` where most of them do, else one
    that has all of them and the fewest others."""
    if seen is not None and seen.kind not in _NOT_INSERTED_INTO:
        matches = matches_with(columns, seen)
        if sum(match.target is not None for match in matches) * 2 > len(matches):
            return seen
    tables = [
        table
        for table in schema.tables
        if table.kind not in _NOT_INSERTED_INTO
        and not table.internal
        and len(columns) > 1
        and all(match.target is not None for match in matches_with(columns, table))
    ]
    return min(tables, key=lambda table: len(table.columns), default=None)


def require_writable(database: Database, table: Table) -> None:
    """Raises ``ImportFailed`` where rows cannot be added to a table."""
    if table.kind in _NOT_INSERTED_INTO:
        raise ImportFailed(f"{table.title} is a {table.kind}; import into the table behind it")
    writer = database.writer
    reason = writer.why_not_written(table) if writer is not None else ""
    if reason:
        raise ImportFailed(f"{table.title}: {reason}")
