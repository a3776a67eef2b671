"""What a person means by a value typed to compare a column with."""

from __future__ import annotations

import re
from math import inf

from jondel.core.browse.exact_entry import UnfitForKind, exact_typed
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.schema import Column
from jondel.core.model.values import Exact, StoredValue

_WHOLE = re.compile(r"[+-]?\d+")
_ENDLESS = {"inf": inf, "+inf": inf, "∞": inf, "-inf": -inf, "-∞": -inf}
_REAL = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")


def typed_value(text: str, column: Column | None) -> StoredValue:
    """A number where it is written as one and the column is not for text; else the text.

    Quoted with ``'`` it is always text; ``X'…'`` is a blob in hexadecimal digits.

    Raises:
        ValueUnsuitable: the column holds exact values, and this is none of their kind.
    """
    quoted = len(text) > 1 and text[0] == text[-1] == "'"
    if quoted:
        return text[1:-1].replace("''", "'")
    blob = re.fullmatch(r"[xX]'((?:[0-9a-fA-F]{2})*)'", text)
    if blob:
        return bytes.fromhex(blob[1])
    if column is not None and column.type.kind == "text":
        return text
    if column is not None and column.type.exact:
        try:
            return exact_typed(column.type, text)
        except UnfitForKind as error:
            raise ValueUnsuitable(f"{column.name} is {column.type.name}; type {error}") from error
    of_reals = column is not None and column.type.kind == "real"
    number = real_typed(text) if of_reals else number_typed(text)
    return text if number is None else number


def real_typed(text: str) -> int | float | None:
    """The number that a text is written as in a column of real ones, which may have no end."""
    return _ENDLESS.get(text.strip().lower(), number_typed(text))


def number_typed(text: str) -> int | float | None:
    """The number that a text is written as, if it is one."""
    if _WHOLE.fullmatch(text) and len(text) < 30:
        whole = int(text)
        return whole if -(2**63) <= whole < 2**63 else float(whole)
    return float(text) if _REAL.fullmatch(text) else None


def as_typed(value: StoredValue) -> str:
    """How a value is typed so that ``typed_value`` gives it again, whatever the column."""
    match value:
        case str():
            ambiguous = number_typed(value) is not None or value[:1] == "'" or value[-1:] == "'"
            return "'" + value.replace("'", "''") + "'" if ambiguous else value
        case bytes():
            return f"X'{value.hex()}'"
        case int() | float():
            return repr(value)
        case Exact():
            return value.text
        case _:
            return ""
