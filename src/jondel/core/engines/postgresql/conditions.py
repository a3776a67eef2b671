"""Conditions and orders in PostgreSQL's SQL."""

from __future__ import annotations

from jondel.core.engines.postgresql.reading import joined
from jondel.core.engines.postgresql.session import Asked, Session, has_no_order
from jondel.core.engines.postgresql.sql_text import quoted, searched, written
from jondel.core.errors import ConditionInvalid
from jondel.core.model.filters import (
    NEGATED,
    OPERATORS,
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    Operator,
    SqlCondition,
    WordsCondition,
    words_of,
)
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue

_COMPARED: dict[Operator, str] = {
    "is": "=",
    "before": "<",
    "up to": "<=",
    "after": ">",
    "from": ">=",
}


def where_of(session: Session, table: Table, condition: Condition | None) -> Asked:
    """What follows WHERE. Raises ``ConditionInvalid``."""
    if condition is None:
        return Asked("TRUE")
    return _Writing(session, table).of(condition)


def order_of(table: Table, arrangement: Arrangement) -> str:
    """What follows ORDER BY, down to the last row. Raises ``ConditionInvalid``."""
    parts = []
    for key in arrangement.order:
        column = table.column(key.column)
        if column is None:
            raise ConditionInvalid(f"{table.title} has no column {key.column!r}")
        name = _sorted_by(table, column)
        # NULL first, as everywhere here; a column without any can be read by its index.
        ending = " DESC" if key.descending else ""
        if not column.not_null:
            ending += " NULLS LAST" if key.descending else " NULLS FIRST"
        parts.append(f"{name}{ending}")
    parts += [quoted(name) for name in table.primary_key]
    if not parts or (not table.primary_key and table.kind == "table"):
        parts += ["ctid"] if table.kind == "table" else []
    return ", ".join(parts)


def _sorted_by(table: Table, column: Column) -> str:
    """What sorts a column; of types without an order, their text."""
    name = quoted(column.name)
    return f"{name}::text" if has_no_order(table, column.name) else name


class _Writing:
    def __init__(self, session: Session, table: Table) -> None:
        self._session, self._table = session, table

    def of(self, condition: Condition) -> Asked:
        match condition:
            case GroupCondition(how, members):
                parts = joined(f" {how.upper()} ", (self.of(member) for member in members))
                return Asked("(") + parts + ")"
            case SqlCondition(sql):
                return Asked(f"({sql.replace('%', '%%')}\n)")
            case WordsCondition(text):
                return joined(" AND ", (self._any_column_holds(w) for w in words_of(text)))
            case ColumnCondition(column, operator, values):
                declared = self._table.column(column)
                if declared is None:
                    raise ConditionInvalid(f"{self._table.title} has no column {column!r}")
                fewest, most = OPERATORS[operator]
                if len(values) < fewest or (most is not None and len(values) > most):
                    raise ConditionInvalid(f"{operator} takes another number of values")
                if operator in NEGATED:
                    opposite = self._column(declared, NEGATED[operator], values)
                    return Asked("(") + opposite + ") IS NOT TRUE"
                return Asked("(") + self._column(declared, operator, values) + ")"

    def _any_column_holds(self, word: str) -> Asked:
        columns = (c for c in self._table.columns if c.type.kind != "blob")
        parts = (self._column(column, "contains", (word,)) for column in columns)
        return Asked("(") + joined(" OR ", parts) + ")"

    def _column(self, column: Column, operator: Operator, values: tuple[StoredValue, ...]) -> Asked:
        name = quoted(column.name)
        if operator == "is NULL":
            return Asked(f"{name} IS NULL")
        if operator == "is" and values[0] is None:
            return Asked(f"{name} IS NULL")
        if operator == "one of":
            return joined(" OR ", (self._column(column, "is", (value,)) for value in values))
        if operator == "between":
            low, high = values
            both = (self._column(column, "from", (low,)), self._column(column, "up to", (high,)))
            return joined(" AND ", both)
        if operator in _COMPARED:
            return self._compared(column, _COMPARED[operator], values[0])
        if column.type.kind == "blob":
            return Asked("FALSE")
        if operator == "is empty":
            return Asked(f"{name} IS NOT NULL AND {written(column.name)} = ''")
        return self._of_text(searched(column), operator, str(values[0]))

    def _compared(self, column: Column, operator: str, value: StoredValue) -> Asked:
        return self._session.equals(self._table, column.name, value, operator)

    @staticmethod
    def _of_text(text: str, operator: Operator, wanted: str) -> Asked:
        match operator:
            case "contains":
                return Asked(f"strpos(lower({text}), lower(%s::text)) > 0", (wanted,))
            case "starts with":
                return Asked(f"starts_with(lower({text}), lower(%s::text))", (wanted,))
            case "ends with":
                sql = f"right(lower({text}), length(%s::text)) = lower(%s::text)"
                return Asked(sql, (wanted, wanted))
            case _:
                return Asked(f"{text} LIKE %s::text", (_like(wanted),))


def _like(pattern: str) -> str:
    signs = {"*": "%", "?": "_", "%": "\\%", "_": "\\_", "\\": "\\\\"}
    return "".join(signs.get(character, character) for character in pattern)
