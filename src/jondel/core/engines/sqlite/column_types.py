"""What SQLite makes of a column's declared type, and what people mean by it."""

from __future__ import annotations

from functools import lru_cache

from jondel.core.model.column_types import ColumnType, ValueKind

_AFFINITIES: tuple[tuple[str, ValueKind], ...] = (
    ("INT", "integer"),
    ("CHAR", "text"),
    ("CLOB", "text"),
    ("TEXT", "text"),
    ("BLOB", "any"),
    ("REAL", "real"),
    ("FLOA", "real"),
    ("DOUB", "real"),
)
"""Parts of declared types, the first that occurs decides (https://sqlite.org/datatype3.html)."""
_STRICT: dict[str, ValueKind] = {"ANY": "any", "BLOB": "blob"}
"""What STRICT tables make of types that say something else there."""
_MEANT: tuple[tuple[str, ValueKind], ...] = (
    ("DATETIME", "timestamp"),
    ("TIMESTAMP", "timestamp"),
    ("DATE", "date"),
    ("TIME", "time"),
    ("JSONB", "blob"),
    ("JSON", "json"),
    ("BOOL", "boolean"),
    ("UUID", "uuid"),
    ("STRING", "text"),
    ("ENUM", "text"),
)
"""Words in declared types that mean nothing to SQLite, and something to people."""
_AFFINITY_NAMES: dict[ValueKind, str] = {
    "integer": "INTEGER",
    "real": "REAL",
    "numeric": "NUMERIC",
    "text": "TEXT",
}


@lru_cache(maxsize=1024)
def column_type(declared: str, strict: bool = False) -> ColumnType:
    """The type of a column that is declared so; ``strict`` for one of a STRICT table."""
    name = declared.upper()
    if not name:
        return ColumnType()
    kind: ValueKind = next((kind for part, kind in _AFFINITIES if part in name), "numeric")
    if strict:
        kind = _STRICT.get(name, kind)
    return ColumnType(declared, kind, next((use for part, use in _MEANT if part in name), None))


def affinity_name(kind: ValueKind) -> str:
    """A declared type that has SQLite treat values as one of this kind."""
    return _AFFINITY_NAMES.get(kind, "BLOB")
