"""The order in which rows are compared, whatever engine they come from."""

from __future__ import annotations

import math
from typing import TypeAlias

from jondel.core.model.values import Exact, InvalidText, StoredValue

SortKey: TypeAlias = tuple[tuple[int, int | float | bytes, str], ...]


def sort_key(values: tuple[StoredValue, ...]) -> SortKey:
    """A key that sorts as ``stream_rows`` orders: NULL, numbers, text, exact values, blobs.

    Exact values are in their own order, and by their text where that is equal. What is not a number
    comes after all numbers; 0.0 and -0.0 sort alike.
    """
    return tuple(_rank(value) for value in values)


def _rank(value: StoredValue) -> tuple[int, int | float | bytes, str]:
    match value:
        case None:
            return 0, 0, ""
        case float() if math.isnan(value):
            return 1, math.inf, "NaN"
        case int() | float():
            return 1, value, ""
        case str():
            return 2, value.encode("utf-8", "surrogatepass"), ""
        case Exact(_, text):
            from jondel.core.model.exact_order import order_bytes  # most databases have none

            return 3, order_bytes(value), text
        case InvalidText(raw):
            return 2, raw, ""
        case bytes():
            return 4, value, ""
