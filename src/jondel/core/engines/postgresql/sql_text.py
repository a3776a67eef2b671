"""Names and values in PostgreSQL's SQL."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, InvalidText, StoredValue

OURS = "n.nspname <> 'information_schema' AND n.nspname !~ '^pg_'"
"""Schemas that are not the server's own, among them the temporary ones of sessions."""


def quoted(name: str) -> str:
    """A name as SQL always takes it. A percent sign is doubled: statements go with arguments."""
    doubled = name.replace('"', '""').replace("%", "%%")
    return f'"{doubled}"'


def unmarked(sql: str) -> str:
    """SQL as it goes without arguments, where nothing stands for a value."""
    return sql.replace("%%", "%")


def quoted_list(names: Iterable[str]) -> str:
    return ", ".join(map(quoted, names))


def named(table: TableId) -> str:
    """A table's name with its schema."""
    return ".".join(map(quoted, table))


def source(table: Table) -> str:
    """A table as it stands after FROM: without the rows of tables that inherit from it, which are
    listed themselves."""
    return f"ONLY {named(table.id)}" if table.inherited else named(table.id)


def written(name: str) -> str:
    """A column's values as their type writes them, '' for NULL; a cast to text adds to some types,
    or takes away."""
    return f"format('%%s', {quoted(name)})"


def searched(column: Column) -> str:
    """A column's values as text that is searched, as people read them."""
    name = quoted(column.name)
    return f"{name}::text" if column.type.kind == "boolean" else written(column.name)


def argument(value: StoredValue) -> str | bytes | None:
    """What is sent for a value where ``%s`` stands, to be cast to its column's type."""
    match value:
        case None:
            return None
        case bytes():
            return f"\\x{value.hex()}"
        case bool() | int() | float():
            return repr(value)
        case Exact(_, text):
            return text
        case InvalidText(raw):
            return raw
        case _:
            return value
