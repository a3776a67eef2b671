"""Plans: what is slow in them, and the index that would serve, tried out and not made."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import MakeDatabase
from jondel.core.engines.needed import statements_of
from jondel.core.engines.postgresql.plans import plan_of as server_plan
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.dialect import DIALECT
from jondel.core.engines.sqlite.plans import EXPLAIN, plan_of
from jondel.core.errors import StatementFailed
from jondel.core.model.plans import PlanStep, all_steps
from jondel.core.model.statements import Statement
from jondel.core.query.plan_fragments import fragments_of
from jondel.core.query.plans import index_for, plan_lines, with_index
from jondel.core.query.scripts import script_of
from jondel.core.trail.trail import Trail

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, length REAL)",
    "CREATE TABLE bookings(id INTEGER PRIMARY KEY, boat_id INT, status TEXT, day INT)",
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR)


@pytest.fixture
def database(path: Path) -> Iterator[Database]:
    with closing(open_database(path)) as opened:
        yield opened


@pytest.mark.parametrize(
    ("sql", "concerns", "index"),
    [
        ("SELECT * FROM boats WHERE id = 1", [], None),
        ("SELECT * FROM boats WHERE name = ?", ["reads all"], "by_boats_name ON boats(name)"),
        (
            "SELECT * FROM bookings b WHERE b.day > 5 AND 'held' = b.status ORDER BY boat_id",
            ["reads all", "sorts"],
            "by_bookings_status_day ON bookings(status, day)",
        ),
        (
            "SELECT * FROM boats b JOIN bookings k ON k.boat_id = b.id WHERE b.id = 3",
            ["reads all"],
            "by_bookings_boat_id ON bookings(boat_id)",
        ),
        ("SELECT count(*) FROM boats", ["reads all"], None),
        ("DELETE FROM bookings WHERE status = 'x'", ["reads all"],
         "by_bookings_status ON bookings(status)"),
        ("SELECT DISTINCT name FROM boats", ["reads all", "sorts"], None),
    ],
)  # fmt: skip
def test_what_is_slow_and_the_index_that_would_serve(
    path: Path, database: Database, sql: str, concerns: list[str], index: str | None
) -> None:
    entry = script_of(sql, DIALECT).with_values({"1": "x"})[0]
    try:
        steps = statements_of(database).plan(entry.statement)
    except Exception as error:
        raise AssertionError(sql) from error
    assert [step.concern for step in all_steps(steps) if step.concern] == concerns
    found = index_for(steps, sql, database.schema(), DIALECT)
    assert found == (f"CREATE INDEX {index}" if index else None)
    content = path.read_bytes()
    with closing(Trail(database.location)) as trail, trail.now(database) as (state, _):
        tried = with_index(state, steps, entry, DIALECT)
    assert path.read_bytes() == content
    if index:
        assert tried is not None
        assert index.partition(" ")[0] in "\n".join(line for line, _ in plan_lines(tried.plan))
    else:
        assert tried is None


def test_a_plan_of_what_is_none_says_where(database: Database) -> None:
    with pytest.raises(StatementFailed, match="no such column: nme") as failed:
        statements_of(database).plan(Statement(("SELECT nme FROM boats",)))
    assert failed.value.at == 7


def test_a_tree_is_drawn(database: Database) -> None:
    sql = "SELECT * FROM boats WHERE id IN (SELECT boat_id FROM bookings) UNION SELECT 1, 2, 3"
    lines = [line for line, _ in plan_lines(statements_of(database).plan(Statement((sql,))))]
    assert any(line.startswith(("  ├", "  └")) for line in lines)


DOCUMENT = """[{"Plan": {"Node Type": "Sort", "Sort Key": ["b.name"], "Plan Rows": 10,
 "Actual Rows": 7, "Actual Loops": 1, "Actual Total Time": 2.5, "Plans": [
 {"Node Type": "Seq Scan", "Relation Name": "boats", "Alias": "b", "Plan Rows": 10,
  "Filter": "(name = 'x')", "Actual Rows": 7, "Actual Loops": 2, "Actual Total Time": 1.0}]}}]"""


def test_a_servers_plan_has_rows_and_times() -> None:
    steps = server_plan(DOCUMENT)
    assert [step.concern for step in all_steps(steps)] == ["sorts", "reads all"]
    inner = steps[0].steps[0]
    assert (inner.table, inner.rows, inner.seconds, inner.estimated) == ("b", 14.0, 0.002, 10)
    lines = [line for line, _ in plan_lines(steps)]
    assert "14 rows · 10 expected · 2.0 ms" in lines[1]


def test_where_an_index_of_all_columns_does_not_help_one_of_them_is_tried(
    database: Database,
) -> None:
    sql = (
        "SELECT k.*, b.name FROM bookings k LEFT JOIN boats b ON b.id = k.boat_id "
        "WHERE k.status = 'x'"
    )
    asked = script_of(sql, DIALECT).with_values({})[0]
    steps = statements_of(database).plan(asked.statement)
    with closing(Trail(database.location)) as trail, trail.now(database) as (state, _):
        tried = with_index(state, steps, asked, DIALECT)
    assert tried is not None
    assert tried.statement == "CREATE INDEX by_bookings_status ON bookings(status)"
    assert any("by_bookings_status" in step.words for step in tried.plan)


@pytest.mark.parametrize(
    ("sql", "served"),
    [
        pytest.param(
            "SELECT b.name FROM boats b JOIN bookings k ON k.boat_id = b.id\n"
            "WHERE k.total BETWEEN 1 AND 5 ORDER BY k.total LIMIT 3",
            {"SCAN k": ["bookings k"], "SEARCH b": ["boats b"], "USE TEMP": ["ORDER BY k.total"]},
            id="aliases-and-order",
        ),
        pytest.param(
            "SELECT * FROM bookings WHERE boat_id = 4 AND status = 'held'",
            {"SEARCH bookings": ["bookings", "boat_id = 4"]},
            id="the-condition-of-an-index",
        ),
        pytest.param(
            "SELECT status FROM bookings GROUP BY status -- GROUP BY nothing",
            {"SCAN bookings": ["bookings"], "USE TEMP": ["GROUP BY status"]},
            id="grouping-and-a-comment",
        ),
        pytest.param(
            "SELECT * FROM boats a, boats b WHERE a.id = b.length",
            {"SCAN b": ["boats b"], "SEARCH a": ["boats a"]},
            id="one-table-twice",
        ),
        pytest.param(
            "UPDATE bookings SET status = 'x' WHERE total > 5",
            {"SCAN bookings": ["bookings"]},
            id="update",
        ),
    ],
)
def test_the_steps_of_a_plan_are_tied_to_what_they_serve(
    sql: str, served: dict[str, list[str]]
) -> None:
    with closing(apsw.Connection(":memory:")) as connection:
        connection.execute(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, name, length);"
            "CREATE TABLE bookings(id INTEGER PRIMARY KEY, boat_id, status, total);"
            "CREATE INDEX by_boat ON bookings(boat_id)"
        )
        plan = plan_of(list(connection.execute(EXPLAIN + sql)))
    found = fragments_of(plan, sql, DIALECT)
    assert [step for step, _ in found] == all_steps(plan)
    for words, parts in served.items():
        ranges = [r for step, r in found if step.words.startswith(words)]
        assert [[sql[a:b] for a, b in r] for r in ranges] == [parts]


@given(st.text(st.sampled_from("SELECT FROM boats b, ( ) JOIN ON = WHERE ORDER BY 1 ; ' \" -- \n")))
def test_whatever_a_statement_is_its_fragments_are_within_it(sql: str) -> None:
    steps = (PlanStep("SCAN b", "b"), PlanStep("SEARCH t USING INDEX i (b=?)", "boats"),
             PlanStep("USE TEMP B-TREE FOR ORDER BY"))  # fmt: skip
    for _, ranges in fragments_of(steps, sql, DIALECT):
        assert all(0 <= start < end <= len(sql) for start, end in ranges)
