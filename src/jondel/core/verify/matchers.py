"""Matchers: what a cell is expected to hold.

A matcher says yes or no to one value. ``SameAs`` alone depends on other records: the values that
it may be asked about are in the ``Setting``.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol

from jondel.core.browse.display import line
from jondel.core.browse.times import TimeKind, moment
from jondel.core.model.changes import NO_VALUE, NoValue
from jondel.core.model.values import Exact, InvalidText, Value, identical, is_number, kind_of

_SHOWN_CHARACTERS = 60
_MOST_PATTERN_TEXT = 1 << 20
"""Longer texts are not searched for a pattern."""


@dataclass(frozen=True)
class Setting:
    """What matchers are asked in: when the step began and ended, and the cells of the records that
    have a name in the expectation; what bears a name that is not among them is not known yet."""

    began: datetime
    ended: datetime
    named: Mapping[str, Mapping[str, Value]] = field(default_factory=dict)


class Matcher(Protocol):
    """Says whether a value is what is expected."""

    def met_by(self, value: Value, setting: Setting) -> bool: ...

    @property
    def words(self) -> str:
        """What is expected, for a person."""


@dataclass(frozen=True)
class Exactly:
    """This value. ``loosely``: a text also means the engine's own kinds that are written so."""

    value: Value
    loosely: bool = False

    def met_by(self, value: Value, setting: Setting) -> bool:
        if self.loosely and isinstance(value, Exact):
            if isinstance(self.value, str):
                return value.text == self.value
            if is_number(self.value) and value.kind == "numeric":
                return value.text == str(self.value)
        return identical(self.value, value)

    @property
    def words(self) -> str:
        return line(self.value, _SHOWN_CHARACTERS)


@dataclass(frozen=True)
class Whatever:
    """Any value; with ``kind``, any of that kind, see ``kind_of``."""

    kind: str = ""

    def met_by(self, value: Value, setting: Setting) -> bool:
        return not self.kind or kind_of(value) == self.kind

    @property
    def words(self) -> str:
        return f"any {self.kind}" if self.kind else "anything"


@dataclass(frozen=True)
class Null:
    """NULL, or with ``wanted`` False anything else."""

    wanted: bool = True

    def met_by(self, value: Value, setting: Setting) -> bool:
        return (value is None) == self.wanted

    @property
    def words(self) -> str:
        return "NULL" if self.wanted else "not NULL"


@dataclass(frozen=True)
class Pattern:
    """Text that a regular expression describes from its beginning to its end."""

    expression: str

    def met_by(self, value: Value, setting: Setting) -> bool:
        text = value.text if isinstance(value, Exact) else value
        if not isinstance(text, str) or len(text) > _MOST_PATTERN_TEXT:
            return False
        return re.fullmatch(self.expression, text) is not None

    @property
    def words(self) -> str:
        return f"like {line(self.expression, _SHOWN_CHARACTERS)}"


@dataclass(frozen=True)
class Within:
    """A number from one to another, both included; text in the order of its characters."""

    least: int | float | str | None = None
    most: int | float | str | None = None

    def met_by(self, value: Value, setting: Setting) -> bool:
        bound = self.least if self.least is not None else self.most
        if isinstance(bound, str):
            compared: Any = value.text if isinstance(value, Exact) else value
            if not isinstance(compared, str):
                return False
        else:
            compared = _number(value)
            if compared is None:
                return False
        return (self.least is None or self.least <= compared) and (
            self.most is None or compared <= self.most
        )

    @property
    def words(self) -> str:
        if self.least is None:
            return f"at most {self.most}"
        return f"at least {self.least}" if self.most is None else f"{self.least} to {self.most}"


@dataclass(frozen=True)
class NearNow:
    """A time near the step's own, give or take ``seconds``; ``after`` it by so many seconds.

    ``like`` is a text of the same form, where there is one: a time written otherwise is not met.
    A time without a zone may be of the local one or of UTC.
    """

    seconds: float
    after: float = 0
    kind: TimeKind = "ISO text"
    like: str = ""

    def met_by(self, value: Value, setting: Setting) -> bool:
        text = value.text if isinstance(value, Exact) else value
        if self.like and (not isinstance(text, str) or form_of(text) != form_of(self.like)):
            return False
        about, slack = timedelta(seconds=self.after), timedelta(seconds=self.seconds)
        return any(
            setting.began + about - slack <= time <= setting.ended + about + slack
            for time in instants(value, self.kind)
        )

    @property
    def words(self) -> str:
        later = f" and {_span(self.after)}" if self.after else ""
        form = f", as in {line(self.like, 30)}" if self.like else ""
        return f"now{later} ± {_span(self.seconds)}{form}"


@dataclass(frozen=True)
class OneOf:
    """What one of several matchers is met by."""

    matchers: tuple[Matcher, ...]

    def met_by(self, value: Value, setting: Setting) -> bool:
        return any(matcher.met_by(value, setting) for matcher in self.matchers)

    @property
    def words(self) -> str:
        return f"one of {', '.join(matcher.words for matcher in self.matchers)}"


@dataclass(frozen=True)
class SameAs:
    """What a column of a record holds that has a name in the expectation."""

    record: str
    column: str

    def met_by(self, value: Value, setting: Setting) -> bool:
        cells = setting.named.get(self.record)
        if cells is None:
            return True
        return self.column in cells and identical(cells[self.column], value)

    @property
    def words(self) -> str:
        return f"the same as {self.record}.{self.column}"


@dataclass(frozen=True)
class Digest:
    """A value too large to be written into a file: its kind, its size in bytes and its SHA-256."""

    kind: str
    size: int
    sha256: str

    @classmethod
    def of(cls, value: Value) -> Digest:
        raw = _bytes(value)
        return cls(kind_of(value), len(raw), hashlib.sha256(raw).hexdigest())

    def met_by(self, value: Value, setting: Setting) -> bool:
        return kind_of(value) == self.kind and Digest.of(value) == self

    @property
    def words(self) -> str:
        return f"{self.kind} of {self.size} bytes, SHA-256 {self.sha256[:12]}…"


@dataclass(frozen=True)
class InJson:
    """JSON with these members, each by its JSON pointer (RFC 6901).

    ``otherwise`` is the whole document apart from them, as JSON; empty where that may be anything.
    """

    members: tuple[tuple[str, Matcher], ...]
    otherwise: str = ""

    def met_by(self, value: Value, setting: Setting) -> bool:
        document = json_document(value)
        if isinstance(document, NoValue):
            return False
        for pointer, matcher in self.members:
            member = member_at(document, pointer)
            if isinstance(member, NoValue) or not matcher.met_by(json_member(member), setting):
                return False
        if not self.otherwise:
            return True
        pointers = [pointer for pointer, _ in self.members]
        others = json_document(self.otherwise)
        return bool(_without(document, pointers) == _without(others, pointers))

    @property
    def words(self) -> str:
        return "JSON with " + ", ".join(f"{p} {matcher.words}" for p, matcher in self.members)


@dataclass(frozen=True)
class FromTo:
    """For a changed cell: what it held before, and what it holds now."""

    before: Matcher
    after: Matcher

    def met_by(self, value: Value, setting: Setting) -> bool:
        return self.after.met_by(value, setting)

    @property
    def words(self) -> str:
        return f"{self.before.words} → {self.after.words}"


def form_of(text: str) -> str:
    """A text with 9 for every digit: how it is written, not what it says."""
    return re.sub(r"[0-9]", "9", text)


def instants(value: Value, kind: TimeKind) -> list[datetime]:
    """The instants that a value may stand for: one without a zone may be local, or UTC."""
    read = moment(value, kind)
    if read is None:
        return []
    text = value.text if isinstance(value, Exact) else value
    found = [read]
    if kind in ("ISO text", "fourteen digits") and isinstance(text, str) and not _has_zone(text):
        with suppress(OverflowError, ValueError, OSError):  # near the first or the last year
            found.append(read.replace(tzinfo=None).astimezone(UTC))
    return found


def _has_zone(text: str) -> bool:
    return re.search(r":\d\d.*(Z|UTC|[+-]\d\d(:?\d\d)?)$", text.strip()) is not None


def json_document(value: Value) -> Any:
    """A JSON text as Python has it; ``NO_VALUE`` where it is none."""
    text = value.text if isinstance(value, Exact) else value
    if not isinstance(text, str):
        return NO_VALUE
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return NO_VALUE


def member_at(document: Any, pointer: str) -> Any:
    """The part of a JSON document at a pointer (RFC 6901), or ``NO_VALUE``."""
    for name in pointer.split("/")[1:]:
        name = name.replace("~1", "/").replace("~0", "~")
        if isinstance(document, dict) and name in document:
            document = document[name]
        elif isinstance(document, list) and name.isdecimal() and int(name) < len(document):
            document = document[int(name)]
        else:
            return NO_VALUE
    return document


def json_member(member: Any) -> Value:
    """A part of a JSON document as a value; what has parts itself as its own JSON."""
    if isinstance(member, bool):
        return Exact("boolean", "true" if member else "false")
    if member is None or isinstance(member, int | float | str):
        return member
    return Exact("json", json.dumps(member, sort_keys=True, ensure_ascii=False))


def _without(document: Any, pointers: list[str], at: str = "") -> Any:
    """A document to be compared with another: members at these pointers are left out, and 1, 1.0
    and true differ."""
    if at in pointers:
        return None
    if isinstance(document, dict):
        return {
            name: _without(part, pointers, f"{at}/{name.replace('~', '~0').replace('/', '~1')}")
            for name, part in document.items()
        }
    if isinstance(document, list):
        return [_without(part, pointers, f"{at}/{place}") for place, part in enumerate(document)]
    return type(document).__name__, document


def _number(value: Value) -> int | float | None:
    if isinstance(value, Exact) and value.kind == "numeric":
        try:
            return float(value.text)
        except ValueError:
            return None
    return value if isinstance(value, int | float) else None


def _bytes(value: Value) -> bytes:
    match value:
        case bytes():
            return value
        case InvalidText(raw):
            return raw
        case Exact(_, text) | str(text):
            return text.encode("utf-8", "surrogatepass")
    return str(value).encode()


def _span(seconds: float) -> str:
    for unit, size in (("d", 86400), ("h", 3600), ("min", 60)):
        if abs(seconds) >= size and seconds % size == 0:
            return f"{seconds / size:g} {unit}"
    return f"{seconds:g} s"
