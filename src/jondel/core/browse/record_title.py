"""The text that tells a person best which record one is: a name rather than a code or a time."""

from __future__ import annotations

import re

from jondel.core.browse.times import guess_time_kind
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import ShownRow, Value

_NAMES = re.compile(r"name|title|label|subject|caption|summary|headline|email|nick|username")
_CODES = re.compile(r"id|uuid|guid|key|hash|token|checksum|digest|type|kind|status|state|lang")
_CODE_LIKE = re.compile(r"[0-9a-fA-F-]{16,}|[\W\d_]+")


def naming_values(table: Table, position: Position, row: ShownRow) -> tuple[Value, ...]:
    """What names a record: its key, what else no two records share, or where it is."""
    names = table.column_names
    if len(row) == len(names):
        values = tuple(row[names.index(name)] for name in table.naming_columns)
        if values and None not in values:
            return values
    return position


def record_title(table: Table, row: ShownRow) -> str | None:
    """The text by which a record is best told from others; None where it holds none.

    The key is left out, for it is shown beside.
    """
    best: tuple[int, str] | None = None
    for column, value in zip(table.columns, row, strict=False):
        if not isinstance(value, str) or not value.strip() or column.key_position:
            continue
        rank = _rank(table, column, value)
        if best is None or rank < best[0]:
            best = rank, value
    return best[1] if best is not None else None


def _rank(table: Table, column: Column, value: str) -> int:
    """How little a text tells: 0 for a name, more for what is only text, a code or a time."""
    parts = {part.lower() for part in re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])", column.name)}
    if (
        any(map(_CODES.fullmatch, parts))
        or table.links_from(column.name)
        or _CODE_LIKE.fullmatch(value)
    ):
        return 3
    if guess_time_kind(column, [value]) is not None or value[:1] in "{[<":
        return 2
    return 0 if any(map(_NAMES.fullmatch, parts)) else 1
