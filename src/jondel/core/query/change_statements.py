"""Changes, and where links lead, as statements that a person can go on with."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.browse.links import Link
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.schema import ROW_ID
from jondel.core.model.values import StoredValue, Value
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.values_in_sql import literal


def statement_of_change(changes: TableChanges, change: RecordChange, dialect: Dialect) -> str:
    """The statement that makes a change."""
    table = table_name(changes.table, dialect)
    if change.kind == "added":
        cells = [
            (name, value)
            for name, value in zip(changes.columns_after, change.after or (), strict=True)
            if name not in changes.computed
        ]
        names = ", ".join(name_in_sql(name, dialect) for name, _ in cells)
        values = ", ".join(literal(value, dialect.forms) for _, value in cells)
        return f"INSERT INTO {table} ({names})\nVALUES ({values})"
    columns = (ROW_ID,) if changes.key_is_row_id else changes.key_columns
    key = (change.row_id,) if changes.key_is_row_id else change.key
    where = condition(columns, key, dialect)
    if change.kind == "removed":
        return f"DELETE FROM {table}\nWHERE {where}"
    sets = ", ".join(
        f"{name_in_sql(cell.column, dialect)} = {literal(cell.after, dialect.forms)}"
        for cell in change.cells
        if cell.column not in changes.computed
    )
    return f"UPDATE {table}\nSET {sets}\nWHERE {where}"


def statement_of_link(link: Link, values: Sequence[StoredValue], dialect: Dialect) -> str:
    """The statement that reads what a link leads to."""
    where = condition(link.parent_columns, values, dialect)
    return f"SELECT *\nFROM {table_name(link.parent, dialect)}\nWHERE {where}"


def table_name(table: TableId, dialect: Dialect) -> str:
    """A table's name as it stands in SQL."""
    levels = table[-1:] if set(table[:-1]) <= dialect.searched else table
    return ".".join(name_in_sql(level, dialect) for level in levels)


def condition(columns: Sequence[str], values: Sequence[Value], dialect: Dialect) -> str:
    """That columns hold some values."""
    return " AND ".join(
        f"{name_in_sql(name, dialect)} IS NULL"
        if value is None
        else f"{name_in_sql(name, dialect)} = {literal(value, dialect.forms)}"
        for name, value in zip(columns, values, strict=True)
    )
