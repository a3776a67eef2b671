"""Values that are times: which columns hold such, counted in what, and how one reads.

What a column holds is told from its name and declared type together with all of the values seen,
never from the size of one value: a checksum can fall in the range of seconds.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Literal, NamedTuple, TypeAlias, get_args

from jondel.core.model.column_types import TIMES
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, ShownRow, Value

TimeKind: TypeAlias = Literal[
    "unix seconds",
    "unix milliseconds",
    "unix microseconds",
    "unix nanoseconds",
    "seconds since 2001",
    "microseconds since 1601",
    "100 ns since 1601",
    "100 ns since 0001",
    "Julian days",
    "days since 1899-12-30",
    "ISO text",
    "fourteen digits",
]
TIME_KINDS: tuple[TimeKind, ...] = get_args(TimeKind)


class _Count(NamedTuple):
    """Since when is counted, and how many of the units make a second."""

    since: datetime
    a_second: float


_UNIX = datetime(1970, 1, 1, tzinfo=UTC)
_DAY = 1 / 86400
_COUNTS: dict[TimeKind, _Count] = {
    "unix seconds": _Count(_UNIX, 1),
    "unix milliseconds": _Count(_UNIX, 1e3),
    "unix microseconds": _Count(_UNIX, 1e6),
    "unix nanoseconds": _Count(_UNIX, 1e9),
    "seconds since 2001": _Count(datetime(2001, 1, 1, tzinfo=UTC), 1),
    "microseconds since 1601": _Count(datetime(1601, 1, 1, tzinfo=UTC), 1e6),
    "100 ns since 1601": _Count(datetime(1601, 1, 1, tzinfo=UTC), 1e7),
    "100 ns since 0001": _Count(datetime(1, 1, 1, tzinfo=UTC), 1e7),
    "days since 1899-12-30": _Count(datetime(1899, 12, 30, tzinfo=UTC), _DAY),
}
_JULIAN_DAY_OF_UNIX = 2440587.5
_GUESSED: tuple[TimeKind, ...] = (
    "unix seconds",
    "unix milliseconds",
    "unix microseconds",
    "unix nanoseconds",
    "microseconds since 1601",
    "100 ns since 1601",
    "100 ns since 0001",
    "Julian days",
    "seconds since 2001",
)
"""Tried in this order; their plausible ranges hardly overlap. Days since 1899 are never guessed:
too many small numbers could be such."""
_PLAUSIBLE = (datetime(1995, 1, 1, tzinfo=UTC), datetime(2060, 1, 1, tzinfo=UTC))
_PLAUSIBLE_FROM_2001 = (datetime(2004, 1, 1, tzinfo=UTC), datetime(2045, 1, 1, tzinfo=UTC))
"""Small numbers are seldom the first seconds of 2001."""
_TIME_WORDS = (
    "at on time date datetime timestamp ts stamp when created updated modified deleted "
    "changed expires expiry expiration since until start started end ended begin began due "
    "seen day birthday born moment logged visited added opened closed sent received taken utc "
    "arrived arrives departed departs left leaves booked paid cancelled checked issued signed "
    "published accessed activity login birthdate startdate enddate duedate epoch unix ms msec "
    "millis us usec micros ns nanos"
)
_NAME_PARTS = frozenset(_TIME_WORDS.split())
_ISO = re.compile(
    r"(\d{4}-\d\d-\d\d)(?:[T ](\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?)\s*(Z|UTC|[+-]\d\d(?::?\d\d)?)?)?"
)
_DIGITS = re.compile(r"(\d{14})(?:\.(\d+))?")
_FEWEST_WITHOUT_NAME = 3


def guess_time_kind(column: Column, values: Iterable[Value]) -> TimeKind | None:
    """What the times of a column are counted in; None where it seems to hold no times.

    ``values`` are some of the column's, the more the better.
    """
    # Many an app writes 0 where there is no time.
    present = [value for value in values if value not in (None, "", 0)]
    if not present:
        return None
    texts = [text for value in present if (text := _as_text(value)) is not None]
    if len(texts) == len(present):
        if all(_from_iso(text) for text in texts):
            return "ISO text"
        named = _named_as_time(column) or len(set(texts)) >= _FEWEST_WITHOUT_NAME
        if named and all(_plausible(_from_digits(text)) for text in texts):
            return "fourteen digits"
        return None
    if not _named_as_time(column):
        return None
    if not all(isinstance(value, int | float) for value in present):
        return None
    return next((k for k in _GUESSED if all(_plausible(moment(v, k), k) for v in present)), None)


def time_kinds(
    table: Table, rows: Sequence[ShownRow], chosen: Mapping[str, str]
) -> dict[str, TimeKind]:
    """What the times of a table's columns are counted in, where they hold such.

    ``rows`` are some of the table's; ``chosen`` says by column what a person wants, a kind or
    empty for no times.
    """
    kinds: dict[str, TimeKind] = {}
    for index, column in enumerate(table.columns):
        if column.name in chosen:
            kind = next((k for k in TIME_KINDS if k == chosen[column.name]), None)
        else:
            kind = guess_time_kind(column, (row[index] for row in rows))
        if kind is not None:
            kinds[column.name] = kind
    return kinds


def moment(value: Value, kind: TimeKind) -> datetime | None:
    """The instant that a value stands for; None where it is none of the kind."""
    if kind == "ISO text":
        return _from_iso(_as_text(value))
    if kind == "fourteen digits":
        return _from_digits(str(value)) if isinstance(value, str | int) else None
    if not isinstance(value, int | float):
        return None
    try:
        if kind == "Julian days":
            return _UNIX + timedelta(days=value - _JULIAN_DAY_OF_UNIX)
        count = _COUNTS[kind]
        if isinstance(value, int) and count.a_second >= 1e6:
            # Whole microseconds exactly; a real number has not digits enough.
            return count.since + timedelta(microseconds=value // int(count.a_second // 1e6))
        return count.since + timedelta(seconds=value / count.a_second)
    except (OverflowError, ValueError):
        return None


def reading(value: Value, kind: TimeKind) -> str | None:
    """How a value reads as a time, in UTC unless the text says another zone."""
    time = moment(value, kind)
    if time is None:
        return None
    text = _as_text(value)
    if kind == "ISO text" and text is not None:
        # The clock can be read as it stands, unless it is another zone's.
        parts = _ISO.fullmatch(text.strip())
        if parts is None or parts[3] in (None, "Z", "UTC"):
            return f"{time:%A}, {time.day} {time:%B}"
        there = time.astimezone(UTC)
        return f"{there:%A}, {there.day} {there:%B}, {there:%H:%M:%S} UTC"
    shown = f"{time:%Y-%m-%d %H:%M:%S}"
    if time.microsecond:
        shown += f".{time.microsecond:06d}".rstrip("0")
    return f"{shown} UTC" if kind != "fourteen digits" else shown


def moment_typed(text: str) -> datetime | None:
    """The instant that a person typed, in UTC unless the text says another zone."""
    return _from_iso(text) or _from_digits(text)


def counted(time: datetime, kind: TimeKind, *, whole: bool = True) -> int | float:
    """An instant as a number of a kind that counts; ``whole`` where the unit is counted whole."""
    if kind == "Julian days":
        return (time - _UNIX) / timedelta(days=1) + _JULIAN_DAY_OF_UNIX
    count = _COUNTS[kind]
    if kind == "days since 1899-12-30":
        return (time - count.since) / timedelta(days=1)
    microseconds = (time - count.since) // timedelta(microseconds=1)
    if whole:
        return microseconds * int(count.a_second) // 1_000_000
    return microseconds * count.a_second / 1e6


def _named_as_time(column: Column) -> bool:
    if column.type.is_time:
        return True
    parts = re.findall(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])", column.name)
    return any(part.lower() in _NAME_PARTS or part.lower().endswith("time") for part in parts)


def _plausible(time: datetime | None, kind: TimeKind | None = None) -> bool:
    first, last = _PLAUSIBLE_FROM_2001 if kind == "seconds since 2001" else _PLAUSIBLE
    return time is not None and first <= time < last


def _as_text(value: Value) -> str | None:
    """The text of what may be a date or time written out."""
    if isinstance(value, Exact):
        return value.text if value.kind in TIMES else None
    return value if isinstance(value, str) else None


def _from_iso(text: str | None) -> datetime | None:
    parts = _ISO.fullmatch(text.strip()) if text is not None else None
    if parts is None:
        return None
    zone = {None: "+00:00", "Z": "+00:00", "UTC": "+00:00"}.get(parts[3], parts[3])
    clock = (parts[2] or "00:00").replace(",", ".")
    try:
        return datetime.fromisoformat(f"{parts[1]}T{clock}{zone}")
    except ValueError:
        return None


def _from_digits(text: str) -> datetime | None:
    parts = _DIGITS.fullmatch(text)
    if parts is None:
        return None
    try:
        time = datetime.strptime(parts[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None
    return time.replace(microsecond=int((parts[2] or "").ljust(6, "0")[:6]))
