"""Statements that are pasted as logs and source have them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.sqlite.dialect import DIALECT as SQLITE
from jondel.core.model.values import StoredValue
from jondel.core.query.pasted import understood

ASKED = "SELECT * FROM boats WHERE id = ? AND name = ?"


@pytest.mark.parametrize(
    ("text", "sql", "values"),
    [
        (f"{ASKED} [1, 'Gull']", ASKED, {"1": 1, "2": "Gull"}),
        (f"{ASKED}; args=(1, 'Gull')", ASKED, {"1": 1, "2": "Gull"}),
        (f"{ASKED} -- params: [null, \"it's\"]", ASKED, {"1": None, "2": "it's"}),
        (f"2026-06-14 12:00:01 DEBUG db: {ASKED} [1, Gull]", ASKED, {"1": 1, "2": "Gull"}),
        ("(0.002) SELECT 1 FROM boats WHERE id = %s; args=(5,)",
         "SELECT 1 FROM boats WHERE id = %s", {"1": 5}),
        ("SELECT :a, :b {'b': 2, 'a': 'x'}", "SELECT :a, :b", {"a": "x", "b": 2}),
        ("SELECT $2, $1 [10, 20]", "SELECT $2, $1", {"1": 10, "2": 20}),
        ("INSERT INTO t (a, b) VALUES (?, ?) (7, 8)", "INSERT INTO t (a, b) VALUES (?, ?)",
         {"1": 7, "2": 8}),
        ('"SELECT id " +\n  "FROM boats"', "SELECT id FROM boats", {}),
        ('"SELECT id "\n  "FROM boats"', "SELECT id FROM boats", {}),
        ("'SELECT \\'x\\''", "SELECT 'x'", {}),
        ("`SELECT id\nFROM boats`", "SELECT id\nFROM boats", {}),
        ('"""\n  SELECT 1\n"""', "SELECT 1", {}),
    ],
)  # fmt: skip
def test_what_is_understood(text: str, sql: str, values: dict[str, StoredValue]) -> None:
    found = understood(text, SQLITE)
    assert found is not None
    assert (found.sql, found.values) == (sql, values)
    assert found.words


@pytest.mark.parametrize(
    "text",
    [
        "SELECT 1", ASKED, f"{ASKED} [1]", "INSERT INTO t VALUES (1, 2)", "SELECT count(*)", "",
        "no statement here", "SELECT * FROM t WHERE a IN (1, 2)", "boats",
    ],
)  # fmt: skip
def test_what_is_left_as_it_is(text: str) -> None:
    assert understood(text, SQLITE) is None


def test_what_is_filled_in_is_said() -> None:
    found = understood('f"SELECT * FROM {table}"', SQLITE)
    assert found is not None
    assert "{table}" in found.words or "table" in found.words


@pytest.mark.parametrize("dialect", [SQLITE, POSTGRESQL])
@given(st.lists(st.sampled_from(["SELECT ?", "[", "]", "(", ")", "'", '"', "1", ",", "args=", "{",
                                 "}", "`", "\\", "\n", "+", "a", ":", "None", "\0"])))  # fmt: skip
def test_nothing_that_is_pasted_fails(dialect, parts: list[str]) -> None:
    understood("".join(parts), dialect)
