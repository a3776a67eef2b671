"""What is typed for exact values, in cells and in conditions."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given

from jondel.core.browse.display import line, pieces
from jondel.core.browse.times import guess_time_kind, reading
from jondel.core.browse.typed_values import as_typed, typed_value
from jondel.core.draft.value_entry import as_entered, current_time, entered, untouched
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.exact_order import is_understood
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import Clipped, Exact
from jondel.core.sql.values_in_sql import literal
from value_strategies import EXACT_VALUES


def _column(kind: ValueKind, name: str = "", labels: tuple[str, ...] = ()) -> Column:
    return Column("c", ColumnType(name or kind, kind, labels=labels, exact=True))


def _entered(text: str, column: Column) -> object:
    return entered(text, Table(TableId("public", "t"), "table", (column,)), column)


_MOOD = _column("enum", "mood", ("calm", "rough"))
_INSTANT = _column("timestamp with time zone")


@pytest.mark.parametrize(
    ("column", "text", "kept"),
    [
        (_column("numeric"), "1.50", "1.50"),
        (_column("numeric"), " NaN ", "NaN"),
        (_column("numeric"), "1,5", None),
        (_column("boolean"), "Yes", "true"),
        (_column("boolean"), "0", "false"),
        (_column("boolean"), "maybe", None),
        (_column("date"), "2026-06-14", "2026-06-14"),
        (_column("date"), "14.6.2026", None),
        (_column("timestamp"), "infinity", "infinity"),
        (_INSTANT, "2026-06-14 14:02", "2026-06-14 14:02"),
        (_column("time"), "24:00:00", "24:00:00"),
        (_column("time"), "noon", None),
        (_column("interval"), "1 day 02:00:00", "1 day 02:00:00"),
        (_column("interval"), "a while", None),
        (_column("uuid"), "a0eebc999c0b4ef8bb6d6bb9bd380a11", "a0eebc999c0b4ef8bb6d6bb9bd380a11"),
        (_column("uuid"), "a0eebc99", None),
        (_column("json"), '{"a": 1.50}', '{"a": 1.50}'),
        (_column("json"), '{"a": }', None),
        (_MOOD, "rough", "rough"),
        (_MOOD, "Rough", None),
        (_column("other", "inet"), "10.0.0.1", "10.0.0.1"),
        (_column("array", "integer[]"), "{1,2}", "{1,2}"),
        (_column("bits", "bit(3)"), "101", "101"),
    ],
)
def test_a_typed_text_becomes_a_value_of_its_kind_or_is_refused(
    column: Column, text: str, kept: str | None
) -> None:
    if kept is None:
        with pytest.raises(ValueUnsuitable, match=r"public\.t\.c is .* and takes "):
            _entered(text, column)
        with pytest.raises(ValueUnsuitable, match=r"c is .*; type "):
            typed_value(text, column)
    else:
        kind = column.type.kind if column.type.kind != "other" else column.type.name
        assert _entered(text, column) == Exact(kind, kept)
        assert typed_value(text, column) == Exact(kind, kept)


@given(EXACT_VALUES)
def test_what_is_not_touched_stays(value: Exact) -> None:
    assert untouched(as_entered(value), value)
    assert as_typed(value) == value.text


@pytest.mark.parametrize(
    ("kind", "text"),
    [
        ("date", "2026-06-14"),
        ("time", "14:02:11"),
        ("time with time zone", "14:02:11+00"),
        ("timestamp", "2026-06-14 14:02:11"),
        ("timestamp with time zone", "2026-06-14 14:02:11+00"),
    ],
)
def test_now_is_of_the_columns_kind(kind: ValueKind, text: str) -> None:
    now = current_time(_column(kind), None, datetime(2026, 6, 14, 14, 2, 11, tzinfo=UTC))
    assert now == Exact(kind, text)
    assert is_understood(Exact(kind, text))


def test_times_can_be_read_as_such() -> None:
    values = [Exact("timestamp with time zone", "2026-06-14 14:02:11.5+02"), None]
    kind = guess_time_kind(_column("timestamp with time zone"), values)
    assert kind == "ISO text"
    assert reading(values[0], kind) == "Sunday, 14 June, 12:02:11 UTC"
    assert reading(Exact("timestamp with time zone", "infinity"), kind) is None
    assert guess_time_kind(_column("numeric"), [Exact("numeric", "1780000000")]) is None


@given(EXACT_VALUES)
def test_it_is_shown_as_its_text_and_safe(value: Exact) -> None:
    shown = line(value, 10_000)
    assert shown.isprintable()
    if value.text.isascii() and value.text.isprintable() and value.text.strip() == value.text != "":
        assert shown == value.text
    roles = {piece.role for piece in pieces(value)}
    assert ("number" in roles) == (value.kind == "numeric")


def test_a_clipped_one_is_shown_as_text_with_its_size() -> None:
    assert line(Clipped("json", 5000, b'{"a":1')) == '{"a":1… 5 kB'


@pytest.mark.parametrize(
    ("value", "sql"),
    [
        (Exact("numeric", "1.50"), "CAST('1.50' AS numeric)"),
        (Exact("boolean", "true"), "TRUE"),
        (Exact("time with time zone", "9:00+02"), "CAST('9:00+02' AS time with time zone)"),
        (Exact("mo'od", "it's"), "CAST('it''s' AS \"mo'od\")"),
        (Exact('a"b', "x"), 'CAST(\'x\' AS "a""b")'),
    ],
)
def test_as_sql_it_says_its_type(value: Exact, sql: str) -> None:
    assert literal(value) == sql
