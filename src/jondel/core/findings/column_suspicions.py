"""What is suspicious about a value, beside what its column usually holds."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import cast

from jondel.core.findings.column_profile import FEWEST, ColumnProfile, others
from jondel.core.findings.finding import Suspicion
from jondel.core.findings.text_signs import (
    boolean_family,
    decoded_once_more,
    has_blanks_at_ends,
    has_control_characters,
    is_time_shape,
    shape_of,
)
from jondel.core.model.values import Exact, InvalidText, Value, kind_of

_ROUND_LENGTHS = frozenset(
    (16, 20, 24, 30, 32, 40, 50, 60, 64, 80, 100, 120, 128, 140, 150, 160, 200, 250, 255, 256)
) | frozenset((500, 512, 1000, 1024, 2000, 2048, 4000, 4096, 8000, 8192, 65535, 65536))
_SURELY_LIMITS = frozenset((255, 256, 512, 1000, 1024, 2048, 4000, 4096, 65535, 65536))


def suspicions_of(profile: ColumnProfile, value: Value, *, own: bool) -> Iterator[Suspicion]:
    """What is suspicious about a value; ``own`` says that it is among those fed with."""
    if value is None:
        return
    yield from _kind(profile, value, own)
    if isinstance(value, InvalidText):
        yield Suspicion("encoding", "its bytes are not valid UTF-8", 0.98)
    text = value.text if isinstance(value, Exact) else value
    if isinstance(text, str):
        yield from _odd(profile, text, own)
        yield from _time_format(profile, text, own)
        yield from _boolean(profile, text, own)
        yield from _cut(profile, text, own)
        if isinstance(value, str):
            yield from profile.json.suspicions(value, own=own)
    yield from _rare(profile, value, own)


def _kind(profile: ColumnProfile, value: Value, own: bool) -> Iterator[Suspicion]:
    kind = kind_of(value)
    if isinstance(value, Exact):
        return
    mine = others(profile.kinds[kind], own)
    numbers = profile.kinds["integer"] + profile.kinds["real"]
    if kind == "text" and value == "":
        yield from _empty(profile, own)
        return
    if kind in ("integer", "real"):
        usual, alike = numbers, others(numbers, own)
        of_other = profile.texts + profile.kinds["blob"]
    else:
        alike = mine
        of_other = profile.present - profile.kinds[kind]
        usual = of_other
    declared = profile.column.type
    if kind == "text" and declared.is_number and numbers >= max(1, 4 * alike):
        yield Suspicion("type", f"{numbers} of {profile.present} values are numbers", 0.95)
    elif kind == "real" and declared.kind == "integer" and value != int(cast("float", value)):
        if others(profile.kinds["real"], own) * 20 <= numbers:
            evidence = f"{profile.kinds['integer']} of {profile.present} values are whole numbers"
            yield Suspicion("type", evidence, 0.85)
    elif of_other >= FEWEST and alike * 50 <= of_other:
        most = max((k for k in profile.kinds if k != "null"), key=lambda k: profile.kinds[k])
        evidence = f"{profile.kinds[most]} of {profile.present} values are {most}"
        yield Suspicion("type", evidence, 0.9 if usual else 0.8)


def _empty(profile: ColumnProfile, own: bool) -> Iterator[Suspicion]:
    empty, nulls = others(profile.signs["empty"], own), profile.kinds["null"]
    numbers = profile.kinds["integer"] + profile.kinds["real"]
    if profile.column.type.is_number and numbers:
        yield Suspicion("type", f"empty text where {numbers} values are numbers", 0.95)
    elif nulls >= FEWEST and empty * 20 <= nulls:
        sure = nulls / (nulls + empty + 1)
        yield Suspicion("empty text", f"{nulls} of {profile.rows} rows hold NULL", round(sure, 2))


def _odd(profile: ColumnProfile, text: str, own: bool) -> Iterator[Suspicion]:
    texts = max(1, profile.texts)
    if has_control_characters(text):
        count = others(profile.signs["control"], own)
        if count * 20 <= texts:
            yield Suspicion("control characters", f"{texts - count} texts hold none", 0.9)
    if has_blanks_at_ends(text):
        count = others(profile.signs["blanks"], own)
        if count * 20 <= texts and texts >= FEWEST:
            yield Suspicion("blanks", f"{texts - count} of {texts} texts have none", 0.85)
    read = decoded_once_more(text)
    if read is not None:
        yield Suspicion("encoding", f"encoded twice; it seems to say {read[:60]!r}", 0.95)


def _time_format(profile: ColumnProfile, text: str, own: bool) -> Iterator[Suspicion]:
    if profile.shapes is None or not text:
        return
    times = {shape: n for shape, n in profile.shapes.items() if is_time_shape(shape)}
    present = profile.texts - profile.signs["empty"]
    if not times or sum(times.values()) < max(FEWEST, 0.9 * present):
        return
    shape = shape_of(text)
    usual = max(times, key=lambda s: times[s])
    # A fraction of a second is written where there is one.
    alike = sum(n for s, n in times.items() if _same_but_for_fraction(s, shape))
    if _same_but_for_fraction(shape, usual):
        return
    if others(alike, own) * 20 <= times[usual]:
        written = usual.decode("ascii", "replace")
        what = "is written" if is_time_shape(shape) else "is no time;"
        yield Suspicion(
            "time format",
            f"{what} unlike the others: {times[usual]} of {present} are like {written}",
            0.95,
        )


def _boolean(profile: ColumnProfile, text: str, own: bool) -> Iterator[Suspicion]:
    family = boolean_family(text)
    if family is None or profile.values is None or len(profile.values) > 12:
        return
    families: Counter[int] = Counter()
    for value, count in profile.values.items():
        found = boolean_family(value) if isinstance(value, str) else None
        if found is None:
            return
        families[found] += count
    usual, most = families.most_common(1)[0] if families else (family, 0)
    if usual != family and most >= FEWEST and others(families[family], own) * 4 <= most:
        yield Suspicion("boolean spelling", f"{most} of {profile.texts} are spelled otherwise", 0.9)


def _cut(profile: ColumnProfile, text: str, own: bool) -> Iterator[Suspicion]:
    length = len(text)
    if length not in _ROUND_LENGTHS or " " not in text or len(profile.lengths) < 10:
        return
    if max(profile.lengths, default=0) > length or text[-1] in ".!?)\"'…»":
        return
    alike = others(profile.lengths[length], own) + 1
    shorter = sum(profile.lengths[n] for n in range(length - 5, length)) / 5
    if length in _SURELY_LIMITS and not shorter > alike:
        yield Suspicion("cut", f"it ends after {length} characters, and none is longer", 0.7)
    elif alike >= 3 and alike >= 4 * max(0.5, shorter):
        yield Suspicion("cut", f"{alike} end after {length} characters, and none is longer", 0.8)


def _rare(profile: ColumnProfile, value: Value, own: bool) -> Iterator[Suspicion]:
    """A value outside of the small set that the column keeps to."""
    if profile.values is None or isinstance(value, float) or value == "":
        return
    present = profile.present
    mine = others(profile.values.get(value, 0), own)
    usual = {v: n for v, n in profile.values.items() if n >= max(5, present / 200)}
    settled = sum(usual.values())
    if not usual or value in usual or mine > 1 or present < 40:
        return
    if isinstance(value, int) and (value in (0, 1) or not set(usual) <= {0, 1}):
        return  # how many there are of something is no set
    rare = len(profile.values) - len(usual)
    if len(usual) > 12 or settled < 0.98 * present or rare > 2 + present / 500:
        return
    shown = ", ".join(str(v)[:20] for v in sorted(usual, key=lambda v: -usual[v])[:5])
    yield Suspicion("rare value", f"{settled} of {present} are one of {shown}", 0.75)


def _same_but_for_fraction(one: bytes, other: bytes) -> bool:
    return _without_fraction(one) == _without_fraction(other)


def _without_fraction(shape: bytes) -> bytes:
    whole, point, rest = shape.partition(b".")
    return whole + rest.lstrip(b"9") if point and whole.count(b":") == 2 else shape
