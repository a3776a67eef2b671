"""Tells what is bound to vary from one run of an action to the next: times, tokens, new keys."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from typing import Any

from jondel.core.browse.times import TimeKind, guess_time_kind
from jondel.core.browse.tokens import HEX, is_token
from jondel.core.model.changes import NoValue
from jondel.core.model.schema import Column
from jondel.core.model.values import Exact, StoredValue, Value, kind_of
from jondel.core.verify.matchers import (
    Digest,
    Exactly,
    InJson,
    Matcher,
    NearNow,
    Pattern,
    Setting,
    Whatever,
    instants,
    json_document,
    json_member,
)

_SLACK_SECONDS = 60.0
_NOW_SECONDS = 2.0
_DAY_SECONDS = 86400
_DAY_SLACK_SECONDS = 1.5 * _DAY_SECONDS
"""A date is of midnight, of the local zone or of UTC."""
_FURTHEST_DAYS = 400
_LARGEST_CHARACTERS = 1000
_LONGEST_TIME = 60
_WAYS_TO_WRITE_A_DAY = (
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%Y/%m/%d",
    "%d.%m.%Y",
    "%d-%m-%Y",
    "%d %b %Y",
    "%b %d %Y",
    "%Y%m%d",
)
_DATE = re.compile(r"\d{4}-\d\d-\d\d")


def matcher_of(value: Value, column: Column, setting: Setting, given: str) -> Matcher:
    """What is to be expected of a cell in which this was found.

    ``given`` are the words of the action: what is said in them comes from there, not from a clock
    or by chance.
    """
    return (
        _time(value, column, setting, given)
        or _token(value, given)
        or _json(value, column, setting, given)
        or exactly(value)
    )


def exactly(value: Value) -> Matcher:
    """This value; by its digest where it is too large to be written into a file."""
    text = value.text if isinstance(value, Exact) else value
    if isinstance(text, str | bytes) and len(text) > _LARGEST_CHARACTERS:
        return Digest.of(value)
    return Exactly(value)


def anything_like(value: Value, column: Column, setting: Setting) -> Matcher:
    """What is to be expected of a cell that a person says varies, or that was seen to."""
    return _time(value, column, setting, "") or Whatever("" if value is None else kind_of(value))


def _time(value: Value, column: Column, setting: Setting, given: str) -> Matcher | None:
    text = value.text if isinstance(value, Exact) else value
    kind = guess_time_kind(column, [value])
    if isinstance(text, str) and text in given:
        return None
    if kind is None:
        return _day_written_out(text, setting) if isinstance(text, str) else None
    if isinstance(text, str) and _DATE.fullmatch(text):
        return _day(text, kind, setting, given)
    like = text if isinstance(text, str) else ""
    near = NearNow(_NOW_SECONDS, 0, kind, like)
    if near.met_by(value, setting):
        return NearNow(_SLACK_SECONDS, 0, kind, like)
    for time in instants(value, kind):
        ahead = time - setting.began
        minutes = round(ahead.total_seconds() / 60)
        later = NearNow(_NOW_SECONDS, minutes * 60, kind, like)
        if timedelta() < ahead <= timedelta(days=_FURTHEST_DAYS) and later.met_by(value, setting):
            return NearNow(_SLACK_SECONDS, minutes * 60, kind, like)
    return None


def _day(text: str, kind: TimeKind, setting: Setting, given: str) -> Matcher | None:
    """A date of the run's own day, or so many days after it."""
    try:
        day = date.fromisoformat(text)
    except ValueError:
        return None
    days = {(day - today).days for today in _days_of(setting.ended)}
    ahead = min(days, key=abs)
    if 0 <= ahead <= _FURTHEST_DAYS:
        return NearNow(_DAY_SLACK_SECONDS, ahead * _DAY_SECONDS, kind, text)
    return None


def _day_written_out(text: str, setting: Setting) -> Matcher | None:
    """A time of the run's own day that is written in a way of its own: met by what looks alike."""
    if len(text) <= _LONGEST_TIME:
        for today in _days_of(setting.ended):
            if any(today.strftime(form) in text for form in _WAYS_TO_WRITE_A_DAY):
                return Pattern(_looks_like(text))
    return None


def _looks_like(text: str) -> str:
    """A regular expression for what has digits and words of the same length at the same places."""
    parts = []
    for run in re.findall(r"[0-9]+|[A-Za-z]+|[^0-9A-Za-z]+", text):
        kind = "[0-9]" if run[0] in "0123456789" else "[A-Za-z]"
        length = len(run)
        parts.append(f"{kind}{{{length}}}" if run.isascii() and run.isalnum() else re.escape(run))
    return "".join(parts)


def _days_of(moment: datetime) -> tuple[date, date]:
    return moment.astimezone(UTC).date(), moment.astimezone().date()


def _token(value: Value, given: str) -> Matcher | None:
    """A text that looks as if it came by chance: long, of many characters, meaning nothing."""
    if isinstance(value, Exact):
        return Whatever("uuid") if value.kind == "uuid" and value.text not in given else None
    if not isinstance(value, str) or value in given or not is_token(value):
        return None
    return Pattern(_pattern(value))


def _pattern(text: str) -> str:
    """A regular expression for what is written in the same way."""
    parts = []
    for run in re.findall(r"-+|[^-]+", text):
        if run[0] == "-":
            parts.append(run)
            continue
        hexadecimal = next((d for d in ("0-9a-f", "0-9A-F") if re.fullmatch(f"[{d}]+", run)), None)
        parts.append(f"[{hexadecimal or 'A-Za-z0-9_+/=.'}]{{{len(run)}}}")
    if not HEX.fullmatch(text):
        return f"[A-Za-z0-9_+/=.-]{{{len(text)}}}"
    return "".join(parts)


def _json(value: Value, column: Column, setting: Setting, given: str) -> Matcher | None:
    text = value.text if isinstance(value, Exact) else value
    if not isinstance(text, str) or text[:1] not in ("{", "[") or len(text) > _LARGEST_CHARACTERS:
        return None
    document = json_document(value)
    if isinstance(document, NoValue):
        return None
    varying = []
    for pointer, name, member in _members(document):
        as_column = Column(name)
        matcher = _time(member, as_column, setting, given) or _token(member, given)
        if matcher is not None:
            varying.append((pointer, matcher))
    if not varying:
        return None
    return InJson(tuple(varying), json.dumps(document, ensure_ascii=False))


def _members(
    document: Any, pointer: str = "", name: str = ""
) -> Iterator[tuple[str, str, StoredValue]]:
    """The texts and numbers of a JSON document, each with its pointer and its own name."""
    if isinstance(document, dict):
        for key, part in document.items():
            escaped = key.replace("~", "~0").replace("/", "~1")
            yield from _members(part, f"{pointer}/{escaped}", key)
    elif isinstance(document, list):
        for place, part in enumerate(document):
            yield from _members(part, f"{pointer}/{place}", name)
    else:
        member = json_member(document)
        if isinstance(member, str | int | float) and pointer:
            yield pointer, name, member
