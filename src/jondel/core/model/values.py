"""Values as a database stores them.

``None``, ``int``, ``float``, ``str`` and ``bytes`` are a value as it is. Whatever else an engine
has is an ``Exact`` one: its kind, and its text as the engine itself writes it. Two further types
stand for text that is not valid in its encoding, and for a value too large to be brought along
whole.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias


@dataclass(frozen=True, slots=True)
class InvalidText:
    """Text whose stored bytes are not valid UTF-8."""

    raw: bytes


@dataclass(frozen=True, slots=True)
class Exact:
    """A value that none of Python's types holds without loss: a decimal, a time, a uuid.

    ``kind`` is one of ``ValueKind``, or an engine's own name for a type that has none of those.
    ``text`` is how the engine writes the value, exactly: never rounded, never written otherwise.
    Equal are values of the same kind and text.
    """

    kind: str
    text: str

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True, slots=True)
class Clipped:
    """The beginning of a value that was too large to read whole.

    ``kind`` is the whole value's, see ``kind_of``. ``size`` counts the bytes of the whole stored
    value; ``head`` holds its first bytes (of text, in UTF-8, as stored).
    """

    kind: str
    size: int
    head: bytes

    @property
    def is_blob(self) -> bool:
        return self.kind == "blob"


StoredValue: TypeAlias = int | float | str | bytes | Exact | InvalidText | None
"""A value in full: what diffs compare and JSON carries."""

Value: TypeAlias = StoredValue | Clipped
"""A value as shown: in full, or its beginning."""

Row: TypeAlias = tuple[StoredValue, ...]
"""One record's values in column order."""

ShownRow: TypeAlias = tuple[Value, ...]

_KINDS: dict[type, str] = {
    type(None): "null",
    int: "integer",
    float: "real",
    str: "text",
    InvalidText: "text",
    bytes: "blob",
}


def kind_of(value: Value) -> str:
    """What kind of value it is: null, integer, real, text, blob, or an exact value's own kind."""
    if isinstance(value, Exact | Clipped):
        return value.kind
    return _KINDS[type(value)]


def is_number(value: Value) -> bool:
    """Whether it is a number of any kind."""
    return isinstance(value, int | float) or (isinstance(value, Exact) and value.kind == "numeric")


def identical(one: Value, other: Value) -> bool:
    """Tell whether two values are stored alike: same kind and same value.

    1, 1.0 and '1' differ, and so do NULL, '' and a zero-length blob, and 0.0 and -0.0. What is not
    a number is alike.
    """
    if type(one) is not type(other):
        return False
    if one == other:
        return one != 0 or str(one) == str(other)
    return one != one and other != other


def clipped(value: Value, max_bytes: int) -> Value:
    """The value, or its beginning where it is larger than ``max_bytes`` bytes."""
    match value:
        case str() if len(value) * 4 > max_bytes:
            raw, kind = value.encode("utf-8", "surrogatepass"), "text"
        case bytes():
            raw, kind = value, "blob"
        case InvalidText(raw):
            kind = "text"
        case Exact(kind, text) if len(text) * 4 > max_bytes:
            raw = text.encode("utf-8", "surrogatepass")
        case _:
            return value
    if len(raw) <= max_bytes:
        return value
    return Clipped(kind, len(raw), raw[:max_bytes])
