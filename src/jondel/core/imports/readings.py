"""What values of a file become in a column: read as its type has it, or as a person says.

Values are read a column at a time: the usual ones quickly, all at once; and where that fails one by
one, so that it is known which of them cannot be read.
"""

from __future__ import annotations

import base64
import json
import os
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from math import isfinite
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.browse.exact_entry import TRUTHS, UnfitForKind, exact_typed
from jondel.core.files.json_values import value_from_json
from jondel.core.imports.source import Raw
from jondel.core.model.column_types import ColumnType
from jondel.core.model.values import Exact, InvalidText, StoredValue

Way: TypeAlias = Literal[
    "by type", "as it is", "comma decimals", "day first", "month first", "seconds", "base64"
]
WAYS: Mapping[Way, str] = {
    "by type": "as the column's type has it",
    "as it is": "as it is, whatever the column's type",
    "comma decimals": "numbers as in 1.234,50",
    "day first": "dates as in 14.06.2026 or 14/06/2026",
    "month first": "dates as in 06/14/2026",
    "seconds": "seconds since 1970, as date and time",
    "base64": "bytes in base64",
}
"""How values can be read, and what that means."""

_LEAST, _MOST = -(2**63), 2**63 - 1
_IN_WHOLE, _IN_REAL = b"+-0123456789", b"+-0123456789.eE"
"""The characters that numbers are usually made of."""
_BLANKS = "[ \\t\\r\\n]*"
_WHOLE = re.compile(rf"{_BLANKS}[+-]?[0-9]+{_BLANKS}")
_REAL = re.compile(rf"{_BLANKS}[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?{_BLANKS}")
_NO_NUMBER = re.compile(rf"{_BLANKS}([+-]?(inf|infinity)|nan){_BLANKS}", re.IGNORECASE)
_BYTES = re.compile(r"0x((?:[0-9a-fA-F]{2})*)")
_DATE = re.compile(
    rf"{_BLANKS}([0-9]{{1,2}})[./-]([0-9]{{1,2}})[./-]([0-9]{{4}})"
    rf"(?:[ T]+([0-9]{{1,2}}:[0-9]{{2}}(?::[0-9.]+)?))?{_BLANKS}"
)
_LONGEST_SHOWN = 40


class ReadColumn(NamedTuple):
    """The values of a column, as many as were given; and by their places why some are none."""

    values: Sequence[StoredValue]
    unfit: Mapping[int, str]


ColumnReader: TypeAlias = Callable[[Sequence[Raw]], ReadColumn]
"""Reads values of one column."""
_One: TypeAlias = Callable[[Raw], StoredValue]
"""Reads one value; raises ``UnfitForKind``."""


def column_reader(column: ColumnType, way: Way = "by type") -> ColumnReader:
    """What reads values for a column of a type."""
    one = _reader_of_one(column, way)
    quick = _quick_reader(column, way)

    def read(values: Sequence[Raw]) -> ReadColumn:
        found = _without_nulls(quick, values) if quick is not None else None
        return ReadColumn(found, {}) if found is not None else _one_by_one(one, values)

    return read


def with_invalid_text(value: StoredValue) -> StoredValue:
    """A text whose bytes were no text, as what it is."""
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            try:
                return InvalidText(value.encode("utf-8", "surrogateescape"))
            except UnicodeEncodeError:  # it was no byte, but half of a pair of code units
                return InvalidText(value.encode("utf-8", "surrogatepass"))
    return value


def _one_by_one(one: _One, values: Sequence[Raw]) -> ReadColumn:
    found: list[StoredValue] = []
    unfit: dict[int, str] = {}
    for place, value in enumerate(values):
        try:
            found.append(None if value is None else one(value))
        except UnfitForKind as error:
            found.append(None)
            unfit[place] = f"{shown(value)} is not {error}"
    return ReadColumn(found, unfit)


def shown(value: Raw) -> str:
    """A value of a file in a message."""
    text = repr(value) if isinstance(value, str) else as_text(value)
    return text if len(text) <= _LONGEST_SHOWN else f"{text[:_LONGEST_SHOWN]}…"


def as_text(value: Raw) -> str:
    """A value of a file as text: what is no text there in the words of JSON."""
    match value:
        case str():
            return value
        case None:
            return ""
        case Decimal():
            return str(value)
    text = json.dumps(value, ensure_ascii=False, default=lambda number: f"{_MARK}{number}")
    return _MARKED.sub(r"\1", text) if _MARK in text else text


_MARK = f"{os.urandom(16).hex()}:"
"""Stands before numbers that are to be written with all their digits, while JSON is written."""
_MARKED = re.compile(f'"{_MARK}([^"]*)"')


# The usual ones, all at once; None where one of them is not

_Quick: TypeAlias = Callable[[Sequence[Raw]], "Sequence[StoredValue] | None"]


def _quick_reader(column: ColumnType, way: Way) -> _Quick | None:
    if column.exact or way not in ("by type", "as it is"):
        return None
    if way == "as it is" or column.kind == "text" or column.meant not in (None, "boolean"):
        return _texts
    return _QUICK.get(column.kind) if column.meant is None else None


def _without_nulls(quick: _Quick, values: Sequence[Raw]) -> Sequence[StoredValue] | None:
    if None not in values or quick is _texts:
        return quick(values)
    found = quick([value for value in values if value is not None])
    if found is None:
        return None
    rest = iter(found)
    return [None if value is None else next(rest) for value in values]


def _texts(values: Sequence[Raw]) -> Sequence[StoredValue] | None:
    return values if set(map(type, values)) <= _TEXTS else None  # type: ignore[return-value]


def _made_of(values: Sequence[Raw], characters: bytes) -> bool:
    """Whether texts have no other characters; raises where one is no text, or not ASCII."""
    return not "".join(values).encode("ascii").translate(None, characters)  # type: ignore[arg-type]


def _integers(values: Sequence[Raw]) -> Sequence[StoredValue] | None:
    try:
        if not _made_of(values, _IN_WHOLE):
            return None
        found = list(map(int, values))  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return None
    return found if not found or (min(found) >= _LEAST and max(found) <= _MOST) else None


def _reals(values: Sequence[Raw]) -> Sequence[StoredValue] | None:
    try:
        return list(map(float, values)) if _made_of(values, _IN_REAL) else None  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return None


def _numbers(values: Sequence[Raw]) -> Sequence[StoredValue] | None:
    found = _integers(values)
    if found is not None:
        return found
    try:
        if not _made_of(values, _IN_REAL):
            return None
        # Longer ones may be whole numbers, which a real one does not hold exactly.
        if max(map(len, values)) > _EXACT_DIGITS:  # type: ignore[arg-type]
            return None
        return [int(v) if v.lstrip("+-").isdigit() else float(v) for v in values]  # type: ignore[union-attr,arg-type]
    except (TypeError, ValueError):
        return None


_EXACT_DIGITS = 15
_TEXTS = frozenset({str, type(None)})
_QUICK: Mapping[str, _Quick] = {
    "integer": _integers,
    "real": _reals,
    "numeric": _numbers,
}


# One by one


def _reader_of_one(column: ColumnType, way: Way) -> _One:
    match way:
        case "as it is":
            return lambda value: _given(value, column)
        case "comma decimals":
            return lambda value: _by_type(_with_point(value), column)
        case "day first" | "month first":
            return lambda value: _by_type(_date(value, day_first=way == "day first"), column)
        case "seconds":
            return lambda value: _by_type(_moment(value), column)
        case "base64":
            return _base64
    return lambda value: _by_type(value, column)


def _given(value: Raw, column: ColumnType) -> StoredValue:
    """A value with the type that it has in the file, as far as the engine has such."""
    if isinstance(value, dict | list):
        return _written_by_us(value) or as_text(value)
    if column.exact and value is not None:
        return Exact(column.exact_kind or "other", as_text(value))
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, Decimal):
        return float(value)
    return value


def _by_type(value: Raw, column: ColumnType) -> StoredValue:
    if isinstance(value, dict):
        ours = _written_by_us(value)
        if ours is not None:
            return ours
    if column.exact:
        return _exact(value, column)
    if column.meant == "boolean":
        return _truth(value)
    if column.meant is not None:
        return _given(value, column)  # of times, and what else the engine knows nothing of
    match column.kind:
        case "integer":
            return _whole(value)
        case "real" | "numeric":
            return _real(value, column)
        case "text":
            return as_text(value)
        case "blob":
            return _blob(value)
    return _any(value, column)


def _written_by_us(value: object) -> StoredValue:
    """The value that an object stands for where Jondel wrote it; None where it is another."""
    try:
        found = value_from_json(value)
    except ValueError:
        return None
    return found


def _exact(value: Raw, column: ColumnType) -> StoredValue:
    text = as_text(value)
    return exact_typed(column, text)


def _truth(value: Raw) -> StoredValue:
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, int):
        return value
    truth = TRUTHS.get(value.strip().lower()) if isinstance(value, str) else None
    if truth is not None:
        return int(truth == "true")
    if isinstance(value, str) and _WHOLE.fullmatch(value):
        return int(value)
    raise UnfitForKind("true or false")


def _whole(value: Raw) -> StoredValue:
    match value:
        case int():
            found = int(value)
        case str() if _WHOLE.fullmatch(value):
            found = int(value)
        case float() | Decimal() if isfinite(value) and value == int(value):
            found = int(value)
        case _:
            raise UnfitForKind("a whole number")
    if not _LEAST <= found <= _MOST:
        raise UnfitForKind("a number of at most 64 bits")
    return found


def _real(value: Raw, column: ColumnType) -> StoredValue:
    number: int | float
    match value:
        case int():
            number = int(value)
        case float() | Decimal():
            number = float(value)
        case str() if _WHOLE.fullmatch(value):
            number = int(value)
        case str() if _REAL.fullmatch(value):
            number = float(value)
        case str() if column.kind == "real" and _NO_NUMBER.fullmatch(value):
            number = float(value)
        case _:
            raise UnfitForKind("a number")
    if column.kind == "real" or not _LEAST <= number <= _MOST or number != number:
        return float(number)
    return number


def _blob(value: Raw) -> StoredValue:
    found = _BYTES.fullmatch(value) if isinstance(value, str) else None
    if found is None:
        raise UnfitForKind("bytes as in 0x0a1b")
    return bytes.fromhex(found[1])


def _base64(value: Raw) -> StoredValue:
    if isinstance(value, str):
        try:
            return base64.b64decode(value, validate=True)
        except ValueError:
            pass
    raise UnfitForKind("base64")


def _any(value: Raw, column: ColumnType) -> StoredValue:
    """Of a column that takes whatever it is given: what a text is most likely meant for."""
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, float | int):
        return value
    if isinstance(value, Decimal):
        return float(value)
    if not isinstance(value, str):
        return as_text(value)
    found = _BYTES.fullmatch(value)
    if found is not None and (value != "0x" or column.name):
        return bytes.fromhex(found[1])
    if column.name:
        return value  # declared as a blob: text is kept as it is
    if is_plain_whole(value):
        return int(value)
    return float(value) if is_plain_real(value) else value


def is_plain_whole(text: str) -> bool:
    """Whether a text is a whole number as such are written: ``007`` is none, nor is ``+1``."""
    return bool(_PLAIN_WHOLE.fullmatch(text)) and _LEAST <= int(text) <= _MOST


def is_plain_real(text: str) -> bool:
    """Whether a text is a number as such are written."""
    return bool(_PLAIN_REAL.fullmatch(text)) and isfinite(float(text))


_PLAIN_WHOLE = re.compile(r"0|-?[1-9][0-9]{0,18}")
_PLAIN_REAL = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]{1,3})?")


def _with_point(value: Raw) -> Raw:
    """A number that was written with a comma before its decimals."""
    if not isinstance(value, str):
        return value
    text = value.strip().replace("\u00a0", "").replace(" ", "").replace("'", "")
    if not re.fullmatch(r"[+-]?[0-9]{1,3}(\.[0-9]{3})*(,[0-9]*)?|[+-]?[0-9]+(,[0-9]*)?", text):
        raise UnfitForKind("a number as in 1.234,50")
    return text.replace(".", "").replace(",", ".")


def _date(value: Raw, *, day_first: bool) -> Raw:
    found = _DATE.fullmatch(value) if isinstance(value, str) else None
    if found is None:
        raise UnfitForKind(f"a date as in {'14.06.2026' if day_first else '06/14/2026'}")
    one, two, year, time = found.groups()
    day, month = (int(one), int(two)) if day_first else (int(two), int(one))
    import datetime as dt

    try:
        date = dt.date(int(year), month, day).isoformat()
    except ValueError:
        raise UnfitForKind("a day that there is") from None
    return f"{date} {time.zfill(5)}" if time else date


def _moment(value: Raw) -> Raw:
    import datetime as dt

    try:
        seconds = Decimal(value if isinstance(value, str) else str(value))
        whole, rest = divmod(seconds, 1)
        moment = dt.datetime(1970, 1, 1) + dt.timedelta(seconds=int(whole))  # noqa: DTZ001
    except (ArithmeticError, ValueError, OverflowError):
        raise UnfitForKind("a number of seconds since 1970") from None
    fraction = f"{rest:f}".lstrip("0") if rest else ""
    return f"{moment.isoformat(' ')}{fraction}"
