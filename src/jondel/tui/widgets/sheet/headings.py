"""What heads the columns of a table, and what is declared of them, in few characters."""

from __future__ import annotations

from jondel.core.browse.display import safe_name
from jondel.core.model.schema import Column, Table
from jondel.tui.widgets.sheet.source import SourceColumn


def columns_of(table: Table) -> tuple[SourceColumn, ...]:
    """A table's columns as a sheet shows them."""
    return tuple(
        SourceColumn(
            column.name,
            _heading(table, column),
            column_remark(table, column),
            column.type.is_number,
            column.name in table.primary_key,
        )
        for column in table.columns
    )


def _heading(table: Table, column: Column) -> str:
    name = safe_name(column.name)
    if column.key_position:
        name = f"◆ {name}"
    if table.links_from(column.name):
        name = f"→ {name}"
    return name


def column_remark(table: Table, column: Column) -> str:
    """A column's declared type, and what else is declared of it."""
    parts = [safe_name(column.type.name.lower()) if column.type.name else "no type"]
    if column.not_null:
        parts.append("not null")
    if column.generated:
        parts.append("generated")
    if column.default is not None:
        parts.append(f"= {safe_name(column.default)}")
    parts += [f"→ {safe_name(link.target_table)}" for link in table.links_from(column.name)]
    return " ".join(parts)
