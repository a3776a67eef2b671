"""Values as a database stores them.

A stored value is one of five storage classes. ``None``, ``int``, ``float``, ``str`` and ``bytes``
carry them; two further types stand for what those cannot: text that is not valid in its encoding,
and a value too large to be brought along whole.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

StorageClass: TypeAlias = Literal["null", "integer", "real", "text", "blob"]


@dataclass(frozen=True, slots=True)
class InvalidText:
    """Text whose stored bytes are not valid UTF-8."""

    raw: bytes


@dataclass(frozen=True, slots=True)
class Clipped:
    """The beginning of a value that was too large to read whole.

    ``size`` counts the bytes of the whole stored value; ``head`` holds its first bytes (of text,
    in UTF-8, as stored).
    """

    storage_class: StorageClass
    size: int
    head: bytes


StoredValue: TypeAlias = int | float | str | bytes | InvalidText | None
"""A value in full: what diffs compare and JSON carries."""

Value: TypeAlias = StoredValue | Clipped
"""A value as shown: in full, or its beginning."""

Row: TypeAlias = tuple[StoredValue, ...]
"""One record's values in column order."""

ShownRow: TypeAlias = tuple[Value, ...]

_CLASSES: dict[type, StorageClass] = {
    type(None): "null",
    int: "integer",
    float: "real",
    str: "text",
    InvalidText: "text",
    bytes: "blob",
}


def storage_class(value: Value) -> StorageClass:
    """Name the storage class of a value."""
    if isinstance(value, Clipped):
        return value.storage_class
    return _CLASSES[type(value)]


def identical(one: Value, other: Value) -> bool:
    """Tell whether two values are stored alike: same storage class and same value.

    1, 1.0 and '1' differ, and so do NULL, '' and a zero-length blob.
    """
    return type(one) is type(other) and one == other


def clipped(value: Value, max_bytes: int) -> Value:
    """The value, or its beginning where it is larger than ``max_bytes`` bytes."""
    match value:
        case str() if len(value) * 4 > max_bytes:
            raw, kind = value.encode("utf-8", "surrogatepass"), "text"
        case bytes():
            raw, kind = value, "blob"
        case InvalidText(raw):
            kind = "text"
        case _:
            return value
    if len(raw) <= max_bytes:
        return value
    return Clipped("text" if kind == "text" else "blob", len(raw), raw[:max_bytes])
