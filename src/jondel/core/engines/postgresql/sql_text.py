"""Names and values in PostgreSQL's SQL."""

from __future__ import annotations

from collections.abc import Iterable

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column
from jondel.core.model.values import Exact, InvalidText, StoredValue


def quoted(name: str) -> str:
    """A name as SQL always takes it. A percent sign is doubled: statements go with arguments."""
    doubled = name.replace('"', '""').replace("%", "%%")
    return f'"{doubled}"'


def quoted_list(names: Iterable[str]) -> str:
    return ", ".join(map(quoted, names))


def source(table: TableId) -> str:
    """A table as it stands after FROM."""
    return ".".join(map(quoted, table))


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
