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
from typing import NamedTuple, TypeAlias

from jondel.core.errors import StatementRefused
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import value_of_words
from jondel.core.sql.tokens import tokens

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


def without_lets(script: str, dialect: Dialect) -> WithLets:
    """Take named values out of the beginning of a script.

    Raises:
        StatementRefused: one has no end, or no value.
    """
    found: list[Let] = []
    at = _skip_blank_lines(script, 0)
    while (match := _LET.match(script, at)) is not None:
        start = match.end()
        end = _end_of_value(script, start, dialect)
        words = script[start:end].strip().rstrip(";").rstrip()
        if not words:
            raise StatementRefused(
                f"let {match[1]} = … needs a value, or a question in parentheses"
            )
        if words.startswith("("):
            found.append(Let(match[1], question=words[1:-1].strip()))
        else:
            found.append(Let(match[1], value_of_words(words)))
        at = _skip_blank_lines(script, end)
    blank = re.sub(r"[^\n]", " ", script[:at])
    return WithLets(blank + script[at:] if found else script, tuple(found))


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


def _end_of_value(script: str, start: int, dialect: Dialect) -> int:
    """Where a value ends: with its line, or with its parenthesis."""
    if script[start : start + 1] != "(":
        end = script.find("\n", start)
        return len(script) if end < 0 else end
    depth = 0
    for token in tokens(script[start:], dialect.lexis):
        depth += (token.text == "(") - (token.text == ")")
        if not depth:
            end = start + token.end
            line_end = script.find("\n", end)
            return len(script) if line_end < 0 else line_end
    raise StatementRefused("a named value's parenthesis is never closed")
