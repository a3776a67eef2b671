"""What a person types for an exact value: checked as far as its kind allows, and kept as typed."""

from __future__ import annotations

import json

from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.exact_order import is_understood
from jondel.core.model.values import Exact

TRUTHS = {
    **dict.fromkeys(("true", "t", "yes", "y", "on", "1"), "true"),
    **dict.fromkeys(("false", "f", "no", "n", "off", "0"), "false"),
}
_WANTED: dict[ValueKind, str] = {
    "numeric": "a number",
    "date": "a date, as in 2026-06-14",
    "time": "a time, as in 14:02:11",
    "time with time zone": "a time with its zone, as in 14:02:11+02",
    "timestamp": "a date and time, as in 2026-06-14 14:02:11",
    "timestamp with time zone": "a date and time with its zone, as in 2026-06-14 14:02:11+02",
    "interval": "an interval, as in 1 day 02:00:00",
    "uuid": "a uuid of 32 hexadecimal digits",
}


class UnfitForKind(ValueError):
    """A text is none of a kind; the message says what would be."""


def exact_typed(column_type: ColumnType, text: str) -> Exact:
    """The exact value that a text typed for a column of this type stands for.

    Raises:
        UnfitForKind: it stands for none.
    """
    kind = column_type.kind
    if kind == "boolean":
        truth = TRUTHS.get(text.strip().lower())
        if truth is None:
            raise UnfitForKind("true or false")
        return Exact("boolean", truth)
    if kind == "enum":
        if column_type.labels and text not in column_type.labels:
            raise UnfitForKind(f"one of {', '.join(column_type.labels)}")
        return Exact("enum", text)
    if kind == "json":
        _require_json(text)
        return Exact("json", text)
    if kind == "other":
        return Exact(column_type.name, text)
    value = Exact(kind, text.strip() if kind in _WANTED else text)
    if kind in _WANTED and not is_understood(value):
        raise UnfitForKind(_WANTED[kind])
    return value


def _require_json(text: str) -> None:
    try:
        json.loads(text)
    except (ValueError, RecursionError) as error:
        raise UnfitForKind(f"JSON ({error})") from error
