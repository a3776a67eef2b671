"""Statements carried in and out: parameters, layout, code, files, the tape."""

from __future__ import annotations

import json
import os
from contextlib import closing
from pathlib import Path

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.links import Link
from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.dialect import DIALECT as SQLITE
from jondel.core.errors import StatementRefused, StoreUnavailable, TargetNotFound
from jondel.core.model.addresses import TableId
from jondel.core.model.outcomes import Outcome, ResultColumn, StatementError
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import Exact, InvalidText, StoredValue
from jondel.core.query.as_code import CODE_FORMS
from jondel.core.query.change_statements import statement_of_change, statement_of_link
from jondel.core.query.compared_results import compared
from jondel.core.query.files import (
    ScriptFile,
    changed_outside,
    read_script,
    scripts_in,
    write_script,
)
from jondel.core.query.formatting import formatted
from jondel.core.query.lets import chosen_of, values_of
from jondel.core.query.reading import may_write
from jondel.core.query.results import RESULT, ResultFile, open_result
from jondel.core.query.scripts import script_of
from jondel.core.query.tape import Tape
from jondel.core.sql.parameters import bound, marks, names_of, place_in, value_of_words
from jondel.core.sql.values_in_sql import literal

# Parameters


@pytest.mark.parametrize(
    ("sql", "names"),
    [
        ("SELECT ?, ?", ["1", "2"]),
        ("SELECT ?2, ?", ["2", "3"]),
        ("SELECT :a, @b, $c, :a", ["a", "b", "c"]),
        ("SELECT $1, $2, $1", ["1", "2"]),
        ("SELECT * FROM t WHERE a = %s AND b = %(name)s", ["1", "name"]),
        ("SELECT 10 % s, a %s FROM t", []),
        ("SELECT ':a', \"?\", -- ?\n /* :b */ 1", []),
        ("SELECT a LIKE '%s%%' AND b = %s", ["1"]),
    ],
)
@pytest.mark.parametrize("dialect", [SQLITE, POSTGRESQL])
def test_parameters_as_drivers_have_them(sql: str, names: list[str], dialect) -> None:
    assert names_of(marks(sql, dialect)) == names


@pytest.mark.parametrize(
    ("sql", "names"),
    [
        ("SELECT data ? 'k', data ?| a, x::text, '{}'::jsonb @> y, a[1:2] FROM t", []),
        ("SELECT data ? 'k' FROM t WHERE a = ? AND b <@ ?", ["1", "2"]),
        ("SELECT $$ $1 ? :a $$, $2", ["2"]),
    ],
)
def test_operators_of_postgresql_are_no_parameters(sql: str, names: list[str]) -> None:
    assert names_of(marks(sql, POSTGRESQL)) == names


def test_percent_signs_are_written_twice_where_values_go_by_them() -> None:
    sql = "SELECT 5 %% 3 WHERE a LIKE 'x%%' AND b = %s"
    statement = bound(sql, marks(sql, SQLITE), {"1": "v"})
    assert statement.text() == "SELECT 5 % 3 WHERE a LIKE 'x%' AND b = ?"
    assert bound("SELECT 5 %% 3", [], {}).text() == "SELECT 5 %% 3"


@given(st.lists(st.sampled_from(["?", ":name", "$1", "%(some)s", " 'x' ", "é", " + "])))
def test_places_lead_back_to_what_was_written(parts: list[str]) -> None:
    sql = "SELECT " + " , ".join(parts)
    found = marks(sql, SQLITE)
    text = bound(sql, found, {}).text("?")
    for number, mark in enumerate(found):
        at = mark.start - sum(m.end - m.start - 1 for m in found[:number])
        assert text[at] == "?"
        assert place_in(found, at) == mark.start


@pytest.mark.parametrize(
    ("words", "value"),
    [
        ("5", 5), ("-0.5", -0.5), ("1e3", 1000.0), ("null", None), ("'5'", "5"),
        ("x'00ff'", b"\0\xff"), ("007", "007"), ("", ""), ("'it''s'", "it's"), (" 5 ", 5),
        ("9" * 20, "9" * 20),
        ("5 boats", "5 boats"), ("'open", "'open"),
    ],
)  # fmt: skip
def test_what_was_typed_is_a_value(words: str, value: StoredValue) -> None:
    found = value_of_words(words)
    assert found == value
    assert type(found) is type(value)


def test_parameters_in_order_are_counted_through_a_script() -> None:
    script = script_of("SELECT ?; SELECT ?, :a; -- ?\n", SQLITE)
    assert script.parameters == ("1", "2", "a")
    one, two = script.with_values({"1": 10, "2": 20, "a": "x"})
    assert one.statement.values == (10,)
    assert two.statement.values == (20, "x")


@pytest.mark.parametrize(
    ("sql", "writes"),
    [
        ("SELECT 1", False), ("  -- x\n(SELECT 1)", False),
        ("WITH a AS (SELECT 1) SELECT 2", False),
        ("WITH a AS (SELECT 1) DELETE FROM t", True), ("PRAGMA table_info(t)", False),
        ("PRAGMA user_version = 1", True), ("EXPLAIN DELETE FROM t", False),
        ("EXPLAIN ANALYZE DELETE FROM t", True), ("VALUES (1)", False), ("BEGIN", True),
        ("insert into t values (1)", True), ("", False),
    ],
)  # fmt: skip
def test_what_may_write_is_told_before_it_is_run(sql: str, writes: bool) -> None:
    assert may_write(sql, POSTGRESQL) == writes


# Laying out


@pytest.mark.parametrize("dialect", [SQLITE, POSTGRESQL])
@given(parts=st.lists(st.sampled_from([
    "SELECT", "a", ",", "b", "FROM", "t", "WHERE", "x", "=", "'it''s  so'", "AND", "(", ")",
    "-- c\n", "/* d */", ";", "ORDER", "BY", "1", "CASE", "WHEN", "THEN", "END", '"Q q"', "UNION",
    "::", "$$ y $$",
])))  # fmt: skip
def test_laying_out_changes_blanks_alone(dialect, parts: list[str]) -> None:
    script = " ".join(parts)
    try:
        laid_out = formatted(script, dialect)
    except StatementRefused:
        return
    assert "".join(laid_out.split()) == "".join(script.split())


def test_one_clause_is_on_a_line() -> None:
    laid_out = formatted("select a, b from t where a = 1 -- why\norder by b; select 2", SQLITE)
    assert {"from t", "order by b;", "select 2"} <= set(laid_out.splitlines())
    assert "-- why" in laid_out


# As code

HOSTILE: list[StoredValue] = [
    "it's", 'say "so"', "a\\b", "${x} #{y} `z`", "line\nbreak", None, 5, -1.5, b"\0\xff", "é",
    Exact("numeric", "1.50"),
]  # fmt: skip
STATEMENT = Statement(
    ("SELECT '50%' AS \"p\"\nFROM t WHERE a IN (", *(", " for _ in HOSTILE[1:]), ")"),
    tuple(Argument(value, "a") for value in HOSTILE),
)


@pytest.mark.parametrize("form", CODE_FORMS, ids=lambda form: form.title)
def test_every_form_is_written(form) -> None:
    text = form.write(STATEMENT, SQLITE)
    assert "SELECT" in text
    assert "FROM t" in text


def test_python_code_runs_the_same_statement() -> None:
    values: list[StoredValue] = [v for v in HOSTILE if not isinstance(v, Exact)]
    statement = Statement(("SELECT ", *(", " for _ in values[1:]), ""),
                          tuple(Argument(value) for value in values))  # fmt: skip
    code = next(form for form in CODE_FORMS if form.title == "Python").write(statement, SQLITE)
    import sqlite3

    with closing(sqlite3.connect(":memory:")) as connection:
        names = {"cursor": connection.cursor()}
        exec(code, names)
        assert list(names["cursor"].fetchone()) == values


def test_literals_are_the_same_values_again() -> None:
    values = [value for value in HOSTILE if not isinstance(value, Exact)]
    statement = Statement(("SELECT ", *(", " for _ in values[1:]), ""),
                          tuple(Argument(value) for value in values))  # fmt: skip
    text = CODE_FORMS[0].write(statement, SQLITE)
    with closing(apsw.Connection(":memory:")) as connection:
        assert list(connection.execute(text).get) == values


# Changes as statements


def test_changes_are_statements_that_make_them(tmp_path: Path) -> None:
    script = (
        'CREATE TABLE "Odd t"("a b" TEXT, n INT, PRIMARY KEY ("a b", n));'
        "CREATE TABLE u(x, y, twice AS (x * 2) STORED);"
        "INSERT INTO \"Odd t\" VALUES ('k', 1), ('it''s', 2);"
        "INSERT INTO u(x, y) VALUES (1, 'x'), (2, NULL)"
    )
    one, two = tmp_path / "one.db", tmp_path / "two.db"
    for path in (one, two):
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute(script)
    with closing(apsw.Connection(str(two))) as connection:
        connection.execute(
            'DELETE FROM "Odd t" WHERE n = 2; INSERT INTO "Odd t" VALUES (\'new\', 3);'
            "UPDATE u SET y = x'00' WHERE x = 2; INSERT INTO u(x, y) VALUES (3, 'é')"
        )
    with closing(open_database(one)) as before, closing(open_database(two)) as after:
        changes = compare(before, after)
    made = [statement_of_change(table, record, SQLITE)
            for table in changes.tables for record in table.records]  # fmt: skip
    with closing(apsw.Connection(str(one))) as connection:
        for statement in made:
            connection.execute(statement)
    with closing(open_database(one)) as before, closing(open_database(two)) as after:
        assert compare(before, after).empty


def test_a_link_is_a_question() -> None:
    link = Link(TableId("office", "b"), ("x",), TableId("public", "Boats"), ("id",))
    assert statement_of_link(link, ["it's"], POSTGRESQL) == (
        "SELECT *\nFROM \"Boats\"\nWHERE id = 'it''s'"
    )


# Files


def test_nothing_that_others_wrote_is_overwritten(tmp_path: Path) -> None:
    path = tmp_path / "app" / "one.sql"
    path.parent.mkdir()
    saved = write_script(ScriptFile(path, "", None), "SELECT 1;\n")
    assert path.read_text("utf-8") == "SELECT 1;\n"
    with pytest.raises(StatementRefused, match="already"):
        write_script(ScriptFile(path, "", None), "SELECT 2")
    opened = read_script(path)
    assert not changed_outside(opened)
    path.write_text("SELECT 'theirs'", "utf-8")
    os.utime(path, ns=(1, 1))
    assert changed_outside(opened)
    with pytest.raises(StatementRefused, match="changed outside"):
        write_script(saved, "SELECT 3")
    assert path.read_text("utf-8") == "SELECT 'theirs'"
    (tmp_path / "node_modules").mkdir()
    (tmp_path / "node_modules" / "x.sql").write_text("", "utf-8")
    assert scripts_in(tmp_path) == [path]
    path.write_bytes(b"\xff\xfe")
    with pytest.raises(TargetNotFound, match="not text"):
        read_script(path)


# Results and the tape

VALUES = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False), st.text(max_size=5),
    st.binary(max_size=5), st.just(InvalidText(b"a\xff")), st.sampled_from(["NaN", "1", ""]),
)  # fmt: skip


@given(rows=st.lists(st.tuples(VALUES, VALUES), max_size=8))
def test_rows_of_a_result_are_kept_as_they_are(tmp_path_factory, rows) -> None:
    path = tmp_path_factory.mktemp("results") / "r.db"
    result = ResultFile(path)
    result.begin([ResultColumn("n"), ResultColumn("N")])
    assert result.take(rows)
    result.end(complete=True)
    with closing(open_result(path, "r")) as database:
        table = database.schema().by_id[RESULT]
        assert table.column_names == ("n", "N 2")
        window = database.rows.read_window(table, 0, 100)
        assert [repr(row) for row in window.rows] == [repr(row) for row in rows]
    assert path.stat().st_mode & 0o777 == 0o600


def test_a_limit_ends_a_result_and_beginning_anew_empties_it(tmp_path: Path) -> None:
    firsts: list[int] = []
    result = ResultFile(tmp_path / "r.db", 3, lambda columns, rows: firsts.append(len(rows)))
    result.begin([ResultColumn("n")])
    result.take([(9,), (9,)])
    result.begin([ResultColumn("n")])
    assert result.take([(1,), (2,)])
    assert not result.take([(3,), (4,)])
    result.end(complete=False)
    assert (result.rows, result.complete, firsts) == (3, False, [2, 2])
    with closing(open_result(tmp_path / "r.db", "r")) as database:
        assert database.rows.measure(database.schema().by_id[RESULT]).rows == 3


def test_the_tape_keeps_what_was_asked(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with Tape("/x/app.db").opened() as tape:
        first = tape.add(Outcome("SELECT :a", "done", 0.5, has_rows=True), run=None, moment="",
                         how="read", parameters={"a": b"\0"}, rows=2)  # fmt: skip
        second = tape.add(Outcome("DELETE", "failed", error=StatementError("no", 3)), run=first.run,
                          moment="s2", how="rehearsed", parameters={"a": "x"})  # fmt: skip
        tape.change(second.number, pinned=1)
    with Tape("/x/app.db").opened() as tape, Tape("/x/other.db").opened() as other:
        entries = tape.entries()
        assert [(e.sql, e.run, e.rows, e.pinned) for e in entries] == [
            ("SELECT :a", first.number, 2, False), ("DELETE", first.number, None, True),
        ]  # fmt: skip
        assert entries[1].error == StatementError("no", 3)
        assert tape.earlier_values()["a"][0] == "x"
        assert other.entries() == []
        monkeypatch.setattr("jondel.core.query.tape._MOST_ENTRIES", 1)
        for number in range(3):
            tape.add(Outcome(f"SELECT {number}", "done"), run=None, moment="", how="read",
                     parameters={})  # fmt: skip
        assert [e.sql for e in tape.entries()] == ["DELETE", "SELECT 2"]
        folder = tape.result_path(1).parent.parent
    assert folder.stat().st_mode & 0o777 == 0o700
    with closing(apsw.Connection(str(folder / "tape.db"))) as connection:
        connection.pragma("user_version", 99)
    with pytest.raises(StoreUnavailable, match="later Jondel"), Tape("/x/app.db").opened() as tape:
        tape.entries()


def test_forms_of_values_are_those_of_the_engine() -> None:
    assert literal(b"\0\xff", POSTGRESQL.forms) == "'\\x00ff'::bytea"
    assert literal(float("inf"), POSTGRESQL.forms) == "'Infinity'::float8"
    assert literal("a\tb", POSTGRESQL.forms) == "'a\tb'"
    assert json.dumps(literal(None, POSTGRESQL.forms)) == '"NULL"'


# Named values


def test_named_values_stand_before_a_script() -> None:
    text = (
        "let since = '2026-06-01'\nlet n = 5 ;\n-- those that are large\n"
        "let large = (SELECT id\n  FROM boats WHERE length > :n)\n\n"
        "SELECT :since, :n, * FROM t WHERE a IN (:large) AND b = :b; SELECT nme"
    )
    script = script_of(text, SQLITE)
    assert script.parameters == ("b",)
    assert [let.name for let in script.lets] == ["since", "n", "large"]
    asked: list[tuple[str, object]] = []

    def ask(question, known):  # type: ignore[no-untyped-def]
        asked.append((question, dict(known)))
        return [1, "x", None]

    values = values_of(script.lets, ask)
    assert asked == [("SELECT id\n  FROM boats WHERE length > :n", {"since": "2026-06-01", "n": 5})]
    one, two = script.with_values({**values, "b": 9})
    assert one.statement.text() == "SELECT ?, ?, * FROM t WHERE a IN (?, ?, ?) AND b = ?"
    assert one.statement.values == ("2026-06-01", 5, 1, "x", None, 9)
    assert one.text.startswith("let since")
    assert one.text[one.place(one.sql.index("b = "))] == "b"
    assert two.text[two.place(two.sql.index("nme")) :] == "nme"
    assert text[script.pieces[1].at :] == "SELECT nme"
    empty = script.with_values({**values, "large": ()})[0]
    assert "IN (?)" in empty.sql


@pytest.mark.parametrize(
    ("text", "value", "question", "follows"),
    [
        ("let a = 'x' -- the boat's\nSELECT 1", "x", "", "SELECT 1"),
        ("let a = 'x\ny; z';\nSELECT 1", "x\ny; z", "", "SELECT 1"),
        ("let a = two words; SELECT 1", "two words", "", "SELECT 1"),
        ("let a = /* of\ntwo lines */ 5\nSELECT 1", 5, "", "SELECT 1"),
        ("let a = NULL\r\nSELECT 1", None, "", "SELECT 1"),
        ("let a = (SELECT ')' -- )\n);\nSELECT 1", None, "SELECT ')' -- )", "SELECT 1"),
        ("let a = (SELECT (2)) -- (\nSELECT 1", None, "SELECT (2)", "SELECT 1"),
    ],
)
def test_a_named_value_ends_with_its_line_or_a_semicolon(
    text: str, value: object, question: str, follows: str
) -> None:
    script = script_of(text, SQLITE)
    assert script.lets == (("a", value, question),)
    assert [piece.text for piece in script.pieces] == [follows]


@pytest.mark.parametrize(
    "text",
    [
        "let a = (SELECT 1",
        "let a = (SELECT 1))\nSELECT 1",
        "let a = (SELECT 1) + (2)\nSELECT 1",
        "let a = 'never closed\nSELECT 1",
        "let a =\nSELECT 1",
    ],
)
def test_a_named_value_that_has_none_is_said(text: str) -> None:
    with pytest.raises(StatementRefused):
        script_of(text, SQLITE)


@pytest.mark.parametrize("text", ["lettuce = 1", "SELECT 1\nlet a = 2", "let", "LET us = go"])
def test_what_is_no_named_value(text: str) -> None:
    assert len(script_of(text, SQLITE).lets) == (text == "LET us = go")


@pytest.mark.parametrize(
    ("script", "chosen"),
    [
        ("let a = 1;\nlet b = 2\nSELECT :a; SELECT :b|", "let a = 1;\nlet b = 2\nSELECT :b"),
        ("let a =| 1;\nSELECT :a; SELECT 2", "let a = 1;\nSELECT :a"),
        ("let a = 1\nSELECT :a; |SELECT 2|; SELECT 3", "let a = 1\nSELECT 2"),
        ("|let a = 1\nSELECT :a|; SELECT 2", "let a = 1\nSELECT :a"),
        ("let a = 1\n|", ""),
        ("SELECT 1; SELECT| 2", "SELECT 2"),
    ],
)
def test_a_chosen_statement_has_the_values_named_before(script: str, chosen: str) -> None:
    before, *rest = script.split("|")
    text = before + "".join(rest)
    end = len(before) + (len(rest[0]) if len(rest) == 2 else 0)
    assert chosen_of(text, len(before), end, SQLITE) == chosen


def test_results_of_two_runs_are_compared(tmp_path: Path) -> None:
    def kept(name: str, rows: list[tuple[StoredValue, ...]]) -> Path:
        boats = Table(TableId("boats"), "table", (Column("id", key_position=1), Column("name")))
        result = ResultFile(tmp_path / name, schema=Schema((boats,)))
        result.begin([ResultColumn("id", table=TableId("boats"), column="id"), ResultColumn("n")])
        result.take(rows)
        result.end(complete=True)
        return result.path

    one = kept("1.db", [(1, "a"), (2, "b"), (3, "c")])
    other = kept("2.db", [(4, "d"), (2, "B"), (1, "a")])
    changes = compared(one, other, Scope())
    assert {(r.kind, r.key) for r in changes.tables[0].records} == {
        ("added", (4,)), ("changed", (2,)), ("removed", (3,)),
    }  # fmt: skip
    assert compared(one, one, Scope()).empty
    # Where the key comes twice, rows are told by all that is in them.
    twice = kept("3.db", [(1, "a"), (1, "a"), (2, "b"), (3, "c")])
    (table,) = compared(one, twice, Scope()).tables
    assert [(r.kind, r.after) for r in table.records] == [("added", (1, "a"))]
