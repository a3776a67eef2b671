"""What PostgreSQL's types come down to, and how their values read."""

from __future__ import annotations

import re
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


_SPELLINGS = {
    "smallint": "int2", "integer": "int4", "int": "int4", "bigint": "int8", "serial": "int4",
    "bigserial": "int8", "real": "float4", "double precision": "float8", "decimal": "numeric",
    "character varying": "varchar", "character": "bpchar", "char": "bpchar", "boolean": "bool",
    "time without time zone": "time", "time with time zone": "timetz",
    "timestamp without time zone": "timestamp", "timestamp with time zone": "timestamptz",
    "bit varying": "varbit",
}  # fmt: skip
"""Types as SQL spells them, and what the catalogue calls them."""
_MEASURE = re.compile(r"\s*\([^)]*\)")


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


def type_named(name: str) -> ColumnType:
    """The type that is spelled so in SQL; one that is not known here holds values as text."""
    plain = " ".join(_MEASURE.sub("", name.lower()).split())
    is_array = plain.endswith("[]")
    plain = plain.removesuffix("[]")
    return column_type(TypeFacts(name, _SPELLINGS.get(plain, plain), "b", is_array))


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
