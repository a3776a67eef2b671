"""Tells values that are stored otherwise than their column declares."""

from __future__ import annotations

from jondel.core.model.column_types import TIMES, ValueKind
from jondel.core.model.schema import Column
from jondel.core.model.values import Value, kind_of

_EXPECTED: dict[ValueKind, tuple[str, ...]] = {
    "integer": ("integer",),
    "real": ("real", "integer"),
    "numeric": ("integer", "real"),
    "text": ("text",),
}
_AS_TEXT: frozenset[ValueKind] = TIMES | {"json", "uuid", "text"}
"""What people keep as text also where the engine would take numbers."""


def type_mismatch(column: Column, value: Value) -> str | None:
    """The kind of a value, where it is not what the column's declared type says."""
    stored = kind_of(value)
    if column.type.exact:
        return None  # the engine takes nothing else
    expected = _EXPECTED.get(column.type.kind)
    if stored == "null" or expected is None or stored in expected:
        return None
    if stored == "text" and column.type.kind == "numeric" and column.type.meant in _AS_TEXT:
        return None
    return stored
