"""The form in which a column holds its values: JSON, booleans, or times, written in some way.

A declared type says little of that in engines that store anything in any column; what the column
holds says more. A text that is typed for such a column must be of its form, and is written in it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta, timezone
from typing import NamedTuple, Protocol

from jondel.core.browse.json_lines import parsed, problem_in
from jondel.core.browse.times import TimeKind, counted, moment_typed
from jondel.core.browse.typed_values import number_typed
from jondel.core.model.schema import Column
from jondel.core.model.values import StoredValue, Value

_FEWEST = 3
"""So many values must agree where the declared type says nothing of a form."""
_TRUE, _FALSE = {"true", "t", "yes", "y", "on", "1"}, {"false", "f", "no", "n", "off", "0"}
_ZONE = r"\s*(?:Z|UTC|[+-]\d\d(:?)\d\d)"
_SECONDS = r":\d\d(?:([.,])(\d+))?"
_ISO = re.compile(rf"\d{{4}}-\d\d-\d\d(?:([T ])\d\d:\d\d(?P<seconds>{_SECONDS})?({_ZONE})?)?")
_CLOCK = re.compile(r"([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d+)?)?")
_DIGITS = re.compile(r"\d{14}(?:\.(\d+))?")


class UnfitText(Exception):
    """A text is not of a form; the message says what is wanted."""


class ValueForm(Protocol):
    """How values of a column are written."""

    def value_of(self, text: str) -> StoredValue:
        """What a typed text is in this form. Raises ``UnfitText``."""

    def now(self, moment: datetime) -> StoredValue | None:
        """The present time in this form; None where it is not one of times."""


def form_of(column: Column, values: Iterable[Value], kind: TimeKind | None) -> ValueForm | None:
    """The form of a column; None where anything may stand in it.

    ``values`` are some of the column's, the more the better; ``kind`` is what its times are
    counted in, where it holds such.
    """
    if column.type.exact:
        return None  # the engine itself sees to how they are written
    held = [value for value in values if value is not None and value != ""]
    texts = [value for value in held if isinstance(value, str)]
    all_texts = len(texts) == len(held)
    if column.type.use == "json":
        return _JSON if all_texts and all(not problem_in(text) for text in texts[:50]) else None
    if all_texts and len(texts) >= _FEWEST and all(parsed(text) is not None for text in texts):
        return _JSON
    if column.type.use == "boolean":
        return _boolean_form(held)
    if kind is not None and kind not in ("ISO text", "fourteen digits"):
        return CountedTimes(kind, whole=column.type.kind != "real")
    if all_texts and texts and (len(texts) >= _FEWEST or column.type.is_time):
        return _text_form(texts)
    return None


class Json:
    """Text that is JSON."""

    def value_of(self, text: str) -> StoredValue:
        problem = problem_in(text)
        if problem:
            raise UnfitText(problem)
        return text

    def now(self, moment: datetime) -> StoredValue | None:
        return None


_JSON = Json()


class Booleans(NamedTuple):
    """Two values for true and false."""

    true: StoredValue
    false: StoredValue

    def value_of(self, text: str) -> StoredValue:
        word = text.strip().lower()
        if word in _TRUE | {str(self.true).lower()}:
            return self.true
        if word in _FALSE | {str(self.false).lower()}:
            return self.false
        raise UnfitText(f"it holds {self.true!r} for true and {self.false!r} for false")

    def now(self, moment: datetime) -> StoredValue | None:
        return None


_PAIRS: tuple[tuple[StoredValue, StoredValue], ...] = (
    *((1, 0), ("true", "false"), ("True", "False"), ("TRUE", "FALSE")),
    *(("t", "f"), ("T", "F"), ("yes", "no"), ("Y", "N"), ("y", "n"), ("1", "0")),
)


def _boolean_form(held: Sequence[Value]) -> ValueForm | None:
    for true, false in _PAIRS:
        if all(type(value) is type(true) and value in (true, false) for value in held):
            return Booleans(true, false)
    return None


class CountedTimes(NamedTuple):
    """Times counted in some unit; a time that is typed as such is counted too."""

    kind: TimeKind
    whole: bool

    def value_of(self, text: str) -> StoredValue:
        number = number_typed(text)
        if number is not None:
            return number
        typed = moment_typed(text)
        if typed is None:
            raise UnfitText(f"it holds times in {self.kind}: type a number, or 2026-03-31 14:05:00")
        return counted(typed, self.kind, whole=self.whole)

    def now(self, moment: datetime) -> StoredValue | None:
        return counted(moment, self.kind, whole=self.whole)


class _Iso(NamedTuple):
    """How a date and time is written, but for how many digits a fraction has."""

    separator: str | None
    with_seconds: bool
    point: str | None
    zone: str | None
    """``Z``, ``UTC``, or an offset's form: ``+hh:mm`` or ``+hhmm``, with a space before or not."""


class IsoTexts(NamedTuple):
    """Dates, or dates and times, as text."""

    ways: frozenset[_Iso]
    example: str
    usual: _Iso
    digits: int
    offset: timedelta
    """Of the example's zone."""

    def value_of(self, text: str) -> StoredValue:
        way = _iso_of(text)
        if way is None or moment_typed(text) is None or way[0] not in self.ways:
            raise UnfitText(f"it holds times such as {self.example}")
        return text

    def now(self, moment: datetime) -> StoredValue | None:
        way = self.usual
        local = moment.astimezone(timezone(self.offset))
        if way.separator is None:
            return f"{local:%Y-%m-%d}"
        text = f"{local:%Y-%m-%d}{way.separator}{local:%H:%M}"
        text += f":{local:%S}" if way.with_seconds else ""
        if way.point is not None:
            text += way.point + f"{local.microsecond:06d}".ljust(self.digits, "0")[: self.digits]
        return text + _zone_text(way.zone, self.offset)


class Clocks(NamedTuple):
    """Times of day as text."""

    example: str

    def value_of(self, text: str) -> StoredValue:
        if not _CLOCK.fullmatch(text) or text.count(":") != self.example.count(":"):
            raise UnfitText(f"it holds times of day such as {self.example}")
        return text

    def now(self, moment: datetime) -> StoredValue | None:
        digits = len(self.example.partition(".")[2])
        text = f"{moment:%H:%M:%S}"[: 8 if self.example.count(":") == 2 else 5]
        return f"{text}.{moment.microsecond:06d}"[: len(text) + 1 + digits] if digits else text


class FourteenDigits(NamedTuple):
    """Times as year to seconds without signs between, with a fraction or not."""

    example: str
    digits: int
    may_differ: bool
    """Whether fractions have different numbers of digits."""

    def value_of(self, text: str) -> StoredValue:
        parts = _DIGITS.fullmatch(text)
        fits = parts and (self.may_differ or len(parts[1] or "") == self.digits)
        if not fits or moment_typed(text) is None:
            raise UnfitText(f"it holds times such as {self.example}")
        return text

    def now(self, moment: datetime) -> StoredValue | None:
        fraction = f"{moment.microsecond:06d}".ljust(self.digits, "0")[: self.digits]
        return f"{moment:%Y%m%d%H%M%S}" + (f".{fraction}" if self.digits else "")


def _text_form(texts: list[str]) -> ValueForm | None:
    isos = [_iso_of(text) for text in texts]
    are_times = all(moment_typed(text) is not None for text in texts)
    if are_times and all(isos):
        found = [iso for iso in isos if iso is not None]
        # The longest fraction is the usual one: of some instants the last digits are left out.
        usual, digits = max(found, key=lambda iso: (iso[0].point is not None, iso[1]))
        at = found.index((usual, digits))
        ways = {iso[0] for iso in found}
        ways |= {way._replace(point=None) for way in ways if way.point is not None}
        return IsoTexts(frozenset(ways), texts[at], usual, digits, _offset_of(texts[at]))
    if all(_CLOCK.fullmatch(text) for text in texts) and len({t.count(":") for t in texts}) == 1:
        return Clocks(max(texts, key=len))
    digits_of = [_DIGITS.fullmatch(text) for text in texts]
    if are_times and all(digits_of):
        lengths = {len(found[1] or "") for found in digits_of if found}
        return FourteenDigits(max(texts, key=len), max(lengths), len(lengths) > 1)
    return None


def _iso_of(text: str) -> tuple[_Iso, int] | None:
    """How a time is written, and how many digits its fraction has."""
    parts = _ISO.fullmatch(text)
    if parts is None:
        return None
    separator, point, digits, zone = parts[1], parts[3], parts[4], parts[5]
    if zone is not None and zone.strip() not in ("Z", "UTC"):
        zone = re.sub(r"[+-]\d\d(:?)\d\d", r"+hh\1mm", zone)
    return _Iso(separator, parts["seconds"] is not None, point, zone), len(digits or "")


def _offset_of(text: str) -> timedelta:
    typed = moment_typed(text)
    offset = typed.utcoffset() if typed is not None else None
    return offset or timedelta(0)


def _zone_text(zone: str | None, offset: timedelta) -> str:
    if zone is None or "hh" not in zone:
        return zone or ""
    minutes = int(offset.total_seconds() // 60)
    sign, minutes = ("-", -minutes) if minutes < 0 else ("+", minutes)
    hh, mm = divmod(minutes, 60)
    return zone.replace("+hh", f"{sign}{hh:02d}").replace("mm", f"{mm:02d}")
