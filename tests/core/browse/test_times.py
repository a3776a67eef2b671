"""Which columns hold times, and how their values read."""

from __future__ import annotations

import pytest

from jondel.core.browse.times import TimeKind, guess_time_kind, reading
from jondel.core.browse.type_mismatch import type_mismatch
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.model.schema import Column
from jondel.core.model.values import Value

_SECONDS = [1_780_000_000, 1_780_086_400, 1_779_913_600]


@pytest.mark.parametrize(
    ("name", "declared", "values", "expected"),
    [
        pytest.param("paid_at", "INTEGER", _SECONDS, "unix seconds", id="name-and-range"),
        pytest.param("paidAt", "", _SECONDS, "unix seconds", id="camel-case"),
        pytest.param("x", "TIMESTAMP", _SECONDS, "unix seconds", id="type-and-range"),
        pytest.param("paid_at", "REAL", [1.78e9, 1.7801e9], "unix seconds", id="real-seconds"),
        pytest.param("t_created", "", [v * 1000 for v in _SECONDS], "unix milliseconds", id="ms"),
        pytest.param("updated", "", [v * 10**6 for v in _SECONDS], "unix microseconds", id="us"),
        pytest.param("arrived_ms", "", [v * 1000 for v in _SECONDS], "unix milliseconds", id="_ms"),
        pytest.param("duration_ms", "", [1200, 90_000], None, id="a-duration-is-none"),
        pytest.param("mtime", "", [1_780_000_000.25], "unix seconds", id="mtime"),
        pytest.param("deleted_at", "", [0, 0, *_SECONDS], "unix seconds", id="zero-is-no-time"),
        pytest.param("deleted_at", "", [0, 0], None, id="only-zeros"),
        pytest.param("checksum", "INTEGER", _SECONDS, None, id="checksum-in-the-range-is-none"),
        pytest.param("amount", "INTEGER", _SECONDS, None, id="other-name-is-none"),
        pytest.param("updated", "", [*_SECONDS, 7], None, id="one-value-out-of-range-is-none"),
        pytest.param("format", "", _SECONDS, None, id="at-inside-a-word-is-none"),
        pytest.param("status_at", "", [801_792_000, 801_878_400], "unix seconds", id="1995"),
        pytest.param(
            "sent_at", "", [780_000_000.5, 780_086_400.0], "seconds since 2001", id="2001"
        ),
        pytest.param("visited", "", [13_424_000_000_000_000], "microseconds since 1601", id="1601"),
        pytest.param("day", "REAL", [2461000.5, 2461001.25], "Julian days", id="julian"),
        pytest.param("note", "", ["2026-05-01", "2026-05-02T08:00:00Z"], "ISO text", id="iso"),
        pytest.param("note", "", ["2026-05-01", "soon"], None, id="not-all-iso"),
        pytest.param("stamp", "TEXT", ["20260501140211"], "fourteen digits", id="digits-by-name"),
        pytest.param("code", "TEXT", ["20260501140211"], None, id="one-code-of-digits-is-none"),
        pytest.param("code", "TEXT", ["20261301140211"] * 3, None, id="no-such-month"),
        pytest.param("paid_at", "INTEGER", [None, ""], None, id="nothing-seen"),
        pytest.param("paid_at", "INTEGER", [True and 1_780_000_000, "x"], None, id="mixed"),
    ],
)
def test_a_column_is_told_by_name_type_and_all_its_values(
    name: str, declared: str, values: list[Value], expected: TimeKind | None
) -> None:
    assert guess_time_kind(Column(name, column_type(declared)), values) == expected


@pytest.mark.parametrize(
    ("value", "kind", "expected"),
    [
        (1_780_000_000, "unix seconds", "2026-05-28 20:26:40 UTC"),
        (1_780_000_000.25, "unix seconds", "2026-05-28 20:26:40.25 UTC"),
        (1_780_000_000_123, "unix milliseconds", "2026-05-28 20:26:40.123 UTC"),
        (1_780_000_000_123_456, "unix microseconds", "2026-05-28 20:26:40.123456 UTC"),
        (0, "seconds since 2001", "2001-01-01 00:00:00 UTC"),
        (13_253_932_800_000_000, "microseconds since 1601", "2021-01-01 00:00:00 UTC"),
        (2440587.5, "Julian days", "1970-01-01 00:00:00 UTC"),
        (44197, "days since 1899-12-30", "2021-01-01 00:00:00 UTC"),
        (637_450_560_000_000_000, "100 ns since 0001", "2021-01-01 00:00:00 UTC"),
        ("20260501140211", "fourteen digits", "2026-05-01 14:02:11"),
        ("2026-05-01", "ISO text", "Friday, 1 May"),
        ("2026-05-01 14:02:11+02:00", "ISO text", "Friday, 1 May, 12:02:11 UTC"),
        (10**30, "unix seconds", None),
        ("soon", "unix seconds", None),
        (None, "unix seconds", None),
        (float("inf"), "unix seconds", None),
    ],
)
def test_a_value_reads_as_a_time(value: Value, kind: TimeKind, expected: str | None) -> None:
    assert reading(value, kind) == expected


@pytest.mark.parametrize(
    ("declared", "value", "expected"),
    [
        ("INTEGER", "twelve", "text"),
        ("INTEGER", 1.5, "real"),
        ("REAL", 3, None),
        ("REAL", "x", "text"),
        ("TEXT", b"x", "blob"),
        ("DECIMAL(6,2)", "4,50", "text"),
        ("DATETIME", "2026-05-01", None),
        ("DATETIME", b"x", "blob"),
        ("", "x", None),
        ("BLOB", "x", None),
        ("INTEGER", None, None),
    ],
)
def test_a_value_stored_otherwise_than_declared_is_told(
    declared: str, value: Value, expected: str | None
) -> None:
    assert type_mismatch(Column("c", column_type(declared)), value) == expected
