"""How a condition that is being typed can go on: columns, what can follow them, their values.

Only the end of the text counts, and what stands right before it; the rest may be anything.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Token, without_comments
from jondel.core.sql.values_in_sql import literal

_PLAIN_NAME = re.compile(r"[^\W\d]\w*")
_AFTER_IS = ("NULL", "NOT NULL")
_AFTER_VALUE = ("AND", "OR")
_BEFORE_OPERAND = ("NOT", "EXISTS (")
_EQUAL = ("=", "==", "<>", "!=", "LIKE", "GLOB")
_COMPARING = (*_EQUAL, "<", "<=", ">", ">=", "BETWEEN")
_MOST_VALUE_CHARACTERS = 60


class Opening(NamedTuple):
    """The end of a text that is being typed, and what can stand there."""

    start: int
    """Where what is being typed begins."""
    typed: str
    """What of it is there already."""
    column: str | None
    """The column whose values can stand there; None where none can."""
    words: tuple[str, ...]
    """What else can stand there, the likely first."""


class Completion(NamedTuple):
    """One way to go on."""

    words: str
    """What would stand there."""
    text: str
    """The whole text then."""


def opening_of(sql: str, table: Table, dialect: Dialect) -> Opening | None:
    """What is open at the end of a condition on a table; None in a comment or a blob."""
    tokens = without_comments(sql)
    loose = next((n for n, token in enumerate(tokens) if token.kind == "loose quote"), None)
    if loose is not None:
        quote, before = tokens[loose], tokens[:loose]
        typed = sql[quote.start :]
        if quote.text == "'":
            return Opening(quote.start, typed, _compared_column(before, table, dialect), ())
        if quote.text == '"':
            return Opening(quote.start, typed[1:], None, _names(table, dialect))
        return None
    if not tokens:
        return None if sql.strip() else Opening(len(sql), "", None, _operands(table, dialect))
    last = tokens[-1]
    if last.end != len(sql):
        if sql[last.end :].strip():
            return None  # a comment
        before, start, typed = tokens, len(sql), ""
    elif last.kind in ("word", "number"):
        before, start, typed = tokens[:-1], last.start, last.text
    elif last.kind == "sign":
        before, start, typed = tokens, len(sql), ""
    else:
        return None
    column = _compared_column(before, table, dialect)
    return Opening(start, typed, column, _words_after(before, table, dialect))


def completions(sql: str, opening: Opening, values: Iterable[StoredValue]) -> list[Completion]:
    """The ways to go on that fit what is typed; ``values`` are some of the opening's column."""
    typed = opening.typed.casefold()
    words = [written for written in map(_written, values) if written]
    words = sorted(word for word in words if _goes_on(word, typed))
    words += [word for word in opening.words if _goes_on(word, typed)]
    head = sql[: opening.start]
    gap = " " if head and not (head[-1].isspace() or head[-1] in "(,") else ""
    return [Completion(word, f"{head}{gap}{word}") for word in dict.fromkeys(words)]


def name_in_sql(name: str, dialect: Dialect) -> str:
    """A column's name as SQL needs it, in quotes only where it must have them."""
    if _PLAIN_NAME.fullmatch(name) and not _needs_quotes(name, dialect):
        return name
    return '"' + name.replace('"', '""') + '"'


def _needs_quotes(name: str, dialect: Dialect) -> bool:
    return name.upper() in dialect.reserved or (dialect.folds and name != name.lower())


def _goes_on(word: str, typed: str) -> bool:
    folded = word.casefold()
    if folded == typed:
        return False
    return folded.startswith(typed) or (folded[:1] == '"' and folded[1:].startswith(typed))


def _written(value: StoredValue) -> str:
    """A value in SQL, or nothing where it is too much to choose by."""
    if isinstance(value, bytes) or (isinstance(value, str) and not value.isprintable()):
        return ""
    text = literal(value)
    return text if len(text) <= _MOST_VALUE_CHARACTERS else ""


def _names(table: Table, dialect: Dialect) -> tuple[str, ...]:
    return tuple(name_in_sql(name, dialect) for name in table.column_names)


def _operands(table: Table, dialect: Dialect) -> tuple[str, ...]:
    return (*_names(table, dialect), *_BEFORE_OPERAND, *dialect.functions)


def _words_after(before: Sequence[Token], table: Table, dialect: Dialect) -> tuple[str, ...]:
    """What can follow, by the last tokens before it."""
    if not before:
        return _operands(table, dialect)
    last = before[-1]
    compares = len(before) > 1 and _ends_operand(before[-2], table, dialect)
    if last.says("IS"):
        return _AFTER_IS
    if last.says("NOT") and len(before) > 1 and before[-2].says("IS"):
        return ("NULL",)
    if last.says("NOT") and compares:
        return dialect.after_not
    if last.says("IN"):
        return ("(",)
    if _is_column(last, table, dialect):
        return dialect.after_column
    if _ends_operand(last, table, dialect):
        return _AFTER_VALUE
    return _operands(table, dialect)


def _is_column(token: Token, table: Table, dialect: Dialect) -> bool:
    return _column_of(token, table, dialect) is not None


def _ends_operand(token: Token, table: Table, dialect: Dialect) -> bool:
    """Whether something to compare can end here: a value, a name or what is in parentheses."""
    if token.kind in ("string", "number", "blob", "parameter", "name") or token.text == ")":
        return True
    if token.kind != "word":
        return False
    ends = ("NULL", "NOCASE", "END", "TRUE", "FALSE")
    return _is_column(token, table, dialect) or token.says(*ends)


def _column_of(token: Token, table: Table, dialect: Dialect) -> str | None:
    if not token.is_name or (token.kind == "word" and token.text.upper() in dialect.reserved):
        return None
    names = {name.casefold(): name for name in table.column_names}
    return names.get(token.name.casefold())


def _compared_column(before: Sequence[Token], table: Table, dialect: Dialect) -> str | None:
    """The column that is compared with what comes next."""
    tokens = list(before)
    if tokens and (tokens[-1].text == "(" or tokens[-1].text == ","):
        # Inside ``IN (…``: all from the parenthesis on must be values.
        while tokens and (
            tokens[-1].kind in ("string", "number", "blob") or tokens[-1].text == ","
        ):
            tokens.pop()
        if len(tokens) < 3 or tokens[-1].text != "(" or not tokens[-2].says("IN"):
            return None
        tokens = tokens[:-2]
    elif len(tokens) > 3 and tokens[-1].says("AND") and tokens[-3].says("BETWEEN"):
        tokens = tokens[:-3]
    elif tokens and (tokens[-1].says(*_COMPARING) or tokens[-1].says("IS")):
        tokens.pop()
    elif len(tokens) > 2 and tokens[-1].says("NOT") and tokens[-2].says("IS"):
        tokens = tokens[:-2]
    else:
        return None
    if tokens and tokens[-1].says("NOT"):
        tokens.pop()
    return _column_of(tokens[-1], table, dialect) if tokens else None
