"""Exact values keep their text, and sort as what they stand for."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from datetime import UTC, datetime, time, timedelta, timezone
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.model.exact_order import is_understood, order_bytes
from jondel.core.model.values import Clipped, Exact, clipped, identical, kind_of

_EARLY = datetime.fromisoformat("0001-01-03")
_LATE = datetime.fromisoformat("9999-12-29")
_ZONES = st.integers(-14 * 60, 14 * 60).map(lambda minutes: timezone(timedelta(minutes=minutes)))


def _zone_text(moment: Any) -> str:
    offset = moment.utcoffset()
    minutes = round(offset.total_seconds() / 60)
    hours, rest = divmod(abs(minutes), 60)
    sign = "-" if minutes < 0 else "+"
    return f"{sign}{hours:02d}" + (f":{rest:02d}" if rest else "")


def _moment_text(moment: datetime) -> str:
    part = f".{moment.microsecond:06d}".rstrip("0") if moment.microsecond else ""
    zone = _zone_text(moment) if moment.tzinfo else ""
    return f"{moment.year:04d}-{moment:%m-%d %H:%M:%S}{part}{zone}"


def _time_text(clock: time) -> str:
    part = f".{clock.microsecond:06d}".rstrip("0") if clock.microsecond else ""
    return f"{clock:%H:%M:%S}{part}"


_KINDS: list[tuple[str, st.SearchStrategy[Any], Callable[[Any], str], Callable[[Any], Any]]] = [
    ("numeric", st.decimals(allow_nan=False), str, lambda d: d),
    ("numeric", st.integers(), str, lambda n: n),
    ("numeric", st.decimals(-10, 10, places=3), str, lambda d: d),
    ("boolean", st.booleans(), lambda b: str(b).lower(), lambda b: b),
    ("date", st.dates(), str, lambda d: d),
    ("timestamp", st.datetimes(), _moment_text, lambda m: m),
    (
        "timestamp with time zone",
        st.datetimes(_EARLY, _LATE, timezones=_ZONES),
        _moment_text,
        lambda m: m.astimezone(UTC),
    ),
    ("time", st.times(), _time_text, lambda t: t),
    ("uuid", st.uuids(), str, lambda u: u.bytes),
]


@pytest.mark.parametrize(("kind", "values", "written", "ordered"), _KINDS)
@given(data=st.data())
def test_they_sort_as_what_they_stand_for(
    kind: str,
    values: st.SearchStrategy[Any],
    written: Callable[[Any], str],
    ordered: Callable[[Any], Any],
    data: st.DataObject,
) -> None:
    one, other = data.draw(values), data.draw(values)
    ours = [order_bytes(Exact(kind, written(value))) for value in (one, other)]
    assert (ours[0] < ours[1]) == (ordered(one) < ordered(other))
    assert (ours[0] == ours[1]) == (ordered(one) == ordered(other))


@pytest.mark.parametrize(
    ("kind", "rising"),
    [
        pytest.param(
            "numeric",
            "-Infinity|-1e400|-12.50|-12.5000001e-3|0|1e-300|0.1|2|10|1e400|Infinity|NaN",
            id="numbers",
        ),
        pytest.param("boolean", "false|true", id="truths"),
        pytest.param(
            "date",
            "-infinity|4713-01-01 BC|0044-03-15 BC|0001-01-01 BC|0001-01-01|294276-12-31|infinity",
            id="dates",
        ),
        pytest.param(
            "timestamp with time zone",
            "-infinity|0001-12-31 23:00:00-02 BC|2026-01-01 00:00:00+02"
            "|2025-12-31 22:00:00.000001+00|2026-01-01 00:00:00+00|infinity",
            id="instants",
        ),
        pytest.param("time", "00:00:00|00:00:00.000001|23:59:59.999999|24:00:00", id="times"),
        pytest.param(
            "time with time zone",
            "10:00:00+02|09:00:00+00|10:00:00+00|10:00:00-02:30",
            id="times-with-zones",
        ),
        pytest.param(
            "interval",
            "-1 days|-00:00:01|00:00:00|00:00:00.5|1 day|1 day 00:00:01|27:00:00|1 mon"
            "|1 year 2 mons -3 days",
            id="intervals",
        ),
    ],
)
def test_what_no_other_type_knows_has_its_place_too(kind: str, rising: str) -> None:
    texts = rising.split("|")
    keys = [order_bytes(Exact(kind, text)) for text in texts]
    assert keys == sorted(keys)
    assert len(set(keys)) == len(keys)
    assert all(is_understood(Exact(kind, text)) for text in texts)


@pytest.mark.parametrize(
    ("kind", "one", "other"),
    [
        ("numeric", "1.50", "1.5"),
        ("numeric", "0.00", "-0"),
        ("timestamp with time zone", "2026-01-01 02:00:00+02", "2026-01-01 00:00:00+00"),
        ("interval", "1 mon", "30 days"),
        ("uuid", "A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11", "a0eebc999c0b4ef8bb6d6bb9bd380a11"),
    ],
)
def test_equal_in_order_is_not_the_same(kind: str, one: str, other: str) -> None:
    assert order_bytes(Exact(kind, one)) == order_bytes(Exact(kind, other))
    assert not identical(Exact(kind, one), Exact(kind, other))


_EXAMPLES = {
    "numeric": "1",
    "boolean": "true",
    "date": "2026-01-01",
    "timestamp": "2026-01-01 10:00:00",
    "timestamp with time zone": "2026-01-01 10:00:00+00",
    "time": "10:00:00",
    "time with time zone": "10:00:00+00",
    "interval": "1 day",
    "uuid": "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
}


@given(st.sampled_from(sorted(_EXAMPLES)), st.one_of(st.text(), st.text("0123456789-+:. eINaf_")))
def test_no_text_is_too_strange_to_be_sorted(kind: str, text: str) -> None:
    value = Exact(kind, text)
    assert is_understood(value) or order_bytes(value) > order_bytes(Exact(kind, _EXAMPLES[kind]))


@pytest.mark.parametrize("text", ["", "1_000", " 1", "١", "sNaN", "0x10", "1e", "-"])
def test_what_is_no_number_is_not_taken_for_one(text: str) -> None:
    assert not is_understood(Exact("numeric", text))


def test_kinds_tell_values_apart() -> None:
    values = (
        Exact("numeric", "1"), Exact("text", "1"), Exact("uuid", "1"), 1, 1.0, "1", b"1",
    )  # fmt: skip
    assert [sum(identical(one, other) for other in values) for one in values] == [1] * len(values)
    assert kind_of(Exact("inet", "10.0.0.1")) == "inet"
    assert str(Exact("numeric", "1.50")) == "1.50"


def test_a_large_one_is_clipped_and_keeps_its_kind() -> None:
    text = '["' + "é" * 100 + '"]'
    short = clipped(Exact("json", text), 20)
    assert short == Clipped("json", len(text.encode()), text.encode()[:20])
    assert clipped(Exact("json", "[]"), 20) == Exact("json", "[]")


@given(st.decimals(allow_nan=False, allow_infinity=False), st.integers(0, 5))
def test_noughts_behind_change_nothing_in_the_order(number: Decimal, noughts: int) -> None:
    text = format(number, "f")
    longer = text + ("" if "." in text else ".") + "0" * noughts
    assert order_bytes(Exact("numeric", text)) == order_bytes(Exact("numeric", longer.rstrip(".")))


def test_any_uuid_is_understood() -> None:
    assert is_understood(Exact("uuid", str(uuid.UUID(int=0))))
    assert not is_understood(Exact("uuid", "a0eebc99"))
