"""Says in words what conditions and orders are."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.model.filters import (
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    SqlCondition,
    WordsCondition,
)

_VALUE_CHARACTERS = 40
UPWARDS, DOWNWARDS = "↑", "↓"


def condition_words(condition: Condition) -> str:
    """A condition on one line, safe to show."""
    match condition:
        case WordsCondition(text):
            return f"any column contains {line(text, _VALUE_CHARACTERS)}"
        case SqlCondition(sql):
            return line(" ".join(sql.split()), 2 * _VALUE_CHARACTERS)
        case ColumnCondition(column, operator, values):
            listed = [line(value, _VALUE_CHARACTERS) for value in values]
            joint = " and " if operator == "between" else ", "
            return " ".join([safe_name(column), operator, joint.join(listed)]).rstrip()
        case GroupCondition(joined, members):
            if not members:
                return "any row" if joined == "and" else "no row"
            return f" {joined} ".join(map(_as_member, members))


def _as_member(condition: Condition) -> str:
    words = condition_words(condition)
    plain = isinstance(condition, ColumnCondition | WordsCondition)
    return words if plain else f"({words})"


def order_words(order: Sequence[OrderKey]) -> str:
    """What is sorted by, with arrows for the direction."""
    return ", ".join(
        f"{safe_name(key.column)} {DOWNWARDS if key.descending else UPWARDS}" for key in order
    )
