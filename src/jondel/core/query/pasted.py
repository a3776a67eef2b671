"""Statements as they are found elsewhere: in a log with their values, or as a string of source."""

from __future__ import annotations

import ast
import re
from collections.abc import Sequence
from typing import NamedTuple

from jondel.core.model.values import StoredValue
from jondel.core.query.source_strings import strings_in
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import marks, names_of, value_of_words
from jondel.core.sql.tokens import Token, without_comments

_VERBS = r"SELECT|INSERT|UPDATE|DELETE|WITH|REPLACE|MERGE|CREATE|ALTER|DROP|EXPLAIN|VALUES|PRAGMA"
_BEGINS = re.compile(rf"\s*(?:{_VERBS})\b", re.IGNORECASE)
_IN_LOG = re.compile(rf"(?:^|[\s:;\])\"'])((?:{_VERBS})\b.*)", re.IGNORECASE | re.DOTALL)
_ARGUMENTS = re.compile(
    r"[\s;,]*(?:--\s*)?(?:(?:args|params?|parameters|binds?|bindings|values|with)\s*[:=]?\s*)?"
    r"([\[({].*[\])}])\s*;?\s*\Z",
    re.IGNORECASE | re.DOTALL,
)
_COMMENTED = re.compile(r"--(?=\s*(?:[a-z]+\s*[:=]?\s*)?[\[({])", re.IGNORECASE)
"""What stands before values that are in a comment."""
_QUOTES = "\"'`"


class Pasted(NamedTuple):
    """A statement that was understood, its values by parameter, and what was done to see it."""

    sql: str
    values: dict[str, StoredValue]
    words: str


def understood(text: str, dialect: Dialect) -> Pasted | None:
    """What a text is that is pasted; None where it is a statement as it is, or nothing known."""
    if _BEGINS.match(text):
        return _with_arguments(text, dialect, "")
    literal = _of_source(text)
    if literal is not None:
        return literal
    in_log = _IN_LOG.search(text)
    if in_log is None or "\n" in text[: in_log.start(1)].strip():
        return None
    found = _with_arguments(in_log[1], dialect, "a line of a log")
    return found or Pasted(in_log[1].strip(), {}, "a line of a log")


def _of_source(text: str) -> Pasted | None:
    """A statement that is written as strings of a language, perhaps put together of several."""
    if text.strip()[:1] not in (*_QUOTES, "(", "@", "$", "f", "r", "F", "R", "b"):
        return None
    for ending in (".py", ".js", ".java", ".php", ".rb", ".cs"):
        try:
            source = f"x = ({text.strip()})" if ending == ".py" else text
            strings = strings_in(source, ending)
        except SyntaxError:
            continue
        whole = [string for string in strings if _BEGINS.match(string.text)]
        if len(whole) == 1 and len(strings) == 1:
            hole = whole[0].hole
            words = f"a string of source; {hole} is filled in at run time" if hole else (
                "a string of source")  # fmt: skip
            return Pasted(whole[0].text.strip(), {}, words)
    return None


def _with_arguments(text: str, dialect: Dialect, words: str) -> Pasted | None:
    """A statement that its values follow, in brackets."""
    plain = _COMMENTED.sub("  ", text)
    for start in _openings(without_comments(plain, dialect.lexis)):
        match = _ARGUMENTS.match(plain, _before_label(plain, start))
        if match is None:
            continue
        sql = text[: match.start()].rstrip().rstrip(";,").rstrip()
        names = names_of(marks(sql, dialect))
        values = _listed(match[1])
        if not names or values is None:
            continue
        if isinstance(values, dict):
            given = {name: values[name] for name in names if name in values}
        else:
            if len(values) != len(names):
                continue
            given = dict(zip(sorted(names, key=_number), values, strict=True))
        told = f"{words} with its values" if words else "a statement with its values"
        return Pasted(sql, given, told)
    return None


def _openings(tokens: Sequence[Token]) -> list[int]:
    """Where brackets open that nothing is around."""
    depth, found = 0, []
    for token in tokens:
        if token.text and token.text[0] in "([{":
            if not depth:
                found.append(token.start)
            depth += token.text in "([{"
        elif token.text in (")", "]", "}"):
            depth = max(0, depth - 1)
    return found[::-1]


def _before_label(text: str, start: int) -> int:
    label = re.search(
        r"[\s;,]*(?:--\s*)?(?:(?:args|params?|parameters|binds?|bindings|values|with)\s*[:=]?\s*)?\Z",
        text[:start],
        re.IGNORECASE,
    )
    return label.start() if label is not None else start


def _number(name: str) -> tuple[int, str]:
    return (int(name), "") if name.isdecimal() else (0, "")


def _listed(text: str) -> list[StoredValue] | dict[str, StoredValue] | None:
    """The values in a list, a tuple or a mapping as Python or JSON write them."""
    plain = re.sub(r"\bnull\b|\bNULL\b|\bnil\b", "None", text)
    plain = re.sub(r"\btrue\b", "True", re.sub(r"\bfalse\b", "False", plain))
    try:
        found = ast.literal_eval(plain)
    except (ValueError, SyntaxError, MemoryError, RecursionError, TypeError):
        inner = text[1:-1].strip()
        if text[0] == "{" or any(sign in inner for sign in "()[]{}"):
            return None
        return [value_of_words(part.strip()) for part in inner.split(",")] if inner else []
    if isinstance(found, dict):
        values = {str(name).lstrip(":@$"): _value(value) for name, value in found.items()}
        return None if any(isinstance(v, _Unknown) for v in values.values()) else values  # type: ignore[return-value]
    if isinstance(found, list | tuple):
        items = [_value(value) for value in found]
        return None if any(isinstance(v, _Unknown) for v in items) else items  # type: ignore[return-value]
    one = _value(found)
    return None if isinstance(one, _Unknown) else [one]


class _Unknown:
    """A value of no kind that a database has."""


def _value(value: object) -> StoredValue | _Unknown:
    if isinstance(value, bool):
        return int(value)
    if value is None or isinstance(value, int | float | str | bytes):
        return value
    return _Unknown()
