"""Reads SQL conditions, and simple SELECTs, back into what a person can change piece by piece.

What is not understood stays as it was written, character by character; nothing is rewritten on
the way. So this reads only what maps onto the conditions of ``core.model.filters`` exactly, which
a parser of all of SQL would not tell apart.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

from jondel.core.errors import ConditionInvalid
from jondel.core.model.addresses import TableId
from jondel.core.model.filters import (
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    Operator,
    OrderKey,
    SqlCondition,
    WordsCondition,
)
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.tokens import Token, without_comments

_COMPARED: dict[str, Operator] = {
    "=": "is",
    "==": "is",
    "<": "before",
    "<=": "up to",
    ">": "after",
    ">=": "from",
}
_OPENING, _CLOSING = ("(", "CASE"), (")", "END")
_MOST_DEPTH = 50


def condition_of(sql: str, table: Table) -> Condition:
    """What an SQL condition of a table says, as far as it is understood."""
    return _Reading(sql, table).condition(without_comments(sql), 0)


@dataclass(frozen=True)
class Sheetlike:
    """A SELECT that a sheet can show; ``columns`` is None for all of them."""

    table: Table
    columns: tuple[str, ...] | None
    arrangement: Arrangement


def sheet_of(sql: str, schema: Schema) -> Sheetlike:
    """What a SELECT from a single table would show as a sheet.

    Raises:
        ConditionInvalid: it is no such SELECT, or does more than a sheet can; the message says
            what.
    """
    tokens = without_comments(sql)
    while tokens and tokens[-1].says(";"):
        tokens.pop()
    if not tokens or not tokens[0].says("SELECT"):
        raise ConditionInvalid("this is not a SELECT; paste one that reads a single table")
    clauses = _clauses(tokens)
    table = _single_table(clauses.get("FROM", []), schema)
    columns = _columns(clauses["SELECT"], table)
    condition = None
    if "WHERE" in clauses:
        condition = _Reading(sql, table).condition(clauses["WHERE"], 0)
    order = tuple(_order_key(part, table) for part in _split(clauses.get("ORDER", []), ","))
    return Sheetlike(table, columns, Arrangement(condition, order))


class _Reading:
    """The conditions in one text; leaves that are not understood are cut out of it."""

    def __init__(self, sql: str, table: Table) -> None:
        self._sql = sql
        self._table = table

    def condition(self, tokens: Sequence[Token], depth: int) -> Condition:
        if depth < _MOST_DEPTH:
            for joined in ("OR", "AND"):
                parts = _split(tokens, joined)
                if len(parts) > 1 and all(parts):
                    members = tuple(self.condition(part, depth + 1) for part in parts)
                    if joined == "OR":
                        return self._word(members) or GroupCondition("or", members)
                    return GroupCondition("and", members)
            inner = _in_parentheses(tokens)
            if inner is not None:
                return self.condition(inner, depth + 1)
        understood = self._leaf(list(tokens))
        if understood is not None:
            return understood
        if not tokens:
            return SqlCondition("")
        return SqlCondition(self._sql[tokens[0].start : tokens[-1].end])

    def _word(self, members: tuple[Condition, ...]) -> Condition | None:
        """A word that any column may contain."""
        flat: list[Condition] = []
        for member in members:  # of many columns they come in nested groups
            inside = isinstance(member, GroupCondition) and member.joined == "or"
            flat += member.members if inside else [member]  # type: ignore[union-attr]
        columns = [m for m in flat if isinstance(m, ColumnCondition) and m.operator == "contains"]
        names = tuple(member.column for member in columns)
        values = {member.values for member in columns}
        if len(columns) != len(flat) or names != self._table.column_names or len(values) != 1:
            return None
        word = str(columns[0].values[0])
        if not word or '"' in word:
            return None
        return WordsCondition(f'"{word}"' if word.split() != [word] else word)

    def _leaf(self, tokens: list[Token]) -> Condition | None:
        inner = self._negated(tokens)
        if inner is not None:
            return inner
        name, rest = self._column(tokens)
        if name is None or not rest:
            return None
        match [token.text.upper() if token.kind in ("word", "sign") else "" for token in rest]:
            case ["IS", "NULL"] | ["ISNULL"]:
                return ColumnCondition(name, "is NULL")
            case ["IS", "NOT", "NULL"] | ["NOTNULL"] | ["NOT", "NULL"]:
                return ColumnCondition(name, "is not NULL")
            case ["IS", "NOT", *_] if (value := _value(rest[2:])) is not None:
                operator: Operator = "is not empty" if value == ("",) else "is not"
                return ColumnCondition(name, operator, () if value == ("",) else value)
            case ["=" | "==", _] if rest[1].text == "''":
                return ColumnCondition(name, "is empty")
            case [sign, *_] if sign in _COMPARED and (value := _value(rest[1:])) is not None:
                if value == (None,):
                    return None  # never true, unlike IS NULL
                return ColumnCondition(name, _COMPARED[sign], value)
            case ["BETWEEN", *_]:
                ends = [_value(part) for part in _split(rest[1:], "AND")]
                if len(ends) == 2 and ends[0] and ends[1] and None not in (*ends[0], *ends[1]):
                    return ColumnCondition(name, "between", (*ends[0], *ends[1]))
            case ["IN", "(", *_, ")"]:
                values = [_value(part) for part in _split(rest[2:-1], ",")]
                if values and all(value is not None and value != (None,) for value in values):
                    flat = tuple(cast("tuple[StoredValue]", value)[0] for value in values)
                    return ColumnCondition(name, "one of", flat)
            case ["LIKE", *_]:
                return _like(name, rest[1:])
            case ["GLOB", *_] if (value := _value(rest[1:])) and isinstance(value[0], str):
                return _glob(name, value[0])
        return None

    def _negated(self, tokens: list[Token]) -> Condition | None:
        """``(…) IS NOT TRUE``, as negative conditions are written."""
        if len(tokens) < 5 or not (tokens[-3].says("IS") and tokens[-1].says("TRUE")):
            return None
        inner = _in_parentheses(tokens[:-3])
        positive = self.condition(inner, 1) if inner is not None else None
        if not isinstance(positive, ColumnCondition) or not tokens[-2].says("NOT"):
            return None
        opposite: dict[Operator, Operator] = {
            "contains": "does not contain",
            "matches": "does not match",
            "one of": "none of",
        }
        if positive.operator not in opposite:
            return None
        return ColumnCondition(positive.column, opposite[positive.operator], positive.values)

    def _column(self, tokens: list[Token]) -> tuple[str | None, list[Token]]:
        """The column in the beginning, perhaps with its table's name, and what follows."""
        rest = tokens
        if len(rest) > 2 and rest[1].text == "." and rest[0].is_name:
            if rest[0].name.casefold() != self._table.name.casefold():
                return None, rest
            rest = rest[2:]
        if not rest or not rest[0].is_name:
            return None, rest
        return _known_column(rest[0], self._table), rest[1:]


def _known_column(token: Token, table: Table) -> str | None:
    names = {name.casefold(): name for name in table.column_names}
    return names.get(token.name.casefold())


def _value(tokens: Sequence[Token]) -> tuple[StoredValue] | None:
    """A value that is written out, or None where it is something else."""
    sign = 1
    if len(tokens) == 2 and tokens[0].says("-", "+"):
        sign, tokens = -1 if tokens[0].text == "-" else 1, tokens[1:]
        if tokens[0].kind != "number":
            return None
    if len(tokens) != 1:
        return None
    token = tokens[0]
    match token.kind:
        case "string":
            return (token.text[1:-1].replace("''", "'"),)
        case "number":
            return _number(token.text, sign)
        case "blob" if len(token.text) % 2:
            return (bytes.fromhex(token.text[2:-1]),)
        case "word" if token.says("NULL"):
            return (None,)
    return None


def _number(text: str, sign: int) -> tuple[StoredValue] | None:
    if text[:2].lower() == "0x":
        return None  # wraps around in ways of its own
    if text.isdigit():
        number = sign * int(text)
        return (number,) if -(2**63) <= number < 2**63 else (float(number),)
    return (sign * float(text),)


def _like(name: str, tokens: list[Token]) -> Condition | None:
    escaped = len(tokens) == 3 and tokens[1].says("ESCAPE") and tokens[2].text == "'\\'"
    value = _value(tokens[:1] if escaped else tokens)
    if value is None or not isinstance(value[0], str) or not value[0].isascii():
        return None
    pattern = value[0]
    plain, wild = _unescaped(pattern, escaped)
    if "_" in wild or "%" in wild[1:-1] or not plain:
        return None
    starts, ends = wild[:1] == "%", wild[-1:] == "%" and len(wild) > 1
    if starts and ends:
        return ColumnCondition(name, "contains", (plain,))
    if starts or ends:
        return ColumnCondition(name, "ends with" if starts else "starts with", (plain,))
    return None


def _unescaped(pattern: str, escaped: bool) -> tuple[str, str]:
    """The characters that stand for themselves, and for each of the pattern's what is special."""
    plain, wild, literal = [], [], False
    for character in pattern:
        if literal or character not in "%_\\" or (character == "\\" and not escaped):
            plain.append(character)
            wild.append(" ")
            literal = False
        elif character == "\\":
            literal = True
        else:
            wild.append(character)
    return "".join(plain), "".join(wild)


def _glob(name: str, pattern: str) -> Condition | None:
    plain = pattern.replace("[[]", "\x00")
    if "[" in plain:
        return None
    return ColumnCondition(name, "matches", (plain.replace("\x00", "["),))


def _in_parentheses(tokens: Sequence[Token]) -> Sequence[Token] | None:
    """What is between the parentheses around the whole, if there are any."""
    if len(tokens) < 2 or not tokens[0].says("(") or not tokens[-1].says(")"):
        return None
    depth = 0
    for token in tokens[:-1]:
        depth += token.says("(") - token.says(")")
        if depth == 0:
            return None
    return tokens[1:-1]


def _split(tokens: Sequence[Token], separator: str) -> list[list[Token]]:
    """The parts between separators that are in no parentheses; none of nothing.

    The AND of a BETWEEN separates nothing, unless the text begins behind the BETWEEN.
    """
    if not tokens:
        return []
    parts: list[list[Token]] = [[]]
    depth, between = 0, 0
    for token in tokens:
        depth += token.says(*_OPENING) - token.says(*_CLOSING)
        if depth == 0 and token.says("BETWEEN"):
            between += 1
        if depth == 0 and token.says(separator):
            if separator != "AND" or not between:
                parts.append([])
                continue
            between -= 1
        parts[-1].append(token)
    return parts


def _clauses(tokens: list[Token]) -> dict[str, list[Token]]:
    """The clauses of a SELECT by their first words."""
    clauses: dict[str, list[Token]] = {}
    current: list[Token] = []
    depth = 0
    for token in tokens:
        depth += token.says(*_OPENING) - token.says(*_CLOSING)
        if depth == 0 and token.says(
            "GROUP", "HAVING", "WINDOW", "UNION", "EXCEPT", "INTERSECT", "LIMIT", "OFFSET"
        ):
            raise ConditionInvalid(
                f"a sheet cannot show {token.text.upper()}; run the statement as a query"
            )
        if depth == 0 and token.says("SELECT", "FROM", "WHERE", "ORDER"):
            current = clauses.setdefault(token.text.upper(), [])
        elif not (token.says("BY") and not current):
            current.append(token)
    return clauses


def _single_table(tokens: list[Token], schema: Schema) -> Table:
    names, dots = tokens[::2], tokens[1::2]
    if not names or len(names) == len(dots) or not all(token.is_name for token in names):
        raise ConditionInvalid("a sheet shows one table, without another name for it or a join")
    if any(token.text != "." for token in dots):
        raise ConditionInvalid("a sheet shows one table, without another name for it or a join")
    levels = TableId.of(token.name for token in names)
    table = schema.ending_in(levels)
    if table is None:
        raise ConditionInvalid(f"there is no table {str(levels)!r}")
    return table


def _columns(tokens: list[Token], table: Table) -> tuple[str, ...] | None:
    names: list[str] = []
    for part in _split(tokens, ","):
        if [token.text for token in part] == ["*"]:
            return None
        if len(part) == 3 and part[1].text == ".":
            part = part[2:]
        name = _known_column(part[0], table) if len(part) == 1 and part[0].is_name else None
        if name is None:
            shown = " ".join(token.text for token in part)
            raise ConditionInvalid(
                f"{shown!r} is not a column of {table.title}; a sheet shows columns"
            )
        names.append(name)
    return tuple(dict.fromkeys(names)) or None


def _order_key(part: list[Token], table: Table) -> OrderKey:
    descending = bool(part) and part[-1].says("DESC")
    if part and part[-1].says("ASC", "DESC"):
        part = part[:-1]
    if len(part) == 3 and part[1].text == ".":
        part = part[2:]
    name = _known_column(part[0], table) if len(part) == 1 and part[0].is_name else None
    if name is None:
        shown = " ".join(token.text for token in part)
        raise ConditionInvalid(f"a sheet is sorted by columns of {table.title}, not by {shown!r}")
    return OrderKey(name, descending)
