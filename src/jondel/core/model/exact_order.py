"""The order of exact values, as bytes that sort as the values do.

The same bytes serve wherever exact values are sorted or compared: in Python, and in the database
that mirrors an engine's, to which they are a function. A text that its kind cannot have comes after
all that it can.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal, InvalidOperation
from functools import lru_cache

from jondel.core.model.values import Exact

_FIRST, _LAST, _UNKNOWN = b"\x00", b"\xfd", b"\xfe"
_BIAS = 1 << 127
_DAY = 86_400 * 10**9
_NUMBER = re.compile(r"[+-]?(?:(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?|Infinity)|NaN", re.ASCII)
_ZONE = r"(?:Z|(?P<sign>[+-])(?P<hours>\d\d)(?::?(?P<minutes>\d\d))?(?::?(?P<seconds>\d\d))?)"
_CLOCK = r"(?P<hour>\d\d):(?P<minute>\d\d)(?::(?P<second>\d\d)(?:\.(?P<part>\d{1,9}))?)?"
_DATE = r"(?P<year>\d{4,7})-(?P<month>\d\d)-(?P<day>\d\d)"
_TIME_TEXT = re.compile(rf"{_CLOCK} ?{_ZONE}?", re.ASCII)
_MOMENT_TEXT = re.compile(rf"{_DATE}(?:[ T]{_CLOCK} ?{_ZONE}?)?(?P<before> BC)?", re.ASCII)
_INTERVAL_PART = re.compile(r"([+-]?\d+) (year|mon|day)s?", re.ASCII)
_INTERVAL_CLOCK = re.compile(r"(?P<less>[+-]?)(\d+):(\d\d):(\d\d)(?:\.(\d{1,9}))?", re.ASCII)
_UUID = re.compile(r"[0-9a-fA-F]{8}-?(?:[0-9a-fA-F]{4}-?){3}[0-9a-fA-F]{12}")


def order_bytes(value: Exact) -> bytes:
    """What sorts, byte by byte, as the value does among others of its kind."""
    return _ordered(value.kind, value.text)


def is_understood(value: Exact) -> bool:
    """Whether the text is one that its kind can have, as far as that is known here."""
    known = _ORDERS.get(value.kind)
    if known is None:
        return True
    try:  # not by what the order begins with: that of a uuid can begin with anything
        known(value.text)
    except (ValueError, InvalidOperation, OverflowError):
        return False
    return True


@lru_cache(maxsize=4096)
def _ordered(kind: str, text: str) -> bytes:
    known = _ORDERS.get(kind)
    if known is None:
        return text.encode("utf-8", "surrogatepass")
    try:
        return known(text)
    except (ValueError, InvalidOperation, OverflowError):
        return _UNKNOWN + text.encode("utf-8", "surrogatepass")


def _number(text: str) -> bytes:
    """-Infinity, negative numbers, nought, positive numbers, Infinity, NaN."""
    if not _NUMBER.fullmatch(text):
        raise ValueError(text)
    number = Decimal(text)
    if number.is_nan():
        return _LAST
    if number.is_infinite():
        return b"\x05" if number > 0 else b"\x01"
    if not number:
        return b"\x03"
    sign, digits, exponent = number.as_tuple()
    assert isinstance(exponent, int)
    plain = bytes(digit + 1 for digit in digits).lstrip(b"\x01")
    magnitude = len(plain) + exponent
    size = (magnitude + (1 << 39)).to_bytes(5, "big") + plain.rstrip(b"\x01") + b"\x00"
    return b"\x02" + bytes(255 - byte for byte in size) if sign else b"\x04" + size


def _truth(text: str) -> bytes:
    if text not in ("false", "true"):
        raise ValueError(text)
    return b"\x02" if text == "true" else b"\x01"


def _date_or_moment(text: str) -> bytes:
    if text in ("infinity", "-infinity"):
        return _LAST if text == "infinity" else _FIRST
    parts = _MOMENT_TEXT.fullmatch(text)
    if parts is None:
        raise ValueError(text)
    year = int(parts["year"])
    days = _days(1 - year if parts["before"] else year, int(parts["month"]), int(parts["day"]))
    clock = _nanoseconds(parts) - _offset(parts) if parts["hour"] else 0
    return _whole(days * _DAY + clock)


def _time(text: str) -> bytes:
    parts = _TIME_TEXT.fullmatch(text)
    if parts is None:
        raise ValueError(text)
    offset = _offset(parts)
    return _whole(_nanoseconds(parts) - offset) + _whole(-offset)


def _interval(text: str) -> bytes:
    """A month counts as 30 days, and a day as 24 hours."""
    rest, days = text, 0
    for number, unit in _INTERVAL_PART.findall(text):
        days += int(number) * {"year": 360, "mon": 30, "day": 1}[unit]
    rest = _INTERVAL_PART.sub("", text).strip()
    nanoseconds = 0
    if rest:
        parts = _INTERVAL_CLOCK.fullmatch(rest)
        if parts is None:
            raise ValueError(text)
        hours, minutes, seconds, part = parts.groups()[1:]
        nanoseconds = (int(hours) * 3600 + int(minutes) * 60 + int(seconds)) * 10**9
        nanoseconds += int((part or "").ljust(9, "0"))
        nanoseconds *= -1 if parts["less"] == "-" else 1
    elif not text:
        raise ValueError(text)
    return _whole(days * _DAY + nanoseconds)


def _uuid(text: str) -> bytes:
    if not _UUID.fullmatch(text):
        raise ValueError(text)
    return bytes.fromhex(text.replace("-", ""))


def _whole(number: int) -> bytes:
    return b"\x01" + (number + _BIAS).to_bytes(16, "big")


def _days(year: int, month: int, day: int) -> int:
    """Days since 1 March of the year 0 in the proleptic Gregorian calendar.

    Source: E. G. Richards, Mapping Time (1998), chapter 25; years before 1 are counted down.
    """
    if not (1 <= month <= 12 and 1 <= day <= 31):
        raise ValueError(f"{month}-{day}")
    shifted = year - (month <= 2)
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return 365 * shifted + shifted // 4 - shifted // 100 + shifted // 400 + of_year


def _nanoseconds(parts: re.Match[str]) -> int:
    seconds = int(parts["hour"]) * 3600 + int(parts["minute"]) * 60 + int(parts["second"] or 0)
    return seconds * 10**9 + int((parts["part"] or "").ljust(9, "0"))


def _offset(parts: re.Match[str]) -> int:
    """How many nanoseconds a time is ahead of UTC."""
    if not parts["sign"]:
        return 0
    seconds = int(parts["hours"]) * 3600 + int(parts["minutes"] or 0) * 60
    seconds += int(parts["seconds"] or 0)
    return (-seconds if parts["sign"] == "-" else seconds) * 10**9


_ORDERS: dict[str, Callable[[str], bytes]] = {
    "numeric": _number,
    "boolean": _truth,
    "date": _date_or_moment,
    "timestamp": _date_or_moment,
    "timestamp with time zone": _date_or_moment,
    "time": _time,
    "time with time zone": _time,
    "interval": _interval,
    "uuid": _uuid,
}
