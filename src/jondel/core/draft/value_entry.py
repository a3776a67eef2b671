"""What a typed text becomes in a column, or why it does not suit it."""

from __future__ import annotations

from datetime import UTC, datetime
from enum import Enum
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.browse.exact_entry import UnfitForKind, exact_typed
from jondel.core.browse.times import TimeKind, counted
from jondel.core.browse.typed_values import number_typed, real_typed
from jondel.core.draft.value_forms import UnfitText, ValueForm
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.column_types import TIMES, ValueKind
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, StoredValue

_AS_TEXT: frozenset[ValueKind] = TIMES | {"json", "uuid", "text", "blob"}


_NOW_FORMATS: dict[ValueKind, str] = {
    "date": "%Y-%m-%d",
    "time": "%H:%M:%S",
    "time with time zone": "%H:%M:%S+00",
    "timestamp": "%Y-%m-%d %H:%M:%S",
    "timestamp with time zone": "%Y-%m-%d %H:%M:%S+00",
}


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
    where = f"{table.title}.{column.name} is {column.type.name}"
    if column.type.exact:
        try:
            return exact_typed(column.type, text)
        except UnfitForKind as error:
            raise ValueUnsuitable(f"{where} and takes {error}, not {line(text, 40)!r}") from error
    number = number_typed(text)
    match column.type.kind:
        case "text":
            return text
        case "integer":
            if isinstance(number, int):
                return number
            if isinstance(number, float) and number.is_integer() and abs(number) < 2**53:
                return int(number)
            wanted = "a whole number"
        case "real":
            real = real_typed(text)
            if real is not None:
                return float(real)
            wanted = "a number"
        case "numeric":
            if number is not None:
                return number
            if column.type.meant in _AS_TEXT:
                return text
            wanted = "true or false as 1 or 0" if column.type.use == "boolean" else "a number"
        case _:
            return number if number is not None and not isinstance(before, str) else text
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
    if not table.strict or column.type.kind == "any":
        return
    number = number_typed(value) if isinstance(value, str) else value
    suits: dict[ValueKind, bool] = {
        "text": not isinstance(value, bytes),
        "blob": isinstance(value, bytes),
        "real": isinstance(number, int | float),
    }
    whole = isinstance(number, int) or (isinstance(number, float) and number.is_integer())
    if not suits.get(column.type.kind, whole):
        raise ValueUnsuitable(
            f"{where} is {column.type.name.upper()}, and the table is STRICT: it takes nothing else"
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
        case Exact():
            return value.text
        case _:
            return value.raw.decode("utf-8", "replace")


def current_time(
    column: Column, kind: TimeKind | None, moment: datetime, form: ValueForm | None = None
) -> StoredValue:
    """The present time as a column holds times: by its form or kind, else by its declared type."""
    moment = moment.astimezone(UTC)
    if column.type.exact and column.type.is_time:
        return Exact(column.type.kind, f"{moment:{_NOW_FORMATS[column.type.kind]}}")
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
            if column.type.kind in ("integer", "real"):
                return int(seconds) if column.type.kind != "real" else seconds
            return f"{moment:%Y-%m-%d %H:%M:%S}"
    in_fractions = kind == "seconds since 2001" or column.type.kind == "real"
    return counted(moment, kind, whole=not in_fractions)
