"""Filtered and sorted sheets: which rows, in which order, and how they are read."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from condition_strategies import TYPES, VALUES, column_list, conditions
from conftest import MakeDatabase, OpenApp
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import ArrangingProgress, Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import Cancelled, ConditionInvalid
from jondel.core.model.filters import (
    Arrangement,
    ColumnCondition,
    Condition,
    GroupCondition,
    OrderKey,
    SqlCondition,
    WordsCondition,
)
from jondel.core.model.rows import Window
from jondel.core.model.schema import Table
from naive_filters import meets, rank

Opened = Callable[[Path], Database]


def _make(path: Path, rows: list[tuple[object, ...]], options: str) -> None:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(f"CREATE TABLE t(id INTEGER PRIMARY KEY, {column_list()}) {options}")
        marks = ", ".join("?" * len(TYPES))
        connection.executemany(
            f"INSERT INTO t VALUES (?, {marks})",
            [(3 * number, *row) for number, row in enumerate(rows)],
        )
        connection.execute("CREATE VIEW v AS SELECT * FROM t")
        connection.commit()


def _stored(database: Database, table: Table) -> list[dict[str, object]]:
    rows = database.rows.read_window(table, 0, 1000).rows
    return [dict(zip(table.column_names, row, strict=True)) for row in rows]


@given(
    rows=st.lists(st.tuples(*[VALUES] * len(TYPES)), max_size=12),
    condition=conditions,
    keys=st.lists(st.tuples(st.sampled_from(sorted(TYPES)), st.booleans()), max_size=3),
    options=st.sampled_from(["", "WITHOUT ROWID"]),
)
def test_an_arrangement_finds_and_orders_what_a_naive_reading_does(
    rows: list[tuple[object, ...]],
    condition: Condition,
    keys: list[tuple[str, bool]],
    options: str,
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "app.db")
        _make(path, rows, options)
        with closing(open_database(path)) as database:
            order = tuple(OrderKey(name, down) for name, down in dict(keys).items())
            arrangement = Arrangement(condition, order)
            for name in ("t", "v"):
                table = database.schema().named(name)
                assert table is not None
                types = {"id": "INTEGER", **TYPES}
                expected = [r for r in _stored(database, table) if meets(r, condition, types)]
                for key in reversed(order):
                    expected.sort(
                        key=lambda row, key=key: rank(row[key.column]),  # type: ignore[misc]
                        reverse=key.descending,
                    )
                made = database.finder.arrange(table, arrangement)
                window = database.rows.read_window(table, 0, 100, order=made)
                ids = [row[0] for row in window.rows]
                assert made.rows == len(expected)
                assert sorted(map(str, ids)) == sorted(str(row["id"]) for row in expected)
                found = [dict(zip(table.column_names, row, strict=True)) for row in window.rows]
                for key in order[:1]:
                    ranks = [rank(row[key.column]) for row in found]
                    assert ranks == [rank(row[key.column]) for row in expected]


def _numbers(make: MakeDatabase, options: str = "", rows: int = 1000) -> Path:
    return make(
        f"CREATE TABLE t(id INTEGER PRIMARY KEY, word TEXT, n INTEGER) {options}",
        "WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c LIMIT "
        f"{rows}) INSERT INTO t SELECT i * 2, 'w' || (i * 7 % 1000), i % 10 FROM c",
    )


def _table(database: Database, name: str = "t") -> Table:
    table = database.schema().named(name)
    assert table is not None
    return table


@pytest.mark.parametrize("options", ["", "WITHOUT ROWID"], ids=["row-numbers", "by-key"])
def test_windows_of_an_order_join_without_a_seam(
    make: MakeDatabase, opened: Opened, options: str
) -> None:
    database = opened(_numbers(make, options))
    table = _table(database)
    made = database.finder.arrange(table, Arrangement(None, (OrderKey("word", True),)))
    windows = [database.rows.read_window(table, at, 128, order=made) for at in range(0, 1000, 128)]
    words = [str(row[1]) for window in windows for row in window.rows]
    assert words == sorted(words, reverse=True)
    assert len(words) == made.rows == 1000
    assert made.ordinal_of(windows[3].positions[5]) == 3 * 128 + 5
    assert made.ordinal_of((999_999,)) is None
    assert made.bytes <= 16 * made.rows


def test_the_first_rows_are_told_before_the_order_is_made(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(_numbers(make))
    firsts: list[Window] = []
    told: list[ArrangingProgress] = []
    arrangement = Arrangement(
        ColumnCondition("n", "is", (3,)), (OrderKey("word"), OrderKey("id", True))
    )
    made = database.finder.arrange(
        _table(database), arrangement, first=firsts.append, on_progress=told.append, first_rows=20
    )
    whole = database.rows.read_window(_table(database), 0, 20, order=made)
    assert firsts == [whole]
    assert told[-1].rows == made.rows == 100
    assert [entry.rows for entry in told] == sorted(entry.rows for entry in told)


def test_a_sort_can_be_stopped(make: MakeDatabase, opened: Opened) -> None:
    database = opened(_numbers(make, rows=200_000))

    def stop(_: ArrangingProgress) -> None:
        database.interrupt()

    with pytest.raises(Cancelled):
        database.finder.arrange(
            _table(database), Arrangement(None, (OrderKey("word"),)), on_progress=stop
        )
    database.resume()
    assert (
        database.finder.arrange(_table(database), Arrangement(None, (OrderKey("n"),))).rows
        == 200_000
    )


def test_a_row_that_went_away_leaves_a_gap_in_its_order(
    make: MakeDatabase, opened: Opened, app: OpenApp
) -> None:
    path = _numbers(make)
    database = opened(path)
    table = _table(database)
    made = database.finder.arrange(table, Arrangement(None, (OrderKey("id", True),)))
    app(path).run("DELETE FROM t WHERE id = 1998")
    window = database.rows.read_window(table, 0, 3, order=made)
    assert [row[:1] for row in window.rows] == [(2000,), (), (1996,)]


def test_orders_of_views_leave_nothing_in_the_file_and_are_dropped(
    make: MakeDatabase, opened: Opened
) -> None:
    path = _numbers(make)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE VIEW v AS SELECT word, count(*) AS c FROM t GROUP BY word")
        connection.commit()
    before = path.read_bytes()
    database = opened(path)
    view = _table(database, "v")
    for _ in range(5):
        made = database.finder.arrange(view, Arrangement(None, (OrderKey("c"), OrderKey("word"))))
        assert database.rows.read_window(view, 1, 1, order=made).rows == (("w1", 1),)
    tables = statements_of(database).execute(
        "SELECT name FROM sqlite_temp_schema WHERE type = 'table'"
    )
    assert len(tables.rows) <= 2
    assert path.read_bytes() == before
    assert [t.name for t in database.schema().tables if not t.internal] == ["t", "v"]


@pytest.mark.parametrize(
    ("sql", "reason"),
    [
        pytest.param("n = 1; DELETE FROM t", "semicolon", id="two-statements-refused"),
        pytest.param("n = 1) OR (1", "unmatched", id="closing-early-refused"),
        pytest.param("(n = 1", "unmatched", id="open-parenthesis-refused"),
        pytest.param("word = 'a", "unmatched", id="open-quote-refused"),
        pytest.param("", "empty", id="nothing-refused"),
        pytest.param("nosuch = 1", "no such column", id="unknown-column-named"),
        pytest.param("n = ", "syntax error|incomplete", id="half-an-expression-refused"),
    ],
)
def test_a_condition_in_sql_is_one_expression(
    make: MakeDatabase, opened: Opened, sql: str, reason: str
) -> None:
    database = opened(_numbers(make))
    with pytest.raises(ConditionInvalid, match=reason):
        database.finder.check_condition(_table(database), SqlCondition(sql))
    with pytest.raises(ConditionInvalid, match=reason):
        database.finder.arrange(_table(database), Arrangement(SqlCondition(sql)))


def test_a_condition_in_sql_may_hold_comments_quotes_and_subqueries(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(_numbers(make))
    sql = "n IN (SELECT max(n) FROM t) AND word <> ')' /* ; */ AND \"n\" > 1 -- ("
    condition = GroupCondition("and", (SqlCondition(sql), ColumnCondition("id", "after", (100,))))
    made = database.finder.arrange(_table(database), Arrangement(condition))
    assert made.rows == 95


@pytest.mark.parametrize(
    "condition",
    [
        pytest.param(ColumnCondition("gone", "is", (1,)), id="column"),
        pytest.param(ColumnCondition("n", "between", (1,)), id="too-few-values"),
    ],
)
def test_what_cannot_be_a_condition_is_said(
    make: MakeDatabase, opened: Opened, condition: Condition
) -> None:
    database = opened(_numbers(make))
    with pytest.raises(ConditionInvalid):
        database.finder.check_condition(_table(database), condition)


def test_words_are_searched_in_two_thousand_columns(
    opened: Opened, hostile_database: Path, tmp_path: Path
) -> None:
    path = tmp_path / "wide.db"
    with closing(apsw.Connection(str(path))) as connection:
        connection.execute(f"CREATE TABLE t({', '.join(f'c{n}' for n in range(2000))})")
        connection.execute("INSERT INTO t(c1999) VALUES ('needle')")
        connection.execute("INSERT INTO t(c0) VALUES ('hay')")
    database = opened(path)
    table = _table(database)
    made = database.finder.arrange(table, Arrangement(WordsCondition("NEEDLE")))
    assert made.rows == 1
    assert [(hit.column, hit.value) for hit in database.finder.find_text(table, "eedl")] == [
        ("c1999", "needle")
    ]


def test_an_order_by_an_index_is_there_at_once(make: MakeDatabase, opened: Opened) -> None:
    """Rows with equal keys come in the index's own order, so that it needs no sorting."""
    path = _numbers(make)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE INDEX by_n ON t(n)")
        connection.commit()
    database = opened(path)
    for descending in (False, True):
        statement = "SELECT id FROM t ORDER BY n" + (" DESC, id DESC" if descending else ", id")
        plan = statements_of(database).execute(f"EXPLAIN QUERY PLAN {statement}").rows
        assert not any("TEMP B-TREE" in str(row) for row in plan)
        made = database.finder.arrange(
            _table(database), Arrangement(None, (OrderKey("n", descending),))
        )
        ids = [
            p[0] for p in database.rows.read_window(_table(database), 0, 1000, order=made).positions
        ]
        assert ids == [row[0] for row in statements_of(database).execute(statement).rows]


# Counting


def test_a_large_table_is_estimated_then_counted(make: MakeDatabase, opened: Opened) -> None:
    database = opened(_numbers(make, rows=50_000))
    table = _table(database)
    quick, exact = database.rows.measure(table, quick=True), database.rows.measure(table)
    assert (quick.precision, exact.precision) == ("estimate", "exact")
    assert abs(quick.rows - 50_000) < 500
    assert exact.rows == 50_000
    small = opened(make("CREATE TABLE t(a)", "INSERT INTO t VALUES (1)", name="small.db"))
    assert small.rows.measure(_table(small), quick=True).precision == "exact"


@pytest.mark.parametrize("options", ["", "WITHOUT ROWID"], ids=["row-numbers", "by-key"])
def test_any_row_is_found_by_landmarks(make: MakeDatabase, opened: Opened, options: str) -> None:
    database = opened(_numbers(make, options, rows=5000))
    table = _table(database)
    extent = database.rows.measure(table)
    assert extent.rows == 5000
    assert len(extent.landmarks) == 4
    for offset in (0, 1, 1023, 1024, 1025, 3000, 4095, 4096, 4990):
        window = database.rows.read_window(table, offset, 4, extent=extent)
        assert [row[0] for row in window.rows] == [2 * (offset + k) for k in (1, 2, 3, 4)]


# Adding up and finding


def test_a_tally_adds_up_the_filtered_rows_or_the_chosen_ones(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(
        make(
            "CREATE TABLE t(id INTEGER PRIMARY KEY, v)",
            "INSERT INTO t(v) VALUES (1), (2.5), (''), (NULL), ('x'), (1), (x'00')",
        )
    )
    table = _table(database)
    found = database.finder.tally(table, "v", Arrangement())
    assert (found.rows, found.distinct, found.nulls, found.empty) == (7, 5, 1, 1)
    assert (found.least, found.greatest) == (1, b"\x00")
    assert (found.total, found.mean) == (4.5, 1.5)
    filtered = database.finder.tally(table, "v", Arrangement(ColumnCondition("id", "up to", (2,))))
    assert (filtered.rows, filtered.total) == (2, 3.5)
    chosen = database.finder.tally(table, "v", Arrangement(), [(3,), (4,)])
    assert (chosen.rows, chosen.nulls, chosen.total, chosen.mean) == (2, 1, None, None)


def test_a_sum_too_large_for_a_whole_number_is_given_as_a_real(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(make("CREATE TABLE t(v)", f"INSERT INTO t VALUES ({2**62}), ({2**62})"))
    assert database.finder.tally(_table(database), "v", Arrangement()).total == 2.0**63


def test_a_value_is_found_in_any_column(make: MakeDatabase, opened: Opened) -> None:
    database = opened(
        make(
            "CREATE TABLE t(id INTEGER PRIMARY KEY, a, b)",
            "INSERT INTO t VALUES (1, 'Gull', 12), (2, 'seagull', 112.5), (12, NULL, x'6775')",
        )
    )
    table = _table(database)
    assert list(database.finder.find_text(table, "gull")) == [
        ((1,), "a", "Gull"),
        ((2,), "a", "seagull"),
    ]
    assert list(database.finder.find_text(table, "GULL", whole=True)) == [((1,), "a", "Gull")]
    assert [tuple(hit[:2]) for hit in database.finder.find_text(table, "12")] == [
        ((1,), "b"),
        ((2,), "b"),
        ((12,), "id"),
    ]
    assert [hit[0] for hit in database.finder.find_text(table, "12", whole=True)] == [(1,), (12,)]


def test_an_order_of_rows_without_numbers_outlives_its_connection(tmp_path: Path) -> None:
    """A connection is opened anew where the file is another, or nothing held that it read."""
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t(k TEXT PRIMARY KEY, v) WITHOUT ROWID")
        connection.executemany("INSERT INTO t VALUES (?, ?)", [("a", 2), ("b", 1), ("c", 3)])
        connection.commit()
    with closing(open_database(path)) as database:
        table = database.schema().named("t")
        assert table is not None
        order = database.finder.arrange(table, Arrangement(None, (OrderKey("v"),)))
        path.with_name("copy.db").write_bytes(path.read_bytes())
        path.with_name("copy.db").replace(path)
        rows = database.rows.read_window(table, 0, 9, order=order).rows
        assert [row[0] for row in rows] == ["b", "a", "c"]
        assert order.ordinal_of(("c",)) == 2
