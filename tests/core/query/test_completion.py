"""How a statement that is being written can go on: by cases, and whatever is typed."""

from __future__ import annotations

import re
from contextlib import closing

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.links import Link
from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.postgresql.functions import FUNCTIONS as SERVER_FUNCTIONS
from jondel.core.engines.sqlite.dialect import DIALECT as SQLITE
from jondel.core.engines.sqlite.functions import FUNCTIONS
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.query.completion import marked_signature, signatures_at, ways_at, with_values

TEXT = ColumnType("TEXT", "text")


def _table(name: str, *columns: str, schema: str = "") -> Table:
    address = TableId(schema, name) if schema else TableId(name)
    return Table(address, "table", tuple(Column(column, TEXT) for column in columns))


SCHEMA = Schema((
    _table("bookings", "id", "berth_id", "boat_id", "status", "paid_at"),
    _table("boats", "id", "name", "length"),
    _table("berths", "id", "pontoon", "order"),
    _table("skippers", "id", "name"),
    _table("Odd Names", "Two Words"),
))  # fmt: skip
LINKS = [
    Link(TableId("bookings"), ("boat_id",), TableId("boats"), ("id",)),
    Link(TableId("bookings"), ("berth_id",), TableId("berths"), ("id",)),
]


def _ways(script: str, dialect=SQLITE, schema: Schema = SCHEMA) -> list[str]:
    cursor = script.index("|")
    text = script.replace("|", "", 1)
    found = ways_at(text, cursor, schema, LINKS, dialect)
    assert all(way.start == cursor - len(found.typed) for way in found.ways)
    return [way.text for way in found.ways]


@pytest.mark.parametrize(
    ("script", "first"),
    [
        ("|", ["SELECT", "INSERT INTO", "UPDATE"]),
        ("sel|", ["SELECT"]),
        ("SELECT * FROM |", ["bookings", "boats", "berths", "skippers", '"Odd Names"']),
        ("SELECT * FROM bo|", ["bookings", "boats"]),
        ("SELECT * FROM bookings JOIN |", ["boats", "berths", "bookings"]),
        ("SELECT * FROM bookings b JOIN boats s ON |", ["b.boat_id = s.id"]),
        ("SELECT * FROM bookings JOIN berths ON |", ["bookings.berth_id = berths.id"]),
        ("SELECT * FROM bookings b JOIN boats s ON b.|", ["id", "berth_id", "boat_id"]),
        ("SELECT b.| FROM bookings b", ["id", "berth_id", "boat_id", "status", "paid_at", "*"]),
        ("SELECT st| FROM bookings", ["status"]),
        ("let since = 1\nSELECT * FROM boats WHERE id = :|", [":since"]),
        ("let since = 1\nSELECT :size, :si|", [":since", ":size"]),
        ("let since = (\nSELECT :size, :si|", [":size"]),
        ("SELECT | FROM berths", ["id", "pontoon", '"order"']),
        ("SELECT b.na| FROM boats b, skippers s", ["name"]),
        ("SELECT na| FROM boats b, skippers s", ["b.name", "s.name"]),
        ("SELECT 1; SELECT len| FROM boats; SELECT 2", ["length", "length("]),
        ("UPDATE boats SET |", ["id", "name", "length"]),
        ("UPDATE boats SET name = 'x', le|", ["length"]),
        ("UPDATE boats SET name = na|", ["name"]),
        ("INSERT INTO boats (|", ["id", "name", "length"]),
        ("INSERT INTO boats (id, |", ["name", "length"]),
        ("INSERT INTO |", ["bookings"]),
        ("DELETE FROM boats WHERE |", ["id", "name", "length"]),
        ("WITH late AS (SELECT id, status AS how FROM bookings) SELECT | FROM late", ["id", "how"]),
        ("WITH late(x, y) AS (SELECT 1, 2) SELECT * FROM la|", ["late"]),
        ("SELECT t.| FROM (SELECT id AS a, name FROM boats) t", ["a", "name", "*"]),
        ("SELECT t.| FROM (SELECT * FROM boats) AS t", ["id", "name", "length", "*"]),
        ("SELECT (SELECT | FROM boats) FROM skippers", ["boats.id", "boats.name", "length"]),
        ("SELECT * FROM boats WHERE id IN (SELECT boat| FROM bookings)", ["boat_id", "boats.id"]),
        ("SELECT * FROM bookings JOIN boats USING (|", ["id"]),
        ("SELECT id FROM boats UNION SELECT | FROM skippers", ["id", "name"]),
        ("SELECT * FROM boats ORDER |", ["BY"]),
        ("SELECT * FROM boats WHERE length > 3 |", ["AND", "OR"]),
        ("SELECT * FROM boats |", ["JOIN", "LEFT JOIN", "WHERE"]),
        ('SELECT "Two W| FROM "Odd Names"', []),
        ('SELECT Two| FROM "Odd Names"', ['"Two Words"']),
        ("ALTER TABLE |", ["bookings"]),
        ("SELECT 'bo|", []),
        ("SELECT 1 -- FROM |", []),
        ("SELECT 12|", []),
    ],
)
def test_cases(script: str, first: list[str]) -> None:
    found = _ways(script)
    assert found[: len(first)] == first
    if not first:
        assert not found


def test_columns_that_several_tables_have_say_which() -> None:
    found = _ways("SELECT | FROM bookings b JOIN boats s ON b.boat_id = s.id")
    assert {"b.id", "s.id", "status", "length"} <= set(found)
    assert "id" not in found


def test_names_are_quoted_and_tables_found_as_the_engine_needs_it() -> None:
    schema = Schema((
        _table("Boats", "Name", "length", schema="public"),
        _table("berths", "id", schema="office"),
        _table("crew", "id", schema="public"), _table("crew", "id", schema="office"),
    ))  # fmt: skip
    found = _ways("SELECT * FROM |", POSTGRESQL, schema)
    assert found == ['"Boats"', "office.berths", "public.crew", "office.crew"]
    assert _ways('SELECT | FROM "Boats"', POSTGRESQL, schema)[:2] == ['"Name"', "length"]
    assert _ways("SELECT * FROM office.|", POSTGRESQL, schema) == ["berths", "crew"]


@pytest.mark.parametrize(
    ("script", "column"),
    [
        ("SELECT * FROM bookings WHERE status = |", "status"),
        ("SELECT * FROM bookings b WHERE b.status <> |", "status"),
        ("SELECT * FROM bookings WHERE status IN ('held', |", "status"),
        ("SELECT * FROM bookings WHERE status NOT IN (|", "status"),
        ("UPDATE bookings SET status = |", "status"),
        ("SELECT * FROM bookings WHERE nothing = |", None),
        ("SELECT * FROM bookings WHERE status |", None),
    ],
)
def test_values_of_the_column_that_is_compared(script: str, column: str | None) -> None:
    cursor = script.index("|")
    found = ways_at(script.replace("|", ""), cursor, SCHEMA, LINKS, SQLITE)
    assert (found.values_of[1] if found.values_of is not None else None) == column
    ways = with_values(found, ["held", "it's", None, 3, b"\0", "x" * 100, "a\nb"]).ways
    assert [w.text for w in ways if w.kind == "value"] == ["'held'", "'it''s'", "3"]


WORDS = ["SELECT", "FROM", "bookings", "b", ".", "(", ")", ",", "JOIN", "ON", "WITH", "AS", "=",
         "'", '"', "--", "/*", "*", "INSERT", "INTO", "UPDATE", "SET", "UNION", ";", "\n", "boats",
         "IN", "VALUES", "1", "[", "$$", "::", "é", "\0", "USING", "ORDER", "BY"]  # fmt: skip


@pytest.mark.parametrize("dialect", [SQLITE, POSTGRESQL])
@given(parts=st.lists(st.sampled_from(WORDS), max_size=25), at=st.integers(0, 200))
def test_no_text_fails(dialect, parts: list[str], at: int) -> None:
    text = " ".join(parts)
    cursor = min(at, len(text))
    for way in ways_at(text, cursor, SCHEMA, LINKS, dialect).ways:
        assert 0 <= way.start <= cursor
        assert way.text


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        pytest.param("SELECT substr(", ["substr(▸text, start, length)"], id="first"),
        pytest.param("SELECT substr(name, ", ["substr(text, ▸start, length)"], id="second"),
        pytest.param("SELECT substr(f(a, b), 2, ", ["substr(text, start, ▸length)"], id="nested"),
        pytest.param("SELECT coalesce(a, b, c, d", ["coalesce(x, y, ▸…)"], id="any-number"),
        pytest.param("SELECT max(", ["max(▸x, y, …)", "max(▸x)"], id="two-of-the-name"),
        pytest.param("SELECT substr(a, 1, 2, 3", ["substr(text, start, length)"], id="too-many"),
        pytest.param("SELECT (a, ", [], id="no-function"),
        pytest.param("SELECT substr(a) + ", [], id="over"),
        pytest.param("SELECT 'substr(", [], id="in-a-string"),
    ],
)
def test_what_a_function_takes_is_told_while_it_is_written(text: str, shown: list[str]) -> None:
    found = signatures_at(text, len(text), SQLITE)
    assert [marked_signature(signature, number) for signature, number in found] == shown


@pytest.mark.parametrize("functions", [FUNCTIONS, SERVER_FUNCTIONS], ids=["sqlite", "server"])
def test_signatures_are_a_name_with_its_arguments(functions: tuple[str, ...]) -> None:
    assert len(set(functions)) == len(functions)
    assert all(re.fullmatch(r"\w+(\(.*\)( WITHIN .*)?)?", text) for text in functions)


def test_the_functions_that_are_offered_are_there() -> None:
    with closing(apsw.Connection(":memory:")) as connection:
        there = {name for (name,) in connection.execute("SELECT name FROM pragma_function_list")}
        modules = {name for (name,) in connection.execute("SELECT name FROM pragma_module_list")}
    tables = {"json_each", "json_tree"}  # known from the first time that they are used
    assert {text.partition("(")[0] for text in FUNCTIONS} <= there | modules | tables
