"""Whether a row meets a condition, value by value."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from jondel.core.engines.memory.tables import equal, rank
from jondel.core.errors import ConditionInvalid
from jondel.core.model.filters import (
    NEGATED,
    OPERATORS,
    ColumnCondition,
    Condition,
    GroupCondition,
    SqlCondition,
    WordsCondition,
    words_of,
)
from jondel.core.model.schema import Table
from jondel.core.model.values import Exact, InvalidText, StoredValue


def check(table: Table, condition: Condition) -> None:
    """Raise ``ConditionInvalid`` where a condition cannot be one of a table."""
    match condition:
        case GroupCondition(_, members):
            for member in members:
                check(table, member)
        case SqlCondition():
            raise ConditionInvalid("tables in memory know no SQL; choose a column instead")
        case ColumnCondition(column, operator, values):
            if table.column(column) is None:
                raise ConditionInvalid(f"{table.title} has no column {column!r}")
            fewest, most = OPERATORS[operator]
            if len(values) < fewest or (most is not None and len(values) > most):
                raise ConditionInvalid(f"{operator} takes another number of values")


def meets(row: Mapping[str, StoredValue], condition: Condition | None) -> bool:
    """Whether a row, by column, meets a condition; any does for None."""
    match condition:
        case None:
            return True
        case GroupCondition("and", members):
            return all(meets(row, member) for member in members)
        case GroupCondition(_, members):
            return any(meets(row, member) for member in members)
        case WordsCondition(text):
            return all(any(holds(v, word) for v in row.values()) for word in words_of(text))
        case ColumnCondition(column, operator, values):
            if operator in NEGATED:
                return not meets(row, ColumnCondition(column, NEGATED[operator], values))
            return _compares(row[column], operator, values)
        case SqlCondition():
            raise ConditionInvalid("tables in memory know no SQL; choose a column instead")


def holds(value: StoredValue, words: str) -> bool:
    """Whether a value's text holds some words, whatever their case; NULL and blobs have none."""
    text = text_of(value)
    return text is not None and words.casefold() in text.casefold()


def text_of(value: StoredValue) -> str | None:
    """A value as text that can be searched; None for NULL and blobs."""
    match value:
        case None | bytes():
            return None
        case InvalidText(raw):
            return raw.decode("utf-8", "replace")
        case Exact(_, text):
            return text
        case _:
            return str(value)


def _compares(stored: StoredValue, operator: str, values: tuple[StoredValue, ...]) -> bool:
    match operator:
        case "is NULL":
            return stored is None
        case "is" | "one of":
            return any(equal(stored, v) or (stored is None and v is None) for v in values)
        case "is empty":
            return stored == ""
        case "before" | "up to" | "after" | "from" | "between":
            return stored is not None and None not in values and _in_order(stored, operator, values)
    text, wanted = text_of(stored), [text_of(value) for value in values]
    if text is None or wanted[0] is None:
        return False
    one = wanted[0]
    tests: dict[str, Callable[[], bool]] = {
        "contains": lambda: one.casefold() in text.casefold(),
        "starts with": lambda: text.casefold().startswith(one.casefold()),
        "ends with": lambda: text.casefold().endswith(one.casefold()),
        "matches": lambda: _pattern(one).fullmatch(text) is not None,
    }
    return tests[operator]()


def _in_order(stored: StoredValue, operator: str, values: tuple[StoredValue, ...]) -> bool:
    place, bounds = rank(stored), [rank(value) for value in values]
    match operator:
        case "before":
            return place < bounds[0]
        case "up to":
            return place <= bounds[0]
        case "after":
            return place > bounds[0]
        case "from":
            return place >= bounds[0]
        case _:
            return bounds[0] <= place <= bounds[1]


def _pattern(text: str) -> re.Pattern[str]:
    parts = {"*": ".*", "?": "."}
    return re.compile("".join(parts.get(c, re.escape(c)) for c in text), re.DOTALL)
