"""What a draft makes of the rows of one table."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from jondel.core.model.rows import Position
from jondel.core.model.values import ShownRow, Value


class DraftMarks(NamedTuple):
    """New values by position and column name, rows to delete, and rows to add, each with the number
    of its entry."""

    edited: Mapping[Position, Mapping[str, Value]]
    deleted: frozenset[Position]
    added: tuple[tuple[int, ShownRow], ...] = ()
