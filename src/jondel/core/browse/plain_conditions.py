"""Conditions and orders as plain data, to be kept in files."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, get_args

from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.model.filters import (
    ColumnCondition,
    Condition,
    Filter,
    GroupCondition,
    Layer,
    Operator,
    OrderKey,
    SqlCondition,
    WordsCondition,
)

_OPERATORS = frozenset(get_args(Operator))


def filter_as_plain(stack: Filter) -> list[dict[str, Any]]:
    """A filter for a file."""
    return [
        {"on": layer.on, "condition": condition_as_plain(layer.condition)} for layer in stack.layers
    ]


def filter_from_plain(plain: Sequence[Any]) -> Filter:
    """The filter that ``filter_as_plain`` wrote; what is not understood is left out."""
    layers = []
    for entry in plain:
        try:
            layers.append(Layer(condition_from_plain(entry["condition"]), entry["on"] is True))
        except (KeyError, TypeError, ValueError):
            continue
    return Filter(tuple(layers))


def order_as_plain(order: Sequence[OrderKey]) -> list[dict[str, Any]]:
    """An order for a file."""
    return [{"column": key.column, "down": key.descending} for key in order]


def order_from_plain(plain: Sequence[Any]) -> tuple[OrderKey, ...]:
    """The order that ``order_as_plain`` wrote; what is not understood is left out."""
    return tuple(
        OrderKey(entry["column"], entry.get("down") is True)
        for entry in plain
        if isinstance(entry, dict) and isinstance(entry.get("column"), str)
    )


def condition_as_plain(condition: Condition) -> dict[str, Any]:
    """A condition for a file."""
    match condition:
        case WordsCondition(text):
            return {"words": text}
        case SqlCondition(sql):
            return {"sql": sql}
        case GroupCondition(joined, members):
            return {joined: [condition_as_plain(member) for member in members]}
        case ColumnCondition(column, operator, values):
            listed = [json_value(value) for value in values]
            return {"column": column, "operator": operator, "values": listed}


def condition_from_plain(plain: Any) -> Condition:
    """The condition that ``condition_as_plain`` wrote.

    Raises:
        ValueError: it is none.
    """
    match plain:
        case {"words": str(text)}:
            return WordsCondition(text)
        case {"sql": str(sql)}:
            return SqlCondition(sql)
        case {"and": list(members)}:
            return GroupCondition("and", tuple(map(condition_from_plain, members)))
        case {"or": list(members)}:
            return GroupCondition("or", tuple(map(condition_from_plain, members)))
        case {"column": str(column), "operator": operator, "values": list(values)}:
            if operator in _OPERATORS:
                return ColumnCondition(column, operator, tuple(map(value_from_json, values)))
    raise ValueError(f"{plain!r} is no condition")
