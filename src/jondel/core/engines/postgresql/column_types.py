"""What PostgreSQL's types come down to, and how their values read."""

from __future__ import annotations

from typing import NamedTuple

from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.values import Exact, InvalidText, StoredValue

_KINDS: dict[str, ValueKind] = {
    **dict.fromkeys(("int2", "int4", "int8", "oid"), "integer"),
    **dict.fromkeys(("float4", "float8"), "real"),
    **dict.fromkeys(("text", "varchar", "bpchar", "name", "char", "citext"), "text"),
    "bytea": "blob",
    "numeric": "numeric",
    "bool": "boolean",
    "date": "date",
    "time": "time",
    "timetz": "time with time zone",
    "timestamp": "timestamp",
    "timestamptz": "timestamp with time zone",
    "interval": "interval",
    "uuid": "uuid",
    "json": "json",
    "jsonb": "json",
    "bit": "bits",
    "varbit": "bits",
}
_PLAIN: frozenset[ValueKind] = frozenset({"integer", "real", "text", "blob"})


class TypeFacts(NamedTuple):
    """What the catalogue says of a column's type.

    ``shown`` is how it is declared, ``base`` the name of the type under all domains, ``sort`` the
    catalogue's letter for what sort of type that is, ``is_array`` whether it has elements.
    """

    shown: str
    base: str
    sort: str
    is_array: bool
    labels: tuple[str, ...] = ()


def column_type(facts: TypeFacts) -> ColumnType:
    """The type of a column."""
    if facts.is_array:
        kind: ValueKind = "array"
    elif facts.sort == "e":
        kind = "enum"
    else:
        kind = _KINDS.get(facts.base, "other")
    return ColumnType(facts.shown, kind, labels=facts.labels, exact=kind not in _PLAIN)


def value_of(column_type: ColumnType, text: bytes | None) -> StoredValue:
    """The value that the server wrote so for a column of a type."""
    if text is None:
        return None
    kind = column_type.kind
    if kind == "integer":
        return int(text)
    if kind == "real":
        return float(text)
    if kind == "blob":
        return bytes.fromhex(text[2:].decode("ascii"))
    try:
        read = text.decode("utf-8")
    except UnicodeDecodeError:
        return InvalidText(bytes(text))
    if kind == "text":
        return read
    if kind == "boolean":
        return Exact("boolean", "true" if read.startswith("t") else "false")
    return Exact(column_type.name if kind == "other" else kind, read)
