"""Values as plain text, where their column's type goes with them."""

from __future__ import annotations

from jondel.core.model.column_types import ColumnType
from jondel.core.model.values import Exact, InvalidText, StoredValue


def as_text(value: StoredValue) -> str:
    """A value as text that ``from_text`` reads; NULL and text that is not valid as nothing."""
    match value:
        case None | InvalidText():
            return ""
        case bytes():
            return value.hex()
        case Exact(_, text):
            return text
        case _:
            return str(value)


def from_text(column_type: ColumnType, text: str) -> StoredValue:
    """The value of a column that ``as_text`` wrote; exact ones as their text."""
    match column_type.kind:
        case "integer":
            return int(text)
        case "real":
            return float(text)
        case "blob":
            return bytes.fromhex(text)
        case _:
            return text
