"""What a typed text becomes in a column, or why it does not suit it."""

from __future__ import annotations

from datetime import UTC, datetime
from enum import Enum
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.browse.times import TimeKind, counted
from jondel.core.browse.typed_values import number_typed
from jondel.core.draft.value_forms import UnfitText, ValueForm
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue

_TEXT_MEANT = ("DATE", "TIME", "JSON", "UUID", "STRING", "ENUM")


class EntryWay(Enum):
    """How a value is given: typed, or in one of the ways that typing cannot."""

    TYPED = "typed"
    AS_TYPED = "as typed"
    """The text itself, though it does not suit the column's type."""
    NULL = "NULL"
    EMPTY = "empty text"
    DEFAULT = "default"
    NOW = "now"


class ValueEntry(NamedTuple):
    """What a person entered for a value."""

    text: str = ""
    way: EntryWay = EntryWay.TYPED


def entered(
    text: str,
    table: Table,
    column: Column,
    before: StoredValue = None,
    form: ValueForm | None = None,
) -> StoredValue:
    """The value that a text typed for a column stands for.

    A column without a type takes a number where ``before`` is one, and text where that is text.
    ``form`` is how the column's values are written, where that is known.

    Raises:
        ValueUnsuitable: the column's declared type, or what it holds, wants something else.
    """
    if form is not None:
        try:
            return form.value_of(text)
        except UnfitText as error:
            typed = line(text, 40)
            raise ValueUnsuitable(f"{table.title}.{column.name}: {error}, not {typed!r}") from error
    number = number_typed(text)
    declared = column.declared_type.upper()
    match column.affinity:
        case "text":
            return text
        case "integer":
            if isinstance(number, int):
                return number
            if isinstance(number, float) and number.is_integer() and abs(number) < 2**53:
                return int(number)
            wanted = "a whole number"
        case "real":
            if number is not None:
                return float(number)
            wanted = "a number"
        case "numeric":
            if number is not None:
                return number
            if any(part in declared for part in _TEXT_MEANT):
                return text
            wanted = "true or false as 1 or 0" if "BOOL" in declared else "a number"
        case _:
            return number if number is not None and not isinstance(before, str) else text
    where = f"{table.title}.{column.name} is {column.declared_type}"
    raise ValueUnsuitable(f"{where} and takes {wanted}, not {line(text, 40)!r}")


def untouched(text: str, before: StoredValue) -> bool:
    """Whether a text is just what stood there for a value, which stays then: also a blob, and a
    value of another storage class than its column's."""
    return text == as_entered(before)


def require_storable(value: StoredValue, table: Table, column: Column) -> None:
    """Refuse early what the engine would refuse at any rate.

    Raises:
        ValueUnsuitable: the column takes no NULL, or is of a STRICT table and of another type.
    """
    where = f"{table.title}.{column.name}"
    if value is None:
        if column.not_null:
            raise ValueUnsuitable(f"{where} is NOT NULL")
        return
    declared = column.declared_type.upper()
    if not table.strict or declared == "ANY":
        return
    number = number_typed(value) if isinstance(value, str) else value
    suits = {
        "TEXT": not isinstance(value, bytes),
        "BLOB": isinstance(value, bytes),
        "REAL": isinstance(number, int | float),
    }
    whole = isinstance(number, int) or (isinstance(number, float) and number.is_integer())
    if not suits.get(declared, whole):
        raise ValueUnsuitable(
            f"{where} is {declared}, and the table is STRICT: it takes nothing else"
        )


def as_entered(value: StoredValue) -> str:
    """How a value is typed so that it can be changed; empty for NULL and for a blob, which are
    given in other ways."""
    match value:
        case None | bytes():
            return ""
        case str():
            return value
        case int() | float():
            return repr(value)
        case _:
            return value.raw.decode("utf-8", "replace")


def current_time(
    column: Column, kind: TimeKind | None, moment: datetime, form: ValueForm | None = None
) -> StoredValue:
    """The present time as a column holds times: by its form or kind, else by its declared type."""
    moment = moment.astimezone(UTC)
    in_form = form.now(moment) if form is not None else None
    if in_form is not None:
        return in_form
    seconds = moment.timestamp()
    match kind:
        case "fourteen digits":
            return f"{moment:%Y%m%d%H%M%S}"
        case "ISO text":
            return f"{moment:%Y-%m-%d %H:%M:%S}"
        case None:
            if column.affinity in ("integer", "real"):
                return int(seconds) if column.affinity != "real" else seconds
            return f"{moment:%Y-%m-%d %H:%M:%S}"
    in_fractions = kind == "seconds since 2001" or column.affinity == "real"
    return counted(moment, kind, whole=not in_fractions)
