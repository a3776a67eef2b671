"""Writes a statement's values into its text, or leaves marks for them as an app's code needs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.model.statements import Statement
from jondel.core.model.values import Clipped, Exact, InvalidText, Value

MarkStyle: TypeAlias = Literal["literals", "?", ":name", "$1", "%s"]
MARK_STYLES: tuple[MarkStyle, ...] = ("literals", "?", ":name", "$1", "%s")

_PLAIN_TYPE = re.compile(r"[a-z][a-z0-9_]*( [a-z]+)*")
_NO_TYPES = frozenset({"array", "enum", "bits", "other"})
"""Kinds of values of which each column has a type of its own."""
_UNPRINTABLE = re.compile("[\x00-\x08\x0b-\x1f\x7f]")


class LiteralForms(NamedTuple):
    """How an engine writes what SQL has no one way for: a blob, of its digits, and infinity.

    ``raw_controls``: characters that cannot be seen stand in a text as they are.
    """

    blob: str = "X'{}'"
    infinity: str = "9e999"
    not_a_number: str = "NULL"
    raw_controls: bool = False


FORMS = LiteralForms()


def literal(value: Value, forms: LiteralForms = FORMS) -> str:
    """A value as SQL writes it; the engine whose forms they are makes the same of it again."""
    match value:
        case None:
            return "NULL"
        case float():
            return _real(value, forms)
        case int():
            # The least integer cannot be written as a number: 9223372036854775808 is a real one.
            return str(value) if value != -(2**63) else "(-9223372036854775807 - 1)"
        case str():
            if not forms.raw_controls and _UNPRINTABLE.search(value):
                return f"CAST(X'{value.encode('utf-8', 'surrogatepass').hex()}' AS TEXT)"
            return "'" + value.replace("'", "''") + "'"
        case bytes():
            return forms.blob.format(value.hex())
        case Exact("boolean", "true" | "false" as text):
            return text.upper()
        case Exact(kind, text) if kind in _NO_TYPES:
            return literal(text, forms)  # it is that of the column which it is compared with
        case Exact(kind, text):
            return f"CAST({literal(text, forms)} AS {_type_name(kind)})"
        case InvalidText(raw):
            return f"CAST(X'{raw.hex()}' AS TEXT)"
        case Clipped(kind, size, _):
            return f"/* {kind} of {size} bytes */ NULL"


def styled(statement: Statement, style: MarkStyle) -> tuple[str, list[tuple[str, Value]]]:
    """The text with marks in a style, and the arguments in order, each with its mark.

    With literals there are no arguments. Names for ``:name`` are taken from the arguments' own,
    made different where two values would share one.
    """
    if style == "literals":
        return _joined(statement, [literal(value) for value in statement.values]), []
    texts = statement.texts
    if style == "%s":
        # There, a percent sign of the text itself is written twice.
        statement = Statement(tuple(text.replace("%", "%%") for text in texts), statement.arguments)
    marks = _marks(statement, style)
    return _joined(statement, marks), list(zip(marks, statement.values, strict=True))


def _joined(statement: Statement, marks: Sequence[str]) -> str:
    first, *others = statement.texts
    return first + "".join(m + text for m, text in zip(marks, others, strict=True))


def _marks(statement: Statement, style: MarkStyle) -> list[str]:
    arguments = statement.arguments
    if style == "$1":
        return [f"${number}" for number in range(1, len(arguments) + 1)]
    if style != ":name":
        return [style] * len(arguments)
    marks: list[str] = []
    for argument in arguments:
        plain = re.sub(r"\W+", "_", argument.name).strip("_") or "value"
        plain = f"v_{plain}" if plain[0].isdigit() else plain
        mark, number = f":{plain}", 2
        while mark in marks:
            mark, number = f":{plain}_{number}", number + 1
        marks.append(mark)
    return marks


def _type_name(kind: str) -> str:
    """A type's name as it stands in a cast; one that holds anything else is in quotes."""
    if _PLAIN_TYPE.fullmatch(kind):
        return kind
    doubled = kind.replace('"', '""')
    return f'"{doubled}"'


def _real(value: float, forms: LiteralForms) -> str:
    shown = repr(value)
    special = {"inf": forms.infinity, "-inf": f"-{forms.infinity}", "nan": forms.not_a_number}
    return special.get(shown, shown)
