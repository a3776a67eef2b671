"""What a table's records usually hold, and what is suspicious about one of them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from jondel.core.browse.times import TimeKind, guess_time_kind, moment
from jondel.core.browse.tokens import is_token
from jondel.core.findings.column_profile import ColumnProfile, Key, declared_limit
from jondel.core.findings.column_suspicions import suspicions_of
from jondel.core.findings.finding import Suspicion
from jondel.core.findings.text_signs import folded
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Exact, ShownRow, Value

_FEWEST_TIMES = 8
_FURTHEST_APART = 2
"""Columns whose values were mixed up are next to each other, or have one in between."""
_LONGEST_NAME = 80
_MOST_NAMES = 50_000
_FEW = 200
_WORD = re.compile(r"[^\W\d_]{2}")


class Times(NamedTuple):
    """What a column's times are counted in, and between which most of them are."""

    kind: TimeKind
    low: datetime
    high: datetime


class TableProfile:
    """Profiles of all columns of a table."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.columns = [ColumnProfile(column) for column in table.columns]
        self._names: dict[str, dict[str, str] | None] = {
            column.name: {} for column in table.columns if _may_name(column)
        }
        self.near: list[tuple[str, str, str]] = []
        """Columns with two values that are nearly the same where all others differ."""
        self._times: dict[str, Times | None] = {}

    @property
    def rows(self) -> int:
        return self.columns[0].rows if self.columns else 0

    def feed(self, columns: Sequence[Sequence[Value]], keys: Sequence[Key]) -> None:
        """Take in the values of some rows, column by column, and the rows' keys."""
        for profile, values in zip(self.columns, columns, strict=True):
            profile.feed(values, keys)
            names = self._names.get(profile.column.name)
            if names is not None:
                self._feed_names(profile.column.name, names, values)

    def _feed_names(self, name: str, names: dict[str, str], values: Sequence[Value]) -> None:
        """Note texts without what is not seen of them; none where many are there twice."""
        texts = [value for value in values if isinstance(value, str) and value]
        profile = self.profile(name)
        if not names and not _are_names(texts[:_FEW]):
            texts, self._names[name] = [], None
        for value in texts:
            plain = folded(value)
            other = names.setdefault(plain, value)
            if other != value and plain:
                self.near.append((name, other, value))
        repeated = profile.texts - len(names)
        if (texts and repeated * 50 > profile.texts + 50) or len(names) > _MOST_NAMES:
            self._names[name] = None
        if self._names[name] is None and repeated * 50 > profile.texts + 50:
            self.near = [entry for entry in self.near if entry[0] != name]

    def profile(self, column: str) -> ColumnProfile:
        return next(profile for profile in self.columns if profile.column.name == column)

    def suspicions(
        self, row: ShownRow, *, own: bool, columns: frozenset[str] | None = None
    ) -> Iterator[tuple[str, Suspicion]]:
        """What is suspicious about a record, by column; of some columns, where these are given."""
        mixed = self._mixed_up(row, own)
        for profile, value in zip(self.columns, row, strict=True):
            name = profile.column.name
            if columns is not None and name not in columns:
                continue
            if mixed is not None and name in mixed[0]:
                if name == mixed[0][0]:
                    yield name, Suspicion("shifted", mixed[1], 0.95)
                continue
            found = [
                *self._constraint(profile.column, value),
                *suspicions_of(profile, value, own=own),
                *self._time_range(profile, value),
            ]
            for suspicion in _strongest(found):
                yield name, suspicion

    def _mixed_up(self, row: ShownRow, own: bool) -> tuple[tuple[str, ...], str] | None:
        """Columns whose values seem to be each other's, and what that is told by."""
        profiles = self.columns
        lost = [
            place
            for place, (profile, value) in enumerate(zip(profiles, row, strict=True))
            if profile.is_strict and not profile.is_home_of(value, own=own)
        ]
        for one in lost:
            for other in lost:
                if one < other <= one + _FURTHEST_APART and self._at_home_in(row, one, other):
                    first, second = profiles[one].column.name, profiles[other].column.name
                    told = f"{first} and {second} seem to hold each other's value"
                    return (first, second), told
        for way in (1, -1):
            moved = [place for place in lost if 0 <= place + way < len(profiles)]
            if len(lost) < 2 or len(moved) < len(lost):
                continue
            if all(
                profiles[p + way].is_strict and profiles[p + way].is_home_of(row[p], own=False)
                for p in moved
            ):
                names = tuple(profiles[place].column.name for place in moved)
                side = "behind" if way == 1 else "before"
                return names, f"{', '.join(names)} hold what belongs into the column {side} each"
        return None

    def _at_home_in(self, row: ShownRow, one: int, other: int) -> bool:
        profiles = self.columns
        return (
            row[one] is not None
            and row[other] is not None
            and profiles[other].is_home_of(row[one], own=False)
            and profiles[one].is_home_of(row[other], own=False)
        )

    def _constraint(self, column: Column, value: Value) -> Iterator[Suspicion]:
        """What the table declares, and its engine does not see to."""
        if value is None and (column.not_null or column.key_position) and not column.numbered:
            declared = "NOT NULL" if column.not_null else "part of the key"
            yield Suspicion("constraint", f"it is declared {declared}", 0.97)
        limit = declared_limit(column)
        if limit is not None and isinstance(value, str) and len(value) > limit:
            evidence = f"{len(value)} characters in {column.type.name}"
            yield Suspicion("constraint", evidence, 0.9)

    # Times

    def times(self, profile: ColumnProfile) -> Times | None:
        """What a column's times are counted in, and when most of them are; None without any."""
        name = profile.column.name
        if name not in self._times:
            self._times[name] = _times_of(profile)
        return self._times[name]

    def _time_range(self, profile: ColumnProfile, value: Value) -> Iterator[Suspicion]:
        if not isinstance(value, int | float | str | Exact) or value in (0, ""):
            return
        times = self.times(profile)
        if times is None:
            return
        time = moment(value, times.kind)
        span = max(times.high - times.low, timedelta(days=365)) * 3
        low, high = _shifted(times.low, -span), _shifted(times.high, span)
        if time is None:
            if isinstance(value, int | float):
                yield Suspicion("time format", f"the others are {times.kind}", 0.8)
        elif not low <= time <= high:
            between = f"{times.low:%Y-%m-%d} and {times.high:%Y-%m-%d}"
            kind = "time range"
            if isinstance(value, int | float) and not 1970 < time.year < 2200:
                kind = "time format"
            yield Suspicion(
                "time format" if kind == "time format" else "time range",
                f"it reads as {time:%Y-%m-%d}; most are between {between}",
                0.85,
            )


def _shifted(time: datetime, by: timedelta) -> datetime:
    try:
        return time + by
    except OverflowError:
        return (
            datetime.min.replace(tzinfo=time.tzinfo)
            if by < timedelta()
            else datetime.max.replace(tzinfo=time.tzinfo)
        )


def _times_of(profile: ColumnProfile) -> Times | None:
    values: list[Value] = [text for text in profile.sample if text]
    if len(profile.numbers) > len(values):
        ordered = sorted(number for number in profile.numbers if number)
        if not ordered:
            return None
        middle = ordered[len(ordered) // 2]
        # What is counted in another unit is a thousand times as much.
        values = [n for n in ordered if 0 < middle / 30 <= n <= middle * 30]
    if len(values) < _FEWEST_TIMES:
        return None
    kind = guess_time_kind(profile.column, values)
    if kind is None:
        kind = guess_time_kind(profile.column, _most_alike(values))
    if kind is None:
        return None
    found = sorted(time for value in values if (time := moment(value, kind)) is not None)
    if len(found) < _FEWEST_TIMES:
        return None
    edge = len(found) // 50 or (1 if len(found) >= 20 else 0)
    return Times(kind, found[edge], found[-1 - edge])


def _most_alike(values: Sequence[Value]) -> list[Value]:
    """Texts of the length that most have: a few that are no times do not count."""
    texts = [value for value in values if isinstance(value, str)]
    if not texts:
        return list(values)
    lengths = [len(text) for text in texts]
    usual = max(set(lengths), key=lengths.count)
    alike: list[Value] = [text for text in texts if len(text) == usual]
    return alike if len(alike) * 10 >= len(texts) * 9 else list(values)


def _are_names(texts: Sequence[str]) -> bool:
    """Whether most texts are in words, and short."""
    named = sum(
        1
        for text in texts
        if len(text) <= _LONGEST_NAME
        and text[0] not in "{["
        and _WORD.search(text)
        and not is_token(text)
    )
    return named * 10 >= len(texts) * 8


def _may_name(column: Column) -> bool:
    return column.type.use in ("any", "text") and not column.type.is_number


def _strongest(found: Sequence[Suspicion]) -> Iterator[Suspicion]:
    """Of several that are about the same, the one that says most."""
    kinds = {suspicion.kind for suspicion in found}
    covered = {
        "rare value": kinds - {"rare value"},
        "time range": kinds & {"time format"},
        "type": kinds & {"empty text", "constraint"},
        "blanks": kinds & {"json"},
        "cut": kinds & {"constraint"},
    }
    told = set()
    for suspicion in found:
        if not covered.get(suspicion.kind) and suspicion.kind not in told:
            told.add(suspicion.kind)
            yield suspicion
