"""Parameters in statements as an app's code has them, whatever its driver calls them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Token, without_comments

_INTEGER = re.compile(r"[+-]?(0|[1-9][0-9]*)")
_REAL = re.compile(r"[+-]?(?:[0-9]+\.[0-9]*|\.[0-9]+|[0-9]+(?=[eE]))(?:[eE][+-]?[0-9]+)?")
_BLOB = re.compile(r"[xX]'((?:[0-9a-fA-F]{2})*)'")
_TEXT = re.compile(r"'((?:[^']|'')*)'", re.DOTALL)
_MOST_INTEGER = 2**63 - 1
_NOT_BEFORE_MARK = frozenset("<>~!@#%^&|`?:")
"""Signs that make an operator of what follows them at once, where operators are made freely."""


class Mark(NamedTuple):
    """A place in a statement where a value belongs; marks of one name take the same value.

    The name is a number for those that go by their order.
    """

    start: int
    end: int
    text: str
    name: str


def marks(sql: str, dialect: Dialect) -> list[Mark]:
    """The parameters of a statement: ``?``, ``?1``, ``$1``, ``:name``, ``@name``, ``$name``, ``%s``
    and ``%(name)s``."""
    found: list[Mark] = []
    in_order = 0
    for start, end in _places(sql, dialect):
        text = sql[start:end]
        if text in ("?", "%s"):
            in_order += 1
            name = str(in_order)
        elif text.startswith("%("):
            name = text[2:-2]
        else:
            name = text[1:]
            if text.startswith("?"):
                in_order = max(in_order, int(name))
        found.append(Mark(start, end, text, name))
    return found


def names_of(found: Sequence[Mark]) -> list[str]:
    """The names of parameters, each once, in the order in which they come."""
    return list(dict.fromkeys(mark.name for mark in found))


def bound(
    sql: str,
    found: Sequence[Mark],
    values: Mapping[str, StoredValue | tuple[StoredValue, ...]],
) -> Statement:
    """The statement with values for its parameters; those without one are NULL.

    Several values for one parameter are all put there, with commas between.
    """
    texts: list[str] = []
    arguments: list[Argument] = []
    percent = any(mark.text.startswith("%") for mark in found)
    at = 0
    for mark in found:
        given = values.get(mark.name)
        several = given if isinstance(given, tuple) else (given,)
        for number, value in enumerate(several or (None,)):
            texts.append(", " if number else sql[at : mark.start])
            arguments.append(Argument(value, mark.name))
        at = mark.end
    texts.append(sql[at:])
    if percent:  # a percent sign of the text itself is written twice there
        texts = [text.replace("%%", "%") for text in texts]
    return Statement(tuple(texts), tuple(arguments))


def place_in(found: Sequence[Mark], at: int, counts: Sequence[int] = ()) -> int:
    """The character of a statement that one of its text with marks of one character is.

    ``counts`` says how many values each parameter has, where not one.
    """
    shift = 0
    for number, mark in enumerate(found):
        count = counts[number] if number < len(counts) else 1
        begins, width = mark.start + shift, 3 * count - 2
        if at <= begins:
            break
        if at < begins + width:
            return mark.start
        shift += width - (mark.end - mark.start)
    return at - shift


def value_of_words(words: str) -> StoredValue:
    """The value that is meant by what was typed: a number, ``NULL``, ``'text'``, ``x'bytes'``, else
    the words as text. A number that begins with a nought it does not need is text."""
    typed = words.strip()
    if typed.upper() == "NULL":
        return None
    if _INTEGER.fullmatch(typed):
        number = int(typed)
        return number if abs(number) <= _MOST_INTEGER else words
    if _REAL.fullmatch(typed):
        return float(typed)
    blob, text = _BLOB.fullmatch(typed), _TEXT.fullmatch(typed)
    if blob:
        return bytes.fromhex(blob[1])
    return text[1].replace("''", "'") if text else words


def _places(sql: str, dialect: Dialect) -> Iterator[tuple[int, int]]:
    found = without_comments(sql, dialect.lexis)
    skip_to = 0
    for number, token in enumerate(found):
        if token.start < skip_to:
            continue
        before = found[number - 1] if number else None
        if token.kind == "parameter":
            if not dialect.lexis.tcl_variables and not _stands_for_value(token, before, dialect):
                continue
            yield token.start, token.end
        elif token.text == "%" and not _ends_operand(before, dialect):
            end = _end_of_percent(sql, found, number)
            if end:
                skip_to = end
                yield token.start, end


def _end_of_percent(sql: str, found: Sequence[Token], number: int) -> int:
    """Where ``%s`` or ``%(name)s`` ends that begins with a token; 0 where it is none."""
    match = _PERCENT.match(sql, found[number].start)
    if match is None:
        return 0
    return match.end() if any(token.end == match.end() for token in found[number:]) else 0


_PERCENT = re.compile(r"%(?:\([^()\s]+\))?s(?![\w$])")


def _stands_for_value(token: Token, before: Token | None, dialect: Dialect) -> bool:
    """Whether it is a parameter where it could be an operator as well."""
    if before is None:
        return True
    adjacent = before.end == token.start
    if token.text[0] == ":":  # else it is a slice of an array
        return not (adjacent and (before.kind in ("number", "word", "name") or before.text in ")]"))
    if token.text[0] not in "?@":
        return True
    if adjacent and before.text[-1] in _NOT_BEFORE_MARK:
        return False
    return not _ends_operand(before, dialect)


def _ends_operand(token: Token | None, dialect: Dialect) -> bool:
    if token is None:
        return False
    if token.kind == "word":
        return token.text.upper() not in dialect.reserved or token.says("NULL", "TRUE", "FALSE")
    return token.kind in ("name", "string", "number", "blob", "parameter") or token.text in ")]"
