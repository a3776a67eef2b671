"""Values that are named before a script: ``let``, a name, and a value or a question.

    let since = '2026-06-01'
    let large = (SELECT id FROM boats WHERE length > 10)
    SELECT * FROM bookings WHERE boat_id IN (:large) AND arrives_on >= :since

They are taken out of the text before it is cut into statements. A question is asked when the
script is run; what its first column gives are the values, all of them with commas between.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import accumulate
from typing import NamedTuple, TypeAlias

from jondel.core.errors import StatementRefused
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import value_of_words
from jondel.core.sql.splitting import statement_at
from jondel.core.sql.tokens import Token, tokens

_LET = re.compile(r"[ \t]*let[ \t]+([A-Za-z_]\w*)[ \t]*=[ \t]*", re.IGNORECASE)
_BETWEEN = re.compile(r"(?:[ \t]*(?:--[^\n]*)?\n)*")
MOST_VALUES = 10_000

NamedValue: TypeAlias = "StoredValue | tuple[StoredValue, ...]"
"""A value, or several for a place that takes a list."""


class Let(NamedTuple):
    """One named value: its ``value``, or the ``question`` that gives it."""

    name: str
    value: StoredValue = None
    question: str = ""


class WithLets(NamedTuple):
    """A script without its named values: blanks stand for them, so that places stay the same."""

    text: str
    lets: tuple[Let, ...]
    ends: int
    """Where the named values end, in characters."""


def without_lets(script: str, dialect: Dialect) -> WithLets:
    """Take named values out of the beginning of a script.

    Raises:
        StatementRefused: one has no end, or no value.
    """
    found: list[Let] = []
    at = _skip_blank_lines(script, 0)
    while (match := _LET.match(script, at)) is not None:
        value, at_end = _value_at(match[1], script, match.end(), dialect)
        found.append(value)
        at = _skip_blank_lines(script, at_end)
    blank = re.sub(r"[^\n]", " ", script[:at])
    if not found:
        return WithLets(script, (), 0)
    return WithLets(blank + script[at:], tuple(found), at)


def chosen_of(script: str, start: int, end: int, dialect: Dialect) -> str:
    """What is meant by a selection, or by a cursor where ``start`` is ``end``: that statement, with
    the named values that stand before all statements.

    Empty where there is no statement.
    """
    try:
        plain, _, ends = without_lets(script, dialect)
    except StatementRefused:  # said when it is run
        return script[start:end] or script
    if start != end:
        return (script[:ends] if start >= ends else "") + script[start:end]
    piece = statement_at(plain, start, dialect.lexis)
    return script[:ends] + piece.text if piece is not None else ""


def values_of(
    lets: Sequence[Let],
    ask: Callable[[str, Mapping[str, NamedValue]], Sequence[StoredValue]],
) -> dict[str, NamedValue]:
    """The values; ``ask`` gives the first column of what a question gives, with the values so far.

    Raises:
        StatementRefused: a question gives too many.
    """
    found: dict[str, NamedValue] = {}
    for let in lets:
        if not let.question:
            found[let.name] = let.value
            continue
        values = tuple(ask(let.question, found))
        if len(values) > MOST_VALUES:
            raise StatementRefused(
                f"let {let.name}: its question gives more than {MOST_VALUES} values; "
                "join it instead"
            )
        found[let.name] = values
    return found


def _skip_blank_lines(script: str, at: int) -> int:
    match = _BETWEEN.match(script, at)
    return match.end() if match is not None else at


def _value_at(name: str, script: str, start: int, dialect: Dialect) -> tuple[Let, int]:
    """The value that begins here, and where it ends: with its line, or with a semicolon, where no
    string and no parenthesis is open."""
    text = script[start:]
    found: list[Token] = []
    depth = end = 0
    for token in tokens(text, dialect.lexis):
        ends_here = not depth and "\n" in text[end : token.start]
        if ends_here or (not depth and token.says(";")):
            end = end if ends_here else token.end
            break
        end = token.end
        if token.kind != "comment":
            found.append(token)
            depth += token.says("(") - token.says(")")
    if depth:
        raise StatementRefused(f"let {name} = …: its parentheses do not match")
    if any(token.kind == "loose quote" for token in found):
        raise StatementRefused(f"let {name} = …: its quote is never closed")
    if not found:
        raise StatementRefused(f"let {name} = … needs a value, or a question in parentheses")
    words = text[found[0].start : found[-1].end]
    if not found[0].says("("):
        return Let(name, value_of_words(words)), start + end
    if _closed_before(found):
        raise StatementRefused(
            f"let {name} = (…) goes on behind its parenthesis; put all of it into the question"
        )
    return Let(name, question=words[1:-1].strip()), start + end


def _closed_before(found: Sequence[Token]) -> bool:
    """Whether the first parenthesis is closed before the last token."""
    depths = accumulate(token.says("(") - token.says(")") for token in found[:-1])
    return any(depth <= 0 for depth in depths)
