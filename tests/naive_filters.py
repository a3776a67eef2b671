"""What conditions mean, spelt out value by value: the oracle for those that SQLite evaluates."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from jondel.core.model.filters import (
    NEGATED,
    ColumnCondition,
    Condition,
    GroupCondition,
    WordsCondition,
)

Row = Mapping[str, object]
_OF_TEXT = ("contains", "starts with", "ends with", "matches")
"""A blob is no text, whatever its bytes."""


def meets(row: Row, condition: Condition, types: Mapping[str, str]) -> bool:
    """Whether a row, stored in columns of these declared types, meets a condition."""
    match condition:
        case GroupCondition("and", members):
            return all(meets(row, member, types) for member in members)
        case GroupCondition(_, members):
            return any(meets(row, member, types) for member in members)
        case WordsCondition(text):
            return all(any(_holds(v, word) for v in row.values()) for word in text.split())
        case ColumnCondition(column, operator, values):
            if operator in NEGATED:
                opposite = ColumnCondition(column, NEGATED[operator], values)
                return not meets(row, opposite, types)
            stored = row[column]
            wanted = [_as_stored(value, types[column]) for value in values]
            return _column(stored, operator, wanted)
    raise AssertionError(condition)


def _column(stored: object, operator: str, wanted: list[object]) -> bool:
    match operator:
        case "is NULL":
            return stored is None
        case "is":
            return _same(stored, wanted[0])
        case "one of":
            return any(_same(stored, value) for value in wanted)
    if stored is None or None in wanted:
        return False
    if isinstance(stored, bytes) and operator in _OF_TEXT:
        return False
    tests: dict[str, Callable[[], bool]] = {
        "before": lambda: rank(stored) < rank(wanted[0]),
        "up to": lambda: rank(stored) <= rank(wanted[0]),
        "after": lambda: rank(stored) > rank(wanted[0]),
        "from": lambda: rank(stored) >= rank(wanted[0]),
        "between": lambda: rank(wanted[0]) <= rank(stored) <= rank(wanted[1]),
        "is empty": lambda: stored == "",
        "contains": lambda: _holds(stored, _text(wanted[0])),
        "starts with": lambda: _fold(_text(stored)).startswith(_fold(_text(wanted[0]))),
        "ends with": lambda: _fold(_text(stored)).endswith(_fold(_text(wanted[0]))),
        "matches": lambda: _matches(_text(stored), _text(wanted[0])),
    }
    return tests[operator]()


def rank(value: object) -> tuple[int, object]:
    """The order of values: NULL, numbers, text, blobs."""
    match value:
        case None:
            return 0, 0
        case int() | float():
            return 1, value
        case str():
            return 2, value.encode()
    return 3, value


def _same(one: object, other: object) -> bool:
    return rank(one) == rank(other)


def _as_stored(value: object, declared: str) -> object:
    """A value as it would be after being put into a column of the type."""
    if declared == "TEXT" and isinstance(value, int | float):
        return str(value)
    if declared not in ("TEXT", "BLOB", "") and isinstance(value, str):
        # INTEGER, REAL and whatever SQLite has no word for: text that reads as a number is one.
        if re.fullmatch(r"[ \t\n\v\f\r]*[+-]?\d+[ \t\n\v\f\r]*", value):
            return int(value)
        number = r"[ \t\n\v\f\r]*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?[ \t\n\v\f\r]*"
        if re.fullmatch(number, value):
            return float(value)
    return value


def _text(value: object) -> str:
    return str(value)


def _fold(text: str) -> str:
    return text.lower()


def _holds(value: object, word: str) -> bool:
    return not isinstance(value, bytes | None) and _fold(word) in _fold(_text(value))


def _matches(text: str, pattern: str) -> bool:
    translated = "".join(
        {"*": ".*", "?": "."}.get(character, re.escape(character)) for character in pattern
    )
    return re.fullmatch(translated, text, re.DOTALL) is not None
