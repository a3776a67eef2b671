"""The statement that makes a table, from what is known of it."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.dialect import Dialect


def create_table(table: Table, dialect: Dialect, *, links: bool = True) -> str:
    """A CREATE TABLE with columns, key, defaults and, unless they are left out, ``links``.

    Checks, collations and what else an engine has are not in it.
    """
    key = table.primary_key
    lines = [_column(column, dialect, alone_in_key=key == (column.name,))
             for column in table.columns if not column.generated]  # fmt: skip
    if len(key) > 1:
        lines.append(f"PRIMARY KEY ({names_in_sql(key, dialect)})")
    lines += [f"UNIQUE ({names_in_sql(unique, dialect)})" for unique in table.unique_keys]
    for link in table.foreign_keys if links else ():
        target = table_in_sql(link.target_table, dialect)
        columns = names_in_sql(link.target_columns, dialect)
        to = f"{target} ({columns})" if columns else target
        lines.append(f"FOREIGN KEY ({names_in_sql(link.columns, dialect)}) REFERENCES {to}")
    body = ",\n".join(f"  {line}" for line in lines)
    return f"CREATE TABLE {table_in_sql(table.id, dialect)} (\n{body}\n)"


def _column(column: Column, dialect: Dialect, *, alone_in_key: bool) -> str:
    parts = [name_in_sql(column.name, dialect), column.type.name]
    if alone_in_key:
        parts.append("PRIMARY KEY")
    if column.not_null and not alone_in_key:
        parts.append("NOT NULL")
    if column.default is not None and not column.numbered:
        # In parentheses any expression can stand there, and a plain value stays what it is.
        parts.append(f"DEFAULT ({column.default})")
    return " ".join(part for part in parts if part)


def table_in_sql(table: TableId, dialect: Dialect) -> str:
    """A table as SQL names it, with all levels of its address."""
    return ".".join(name_in_sql(level, dialect) for level in table)


def names_in_sql(names: Iterable[str], dialect: Dialect) -> str:
    """Columns as SQL lists them."""
    return ", ".join(name_in_sql(name, dialect) for name in names)
