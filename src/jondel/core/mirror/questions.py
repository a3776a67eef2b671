"""What is asked of a mirrored table, in the words of the table that keeps it."""

from __future__ import annotations

from jondel.core.errors import ConditionInvalid
from jondel.core.mirror.layout import MirrorTable, encoded
from jondel.core.model.exact_order import order_bytes
from jondel.core.model.filters import (
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    SqlCondition,
    WordsCondition,
    words_of,
)
from jondel.core.model.rows import Window
from jondel.core.model.values import Exact, StoredValue
from jondel.core.model.writes import Cells
from jondel.core.sql.tokens import without_comments

_NOT_AS_TEXT = ("numeric", "boolean", "interval", "time with time zone")
_GROUPED = 200
_COMPARED = ("before", "up to", "after", "from", "between", "is", "is not", "one of", "none of")
"""What exact values are compared for in their order, and not by their text."""


def shown(kept: MirrorTable, window: Window) -> Window:
    """A window that was read from the mirror."""
    positions = (
        tuple(map(kept.position, window.positions)) if kept.address else ((),) * len(window.rows)
    )
    return Window(window.offset, positions, tuple(map(kept.row, window.rows)))


def equal_cells(kept: MirrorTable, cells: Cells) -> Cells:
    """Cells to be equal to; exact values are equal by their order."""
    found: list[tuple[str, StoredValue]] = []
    for name, value in cells:
        order = kept.order_name(name)
        if order is not None and isinstance(value, Exact):
            found.append((order, order_bytes(value)))
        else:
            found.append((kept.stored_name(name), encoded(value)))
    return tuple(found)


def stored_arrangement(kept: MirrorTable, arrangement: Arrangement) -> Arrangement:
    """An arrangement by the mirror's columns."""
    condition = arrangement.condition
    keys: list[OrderKey] = []
    for key in arrangement.order:
        if key.column not in kept.table.column_names:
            raise ConditionInvalid(f"{kept.table.title} has no column {key.column!r}")
        order = kept.order_name(key.column)
        keys.append(OrderKey(order or kept.stored_name(key.column), key.descending))
    stored = None if condition is None else stored_condition(kept, condition)
    return Arrangement(stored, tuple(keys))


def stored_condition(kept: MirrorTable, condition: Condition) -> Condition:
    """A condition on the mirror's columns."""
    match condition:
        case GroupCondition(joined, members):
            return GroupCondition(joined, tuple(stored_condition(kept, m) for m in members))
        case ColumnCondition(column, operator, values):
            if column not in kept.table.column_names:
                raise ConditionInvalid(f"{kept.table.title} has no column {column!r}")
            order = kept.order_name(column)
            exact = all(isinstance(value, Exact | None) for value in values)
            if order is not None and exact and operator in _COMPARED:
                bounds = (order_bytes(v) if isinstance(v, Exact) else None for v in values)
                return ColumnCondition(order, operator, tuple(bounds))
            plain = tuple(encoded(value) for value in values)
            return ColumnCondition(kept.stored_name(column), operator, plain)
        case WordsCondition(text):
            words = words_of(text)
            return GroupCondition("and", tuple(_any_column_holds(kept, word) for word in words))
        case SqlCondition(sql) if mentioned := _exact_in(kept, sql):
            raise ConditionInvalid(
                f"{kept.table.title}.{mentioned} is kept exactly at a step, where SQL cannot "
                "compare it; choose the column instead of writing SQL"
            )
        case SqlCondition() if kept.columns != kept.table.column_names:
            raise ConditionInvalid(
                f"{kept.table.title}: names of its columns differ in case alone; "
                "choose columns instead of writing SQL"
            )
        case _:
            return condition


def _exact_in(kept: MirrorTable, sql: str) -> str:
    """A column that a text mentions, whose values SQL would not compare as they are stored."""
    mentioned = {token.name.casefold() for token in without_comments(sql) if token.is_name}
    for column in kept.table.columns:
        if column.type.kind in _NOT_AS_TEXT and column.name.casefold() in mentioned:
            return column.name
    return ""


def _any_column_holds(kept: MirrorTable, word: str) -> Condition:
    columns = [ColumnCondition(name, "contains", (word,)) for name in kept.columns]
    # In groups, for SQLite takes an expression of a depth of 1000.
    groups = [columns[at : at + _GROUPED] for at in range(0, len(columns), _GROUPED)]
    return GroupCondition("or", tuple(GroupCondition("or", tuple(group)) for group in groups))
