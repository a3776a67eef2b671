"""SQL conditions and SELECTs read back into conditions, columns and orders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace

import apsw
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from condition_strategies import TYPES, VALUES, column_conditions, column_list, conditions
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.engines.sqlite.condition_sql import condition_sql
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.errors import ConditionInvalid
from jondel.core.model.addresses import TableId
from jondel.core.model.filters import (
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    SqlCondition,
)
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import StoredValue
from jondel.core.sql.conditions import condition_of, sheet_of
from jondel.core.sql.tokens import tokens
from jondel.core.sql.values_in_sql import literal, styled

_TABLE = Table(
    TableId("t"),
    "table",
    tuple(Column(n, column_type(t)) for n, t in {"id": "INTEGER", **TYPES}.items()),
)
_BOATS = Table(
    TableId("boats"),
    "table",
    tuple(Column(n) for n in ("id", "name", "length", "order")),
    schema="main",
)
_SCHEMA = Schema((_TABLE, _BOATS))


@pytest.fixture(scope="module")
def connection() -> Iterator[apsw.Connection]:
    with closing(apsw.Connection(":memory:")) as found:
        yield found


@given(rows=st.lists(st.tuples(*[VALUES] * len(TYPES)), max_size=6), condition=conditions)
def test_a_condition_written_as_sql_and_read_back_finds_the_same_rows(
    rows: list[tuple[StoredValue, ...]], condition: Condition
) -> None:
    with closing(apsw.Connection(":memory:")) as memory:
        memory.execute(f"CREATE TABLE t(id INTEGER PRIMARY KEY, {column_list()})")
        marks = ", ".join("?" * len(TYPES))
        names = ", ".join(map(quoted, TYPES))
        memory.executemany(f"INSERT INTO t({names}) VALUES ({marks})", rows)  # type: ignore[arg-type]
        written, _ = styled(condition_sql(_TABLE, condition), "literals")
        again, _ = styled(condition_sql(_TABLE, condition_of(written, _TABLE)), "literals")
        found = [
            memory.execute(f"SELECT id FROM t WHERE {sql}").fetchall() for sql in (written, again)
        ]
        assert found[0] == found[1]


@given(column_conditions())
@example(ColumnCondition("t", "none of", ("a", 1)))
@example(ColumnCondition("t", "does not contain", ("50%",)))
def test_what_was_put_together_column_by_column_is_understood_again(
    condition: ColumnCondition,
) -> None:
    written, _ = styled(condition_sql(_TABLE, condition), "literals")
    understood = condition_of(written, _TABLE)
    beyond_ascii = any(isinstance(v, str) and not v.isascii() for v in condition.values)
    empty = "" in condition.values
    if condition.operator in ("contains", "does not contain", "starts with", "ends with"):
        condition = replace(condition, values=tuple(map(str, condition.values)))
    if not (beyond_ascii or empty):
        assert understood == condition


@pytest.mark.parametrize(
    ("sql", "expected"),
    [
        pytest.param("T.i >= -5", ColumnCondition("i", "from", (-5,)), id="table-name-and-sign"),
        pytest.param("i isnull", ColumnCondition("i", "is NULL"), id="isnull"),
        pytest.param(
            "i between 1 and 2 and t = 'a' or not r",
            GroupCondition(
                "or",
                (
                    GroupCondition(
                        "and",
                        (
                            ColumnCondition("i", "between", (1, 2)),
                            ColumnCondition("t", "is", ("a",)),
                        ),
                    ),
                    SqlCondition("not r"),
                ),
            ),
            id="and-of-a-between",
        ),
        pytest.param(
            "length(t) > 3 AND (i IN (1, 2))",
            GroupCondition(
                "and", (SqlCondition("length(t) > 3"), ColumnCondition("i", "one of", (1, 2)))
            ),
            id="unknown-part-stays-as-written",
        ),
        pytest.param("t = NULL", SqlCondition("t = NULL"), id="never-true-stays"),
        pytest.param(
            "CASE WHEN i AND r THEN 1 END", SqlCondition("CASE WHEN i AND r THEN 1 END"), id="case"
        ),
        pytest.param("i NOT IN (1)", SqlCondition("i NOT IN (1)"), id="null-differs-so-it-stays"),
        pytest.param("t LIKE 'a_b'", SqlCondition("t LIKE 'a_b'"), id="other-wildcard-stays"),
        pytest.param("nosuch = 1", SqlCondition("nosuch = 1"), id="other-column-stays"),
    ],
)
def test_conditions_as_people_write_them(sql: str, expected: Condition) -> None:
    assert condition_of(sql, _TABLE) == expected


def test_a_very_deep_condition_is_kept_as_written() -> None:
    sql = "(" * 3000 + "i = 1" + ")" * 3000
    assert condition_of(sql, _TABLE) is not None


def test_a_pasted_select_becomes_a_sheet() -> None:
    sheet = sheet_of(
        'select name, b."order" -- the plan\n from "boats" where length > 8 '
        "order by length desc, NAME;".replace("b.", "boats."),
        _SCHEMA,
    )
    assert sheet.table is _BOATS
    assert sheet.columns == ("name", "order")
    assert sheet.arrangement == Arrangement(
        ColumnCondition("length", "after", (8,)), (OrderKey("length", True), OrderKey("name"))
    )
    assert sheet_of("SELECT * FROM main.boats", _SCHEMA).columns is None


@pytest.mark.parametrize(
    ("sql", "reason"),
    [
        pytest.param("DELETE FROM boats", "not a SELECT", id="other-statement"),
        pytest.param("SELECT * FROM boats, t", "one table", id="two-tables"),
        pytest.param("SELECT * FROM boats JOIN t", "one table", id="join"),
        pytest.param("SELECT * FROM nosuch", "no table", id="unknown-table"),
        pytest.param("SELECT count(*) FROM boats", "not a column", id="expression"),
        pytest.param("SELECT * FROM boats LIMIT 3", "LIMIT", id="limit"),
        pytest.param("SELECT name FROM boats GROUP BY name", "GROUP", id="groups"),
        pytest.param("SELECT * FROM boats ORDER BY lower(name)", "sorted", id="order-expression"),
        pytest.param("", "not a SELECT", id="nothing"),
    ],
)
def test_what_a_sheet_cannot_show_is_said(sql: str, reason: str) -> None:
    with pytest.raises(ConditionInvalid, match=reason):
        sheet_of(sql, _SCHEMA)


@given(
    st.none()
    | st.integers(-(2**63), 2**63 - 1)
    | st.floats(allow_nan=False)
    | st.text(st.characters(exclude_categories=["Cs"]))
    | st.binary()
)
def test_a_literal_is_stored_as_the_value_it_stands_for(value: StoredValue) -> None:
    with closing(apsw.Connection(":memory:")) as memory:
        stored = memory.execute(f"SELECT {literal(value)}").get
    assert (type(stored), stored) == (type(value), value)


def test_the_styles_of_marks() -> None:
    condition = GroupCondition(
        "and",
        (
            ColumnCondition("t", "between", ("a", "b")),
            SqlCondition("i % 2 = 0"),
            ColumnCondition('[odd] "one"', "is", (1,)),
        ),
    )
    statement = condition_sql(_TABLE, condition)
    odd = '"[odd] ""one"""'
    assert styled(statement, "?") == (
        f'"t" BETWEEN ? AND ? AND (i % 2 = 0) AND {odd} = ?',
        [("?", "a"), ("?", "b"), ("?", 1)],
    )
    assert styled(statement, "$1")[0].endswith("= $3")
    assert styled(statement, ":name") == (
        f'"t" BETWEEN :t AND :t_2 AND (i % 2 = 0) AND {odd} = :odd_one',
        [(":t", "a"), (":t_2", "b"), (":odd_one", 1)],
    )
    assert styled(statement, "%s")[0].startswith('"t" BETWEEN %s AND %s AND (i %% 2 = 0)')
    assert styled(statement, "literals")[0].startswith("\"t\" BETWEEN 'a' AND 'b'")


@given(st.text())
def test_tokens_cover_any_text_but_its_blanks(sql: str) -> None:
    covered = {place for token in tokens(sql) for place in range(token.start, token.end)}
    assert all(character.isspace() for place, character in enumerate(sql) if place not in covered)
