"""What a column holds says how a typed value must be written."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.times import TIME_KINDS, TimeKind, moment
from jondel.core.draft.value_entry import current_time, entered
from jondel.core.draft.value_forms import form_of
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue

_NOW = datetime(2026, 3, 31, 14, 5, 9, 123456, tzinfo=UTC)


def _entered(
    declared: str, held: list[StoredValue], text: str, kind: TimeKind | None = None
) -> StoredValue:
    column = Column("c", column_type(declared))
    table = Table(TableId("t"), "table", (column,), row_id="rowid")
    return entered(text, table, column, None, form_of(column, held, kind))


@pytest.mark.parametrize(
    ("declared", "held", "text", "value"),
    [
        ("JSON", [], '{"a": 1}', '{"a": 1}'),
        ("TEXT", ['{"a": 1}', "[1]", "{}"], "[2]", "[2]"),
        ("BOOLEAN", [], "true", 1),
        ("bool", [0, 1, 1], "No", 0),
        ("BOOLEAN", ["t", "f"], "true", "t"),
        ("BOOLEAN", ["False"], "0", "False"),
        ("DATETIME", ["2026-01-02 03:04:05"], "2026-02-28 00:00:00", "2026-02-28 00:00:00"),
        ("DATETIME", ["2026-01-02 03:04:05.250000"], "2026-02-28 00:00:00", "2026-02-28 00:00:00"),
        ("DATE", ["2026-01-02"], "2024-02-29", "2024-02-29"),
        ("TIME", ["03:04:05"], "23:59:59", "23:59:59"),
        ("TEXT", ["20260102030405.5"] * 3, "20261231235959.1", "20261231235959.1"),
        ("TEXT", ["north", "south", "2026-01-01"], "east", "east"),
        ("DATETIME", [1767225600, "2026-01-01"], "whatever", "whatever"),
    ],
)
def test_what_is_of_the_form_is_taken_and_written_in_it(
    declared: str, held: list[StoredValue], text: str, value: StoredValue
) -> None:
    found = _entered(declared, held, text)
    assert (found, type(found)) == (value, type(value))


@pytest.mark.parametrize(
    ("declared", "held", "text", "words"),
    [
        ("JSON", [], "{'a': 1}", "not JSON"),
        ("TEXT", ['{"a": 1}', "[1]", "{}"], "[2", "not JSON"),
        ("BOOLEAN", [0, 1], "maybe", "1 for true and 0 for false"),
        ("DATETIME", ["2026-01-02 03:04:05"], "2026-02-30 00:00:00", "such as 2026-01-02 03:04:05"),
        ("DATETIME", ["2026-01-02 03:04:05"], "2026-02-03T00:00:00", "such as"),
        ("DATETIME", ["2026-01-02 03:04:05+00:00"], "2026-02-03 00:00:00", "such as"),
        ("DATE", ["2026-01-02"], "tomorrow", "such as 2026-01-02"),
        ("TIME", ["03:04"], "24:00", "times of day such as 03:04"),
        ("TEXT", ["20260102030405"] * 3, "20261332250000", "such as 20260102030405"),
    ],
)
def test_what_is_not_of_the_form_is_refused_with_an_example(
    declared: str, held: list[StoredValue], text: str, words: str
) -> None:
    with pytest.raises(ValueUnsuitable, match=r"t\.c: .*, not ") as refused:
        _entered(declared, held, text)
    assert words in str(refused.value)


@pytest.mark.parametrize(
    ("held", "now"),
    [
        (["2026-01-02"], "2026-03-31"),
        (["2026-01-02 03:04"], "2026-03-31 14:05"),
        (["2026-01-02T03:04:05Z"], "2026-03-31T14:05:09Z"),
        (["2026-01-02 03:04:05", "2026-01-02 03:04:05.250"], "2026-03-31 14:05:09.123"),
        (["2026-01-02 03:04:05.250000+02:00"], "2026-03-31 16:05:09.123456+02:00"),
        (["2026-01-02T03:04:05-0330"], "2026-03-31T10:35:09-0330"),
        (["03:04:05"], "14:05:09"),
        (["03:04"], "14:05"),
        (["20260102030405"], "20260331140509"),
        (["20260102030405.123456", "20260102030405.12"], "20260331140509.123456"),
    ],
)
def test_the_current_time_has_the_form_that_the_column_holds(held: list[str], now: str) -> None:
    column = Column("c", column_type("DATETIME"))
    form = form_of(column, held, None)
    assert form is not None
    assert current_time(column, None, _NOW, form) == now
    assert form.value_of(now) == now


@given(
    st.sampled_from([k for k in TIME_KINDS if k not in ("ISO text", "fourteen digits")]),
    st.integers(1_105_000_000, 2_335_000_000).map(lambda s: datetime.fromtimestamp(s, UTC)),
    st.sampled_from(["integer", "real"]),
)
def test_a_time_typed_for_a_column_that_counts_is_counted(
    kind: TimeKind, time: datetime, affinity: str
) -> None:
    value = _entered(affinity, [], f"{time:%Y-%m-%d %H:%M:%S}", kind)
    found = moment(value, kind)
    assert found is not None
    assert abs((found - time).total_seconds()) < 0.01
    assert _entered(affinity, [], "12", kind) == 12
