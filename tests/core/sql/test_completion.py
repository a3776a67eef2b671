"""What is typed as SQL is completed by what can stand there, and what comes out is SQL."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.sqlite.dialect import DIALECT
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.completion import Completion, completions, name_in_sql, opening_of

_NAMES = ("nights", "status", "paid at", 'the "long" one', "order", "størrelse")
_TABLE = Table(TableId("stays"), "table", tuple(Column(name) for name in _NAMES))
_VALUES: dict[str, list[StoredValue]] = {
    "nights": [1, 2, 12, 2.5],
    "status": ["paid", "it's due", "held", "two\nlines", "x" * 500, b"\x00\x01"],
}


@pytest.fixture
def stays() -> Iterator[sqlite3.Connection]:
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.execute(
            f"CREATE TABLE stays({', '.join(name_in_sql(name, DIALECT) for name in _NAMES)})"
        )
        yield connection


def _ways(sql: str) -> list[Completion]:
    opening = opening_of(sql, _TABLE, DIALECT)
    if opening is None:
        return []
    return completions(sql, opening, _VALUES.get(opening.column or "", []))


def _first(sql: str) -> str | None:
    return next((way.text for way in _ways(sql)), None)


@pytest.mark.parametrize(
    ("typed", "whole"),
    [
        ("", "nights"),
        ("nig", "nights"),
        ("NIG", "nights"),
        ("nights > 3 AND sta", "nights > 3 AND status"),
        ("nights > 3 AND (sta", "nights > 3 AND (status"),
        ("nights BET", "nights BETWEEN"),
        ("nights IS NO", "nights IS NOT NULL"),
        ("nights NOT I", "nights NOT IN ("),
        ("nights > 3 ", "nights > 3 AND"),
        ("nights > 3 o", "nights > 3 OR"),
        ("len", "length("),
        ("stø", "størrelse"),
        ("pai", '"paid at"'),
        ('"pai', '"paid at"'),
        ("the", '"the ""long"" one"'),
        ("NOT ord", 'NOT "order"'),
        ("nights ", "nights ="),
        ("nights =", "nights = 1"),
        ("nights=2.", "nights= 2.5"),
        ("nights = 2", "nights = 2.5"),
        ("nights BETWEEN 1 AND 1", "nights BETWEEN 1 AND 12"),
        ("status = ", "status = 'held'"),
        ("status = 'pa", "status = 'paid'"),
        ("status = 'IT", "status = 'it''s due'"),
        ("status NOT LIKE 'h", "status NOT LIKE 'held'"),
        ("status IN (", "status IN ('held'"),
        ("status IN ('held', 'p", "status IN ('held', 'paid'"),
        ("status = 'a' OR pai", "status = 'a' OR \"paid at\""),
    ],
)
def test_the_end_is_completed_by_what_can_stand_there(typed: str, whole: str) -> None:
    assert _first(typed) == whole


@pytest.mark.parametrize(
    "typed",
    ["nights", "'nig", "xyz", "-- nig", "nights = 1 -- sta", "/* nig", "x'00'", "status = 'zzz"],
)
def test_nothing_is_offered_where_nothing_fits(typed: str) -> None:
    assert _first(typed) is None


def test_values_that_cannot_be_read_on_a_line_are_not_offered() -> None:
    assert [way.words for way in _ways("status = '")] == ["'held'", "'it''s due'", "'paid'"]


@pytest.mark.parametrize("name", [*sorted(apsw.keywords), *_NAMES, "a-b", "1st", "Größe", "_x", ""])
def test_a_name_is_that_column_for_the_engine(name: str) -> None:
    with closing(sqlite3.connect(":memory:")) as connection:
        quoted = '"' + name.replace('"', '""') + '"'
        connection.execute(f"CREATE TABLE t({quoted})")
        connection.execute("INSERT INTO t VALUES (77)")
        written = name_in_sql(name, DIALECT)
        sql = f"SELECT {written} FROM t WHERE {written} = 77 AND NOT {written} IS NULL"
        assert connection.execute(sql).fetchall() == [(77,)]


_PIECES = (
    *("nights", "status", '"paid at"', "=", "<>", ">", "AND", "OR", "NOT", "IS", "NULL", "IN"),
    *("(", ")", ",", "'paid'", "'", '"', "2", "LIKE", "BETWEEN", "--", "sta", "x'0", "é", "?"),
)


@given(st.lists(st.sampled_from(_PIECES), max_size=8).map(" ".join), st.booleans())
def test_whatever_is_typed_the_beginning_stays(sql: str, blank: bool) -> None:
    sql += " " * blank
    opening = opening_of(sql, _TABLE, DIALECT)
    for way in _ways(sql):
        assert opening is not None
        assert way.text.startswith(sql[: opening.start])
        assert way.text.endswith(way.words)
        assert way.text != sql


@pytest.mark.parametrize("ways", range(3))
def test_taking_what_is_offered_leads_to_a_condition(stays: sqlite3.Connection, ways: int) -> None:
    """Each column, each comparison that needs a value, the first value: the engine takes it."""
    for column in [way.text for way in _ways("")][:2]:
        for sign in _ways(f"{column} "):
            if sign.words in ("=", "<>", "<", "<=", ">", ">=", "LIKE", "GLOB", "NOT LIKE"):
                sql = _ways(f"{sign.text} ")[ways].text
            elif "IN (" in sign.words:
                sql = _ways(sign.text)[ways].text + ")"
            elif "BETWEEN" in sign.words:
                low = _ways(f"{sign.text} ")[ways].text
                sql = _ways(f"{low} AND ")[ways].text
            elif sign.words == "COLLATE NOCASE":
                sql = f"{sign.text} = 'PAID'"
            else:
                sql = sign.text
            stays.execute(f"SELECT * FROM stays WHERE {sql}")


def test_each_engine_has_words_of_its_own() -> None:
    """And names with capitals need quotes where others are folded."""
    columns = (Column("Name"), Column("user"), Column("price"))
    table = Table(TableId("public", "t"), "table", columns)
    begun = opening_of("", table, POSTGRESQL)
    assert begun is not None
    assert begun.words[:3] == ('"Name"', '"user"', "price")
    assert "date_trunc(" in begun.words
    assert "typeof(" not in begun.words
    behind = opening_of("price ", table, POSTGRESQL)
    assert behind is not None
    assert "ILIKE" in behind.words
    assert "GLOB" not in behind.words
