"""Guesses what columns of a file hold, for a table that is made for them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from decimal import Decimal

from jondel.core.imports.readings import is_plain_real, is_plain_whole
from jondel.core.imports.source import Raw
from jondel.core.model.column_types import ValueKind
from jondel.core.model.exact_order import is_understood
from jondel.core.model.values import Exact

_UUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}")
_BYTES = re.compile(r"0x(?:[0-9a-fA-F]{2})+")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_MOMENT = re.compile(
    r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]+)?)?"
    r"(?P<zone>Z|[+-][0-9]{2}(:?[0-9]{2})?)?"
)
_WIDER: dict[frozenset[str], ValueKind] = {
    frozenset({"integer", "numeric"}): "numeric",
    frozenset({"date", "timestamp"}): "timestamp",
}
"""What holds the values of two kinds, where it is no text."""


def kind_of_values(values: Iterable[Raw]) -> ValueKind:
    """The kind that all values have, and text where they have none in common."""
    found: ValueKind | None = None
    for value in values:
        if value is None:
            continue
        kind = _kind_of(value)
        if found is None or found == kind:
            found = kind
            continue
        found = _WIDER.get(frozenset({found, kind}))
        if found is None:
            return "text"
    return found or "text"


def may_be_key(values: Sequence[Raw]) -> bool:
    """Whether some values could be those of a key: none is NULL, and none is there twice."""
    return bool(values) and None not in values and len({str(v) for v in values}) == len(values)


def _kind_of(value: Raw) -> ValueKind:
    match value:
        case bool():
            return "boolean"
        case int():
            return "integer" if -(2**63) <= value < 2**63 else "numeric"
        case float() | Decimal():
            return "numeric"
        case dict() | list():
            return _kind_of_object(value)
        case str():
            return _kind_of_text(value)
    return "text"


def _kind_of_object(value: object) -> ValueKind:
    match value:
        case {"base64": str()}:
            return "blob"
        case {"real": str()}:
            return "real"
        case {"text_base64": str()}:
            return "text"
        case {"type": "numeric" | "date" | "timestamp" | "uuid" as kind, "text": str()}:
            return kind  # type: ignore[no-any-return]
        case {"type": "timestamp with time zone", "text": str()}:
            return "timestamp with time zone"
        case {"type": str(), "text": str()}:
            return "text"
    return "json"


def _kind_of_text(text: str) -> ValueKind:
    if is_plain_whole(text):
        return "integer"
    if is_plain_real(text):
        return "numeric"
    if text in ("true", "false", "True", "False", "TRUE", "FALSE"):
        return "boolean"
    if _DATE.fullmatch(text) and is_understood(Exact("date", text)):
        return "date"
    moment = _MOMENT.fullmatch(text)
    if moment is not None:
        return "timestamp with time zone" if moment["zone"] else "timestamp"
    if _UUID.fullmatch(text):
        return "uuid"
    return "blob" if _BYTES.fullmatch(text) else "text"
