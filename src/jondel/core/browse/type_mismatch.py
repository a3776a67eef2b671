"""Tells values that are stored otherwise than their column declares."""

from __future__ import annotations

from jondel.core.model.schema import Column
from jondel.core.model.values import StorageClass, Value, storage_class

_EXPECTED: dict[str, tuple[StorageClass, ...]] = {
    "integer": ("integer",),
    "real": ("real", "integer"),
    "numeric": ("integer", "real"),
    "text": ("text",),
}
_TEXT_TOO = ("DATE", "TIME", "JSON", "UUID", "STRING", "ENUM")
"""Declared types that the engine takes for numbers, and people use for text."""


def type_mismatch(column: Column, value: Value) -> StorageClass | None:
    """The storage class of a value, where it is not what the column's declared type says."""
    stored = storage_class(value)
    expected = _EXPECTED.get(column.affinity)
    if stored == "null" or expected is None or stored in expected:
        return None
    declared = column.declared_type.upper()
    if stored == "text" and column.affinity == "numeric" and any(t in declared for t in _TEXT_TOO):
        return None
    return stored
