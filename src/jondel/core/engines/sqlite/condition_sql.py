"""Writes conditions and orders as SQL for SQLite."""

from __future__ import annotations

from collections.abc import Sequence

from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.errors import ConditionInvalid
from jondel.core.model.filters import (
    NEGATED,
    OPERATORS,
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    SqlCondition,
    WordsCondition,
    words_of,
)
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import InvalidText, StoredValue
from jondel.core.sql.tokens import tokens

_GLOB_SPECIAL = "*?["
_CHAINED = 100
"""So many conditions in a row are joined without nesting."""


def arranged(table: Table, arrangement: Arrangement, columns: Sequence[str]) -> Statement:
    """The SELECT of some columns that a person would write for an arrangement.

    Raises:
        ConditionInvalid: a condition cannot be one of this table.
    """
    statement = Statement((f"SELECT {quoted_list(columns) or 'NULL'} FROM {quoted(table.name)}",))
    if arrangement.condition is not None:
        statement = statement + " WHERE " + condition_sql(table, arrangement.condition)
    if arrangement.order:
        statement += " ORDER BY " + order_sql(table, arrangement.order, total=False)
    return statement


def order_sql(table: Table, order: Sequence[OrderKey], *, total: bool) -> str:
    """What follows ORDER BY; ``total`` puts rows with equal keys in their own order.

    Raises:
        ConditionInvalid: a column is not one of the table.
    """
    names = order_columns(table, order) if total else [(k.column, k.descending) for k in order]
    for name, _ in names:
        _require_column(table, name)
    return ", ".join(quoted(name) + (" DESC" if down else "") for name, down in names)


def order_columns(table: Table, order: Sequence[OrderKey]) -> list[tuple[str, bool]]:
    """The columns of a total order, each with whether it runs downwards."""
    names = [(key.column, key.descending) for key in order]
    # In the last key's direction, so that an index on it gives the order as it stands.
    down = order[-1].descending if order else False
    taken = {key.column for key in order}
    return names + [(name, down) for name in table.position_columns if name not in taken]


def condition_sql(table: Table, condition: Condition) -> Statement:
    """What follows WHERE.

    Raises:
        ConditionInvalid: it names a column that is not there, has too few or too many values, or
            its SQL is no single expression.
    """
    match condition:
        case GroupCondition(joined, members):
            parts = [_in_parentheses(table, member) for member in members]
            if not parts:
                return Statement(("TRUE" if joined == "and" else "FALSE",))
            return Statement.joined(f" {joined.upper()} ", parts)
        case SqlCondition(sql):
            require_expression(sql)
            # The line break ends a comment that may be the last of it.
            return Statement((f"{sql}\n" if "--" in sql else sql,))
        case WordsCondition(text):
            words = words_of(text)
            if not words:
                return Statement(("TRUE",))
            tests = [_word(table, word) for word in words]
            return tests[0] if len(tests) == 1 else Statement.joined(" AND ", map(_closed, tests))
        case ColumnCondition():
            return _column(table, condition)


def require_expression(sql: str) -> None:
    """Make sure that a text cannot be more than one expression, however it goes on.

    Raises:
        ConditionInvalid: it is empty, has a loose quote or parenthesis, or more than one statement.
    """
    depth, content = 0, False
    for token in tokens(sql):
        content = content or token.kind != "comment"
        depth += token.says("(") - token.says(")")
        if token.says(";"):
            raise ConditionInvalid("a condition cannot hold a semicolon; give one expression")
        if token.kind == "loose quote":
            raise ConditionInvalid(f"unmatched {token.text} in the condition")
        if depth < 0:
            raise ConditionInvalid("unmatched ) in the condition")
    if depth:
        raise ConditionInvalid("unmatched ( in the condition")
    if not content:
        raise ConditionInvalid("the condition is empty")


def _in_parentheses(table: Table, condition: Condition) -> Statement:
    statement = condition_sql(table, condition)
    simple = isinstance(condition, ColumnCondition) and condition.operator not in NEGATED
    return statement if simple else _closed(statement)


def _closed(statement: Statement) -> Statement:
    return Statement(("(",)) + statement + ")"


def _require_column(table: Table, name: str) -> None:
    known = name in table.column_names or name == table.row_id
    if not known:
        raise ConditionInvalid(f"{table.name} has no column {name!r}; it may have been renamed")


def _column(table: Table, condition: ColumnCondition) -> Statement:
    _require_column(table, condition.column)
    fewest, most = OPERATORS[condition.operator]
    count = len(condition.values)
    if count < fewest or (most is not None and count > most):
        raise ConditionInvalid(
            f"{condition.column} {condition.operator}: takes {fewest} "
            f"value{'' if fewest == 1 else 's'}{'' if most else ' or more'}, not {count}"
        )
    name = quoted(condition.column)

    def bound(value: StoredValue) -> Statement:
        statement = Statement.value(value, condition.column)
        if isinstance(value, InvalidText):
            return (
                Statement(("CAST(",)) + Statement.value(value.raw, condition.column) + " AS TEXT)"
            )
        return statement

    def compared(operator: str, value: StoredValue) -> Statement:
        return Statement((f"{name} {operator} ",)) + bound(value)

    values = condition.values
    match condition.operator:
        case "is":
            return compared("IS" if values[0] is None else "=", values[0])
        case "is not":
            return compared("IS NOT", values[0])
        case "before":
            return compared("<", values[0])
        case "up to":
            return compared("<=", values[0])
        case "after":
            return compared(">", values[0])
        case "from":
            return compared(">=", values[0])
        case "between":
            return compared("BETWEEN", values[0]) + " AND " + bound(values[1])
        case "is NULL" | "is not NULL":
            return Statement((f"{name} {condition.operator.upper()}",))
        case "is empty":
            return Statement((f"{name} = ''",))
        case "is not empty":
            return Statement((f"{name} IS NOT ''",))
        case "one of" | "none of":
            listed = Statement.joined(", ", (bound(v) for v in values if v is not None))
            statement = Statement((f"{name} IN (",)) + listed + ")"
            if None in values:
                statement = _closed(statement + f" OR {name} IS NULL")
            return statement if condition.operator == "one of" else _negative(statement)
        case "contains":
            return _like(name, condition.column, _text(values[0]), "*{}*")
        case "does not contain":
            return _negative(_like(name, condition.column, _text(values[0]), "*{}*"))
        case "starts with":
            return _like(name, condition.column, _text(values[0]), "{}*")
        case "ends with":
            return _like(name, condition.column, _text(values[0]), "*{}")
        case "matches":
            return _glob(name, condition.column, _pattern(_text(values[0])))
        case "does not match":
            return _negative(_glob(name, condition.column, _pattern(_text(values[0]))))


def _negative(statement: Statement) -> Statement:
    """What ``found`` does not find, NULL included."""
    return Statement(("(",)) + statement + ") IS NOT TRUE"


def _text(value: StoredValue) -> str:
    match value:
        case str():
            return value
        case bytes():
            return value.decode("utf-8", "replace")
        case InvalidText(raw):
            return raw.decode("utf-8", "replace")
        case _:
            return str(value)


def _word(table: Table, word: str) -> Statement:
    tests = [word_sql(name, word) for name in table.column_names]
    return either(tests) if tests else Statement(("FALSE",))


def word_sql(column: str, word: str) -> Statement:
    """Whether a column holds a word, whatever its case."""
    return _like(quoted(column), column, word, "*{}*")


def either(parts: Sequence[Statement]) -> Statement:
    """Conditions joined by OR; nested evenly, since SQLite bounds how deep an expression may be."""
    if len(parts) <= _CHAINED:
        return Statement.joined(" OR ", parts)
    half = len(parts) // 2
    return _closed(either(parts[:half])) + " OR " + _closed(either(parts[half:]))


def _like(name: str, column: str, text: str, form: str) -> Statement:
    """A pattern that ignores case; SQLite's LIKE does so for ASCII letters only."""
    if not text.isascii():
        letters = "".join(_any_case(character) for character in text)
        return _glob(name, column, form.format(letters))
    if not any(character in "%_\\" for character in text):
        pattern = form.replace("*", "%").format(text)
        return Statement((f"{name} LIKE ",)) + Statement.value(pattern, column)
    escaped = text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    pattern = form.replace("*", "%").replace("{}", escaped)
    return Statement((f"{name} LIKE ",)) + Statement.value(pattern, column) + " ESCAPE '\\'"


def _any_case(character: str) -> str:
    cases = {character, character.lower(), character.upper()}
    single = sorted(one for one in cases if len(one) == 1)
    if len(single) == 1 and single[0] not in _GLOB_SPECIAL:
        return single[0]
    return f"[{''.join(single)}]"


def _pattern(text: str) -> str:
    """A person's pattern, in which only ``*`` and ``?`` are special."""
    return text.replace("[", "[[]")


def _glob(name: str, column: str, pattern: str) -> Statement:
    return Statement((f"{name} GLOB ",)) + Statement.value(pattern, column)
