"""The order in which rows are compared, whatever engine they come from."""

from __future__ import annotations

from typing import TypeAlias

from jondel.core.model.values import InvalidText, StoredValue

SortKey: TypeAlias = tuple[tuple[int, int | float | bytes], ...]


def sort_key(values: tuple[StoredValue, ...]) -> SortKey:
    """A key that sorts as ``Database.stream_rows`` orders: NULL, numbers, text, blobs."""
    return tuple(_rank(value) for value in values)


def _rank(value: StoredValue) -> tuple[int, int | float | bytes]:
    match value:
        case None:
            return 0, 0
        case int() | float():
            return 1, value
        case str():
            return 2, value.encode("utf-8", "surrogatepass")
        case InvalidText(raw):
            return 2, raw
        case bytes():
            return 3, value
