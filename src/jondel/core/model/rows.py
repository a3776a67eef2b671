"""Records read from a table, and windows of them."""

from __future__ import annotations

from typing import NamedTuple, TypeAlias

from jondel.core.model.values import ShownRow, StoredValue

Position: TypeAlias = tuple[StoredValue, ...]
"""The values of a table's position columns for one row; empty where rows have no address."""


class Window(NamedTuple):
    """Consecutive rows of a table, in the table's own order, the first at ``offset``."""

    offset: int
    positions: tuple[Position, ...]
    rows: tuple[ShownRow, ...]


class ResultRows(NamedTuple):
    """What a statement returned. ``complete`` is False where a limit cut the rows short."""

    columns: tuple[str, ...]
    rows: tuple[ShownRow, ...]
    complete: bool
