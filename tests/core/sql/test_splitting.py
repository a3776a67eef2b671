"""Scripts are cut where the engine would, and nothing of them is lost."""

from __future__ import annotations

from contextlib import closing

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.engines.postgresql.dialect import DIALECT as POSTGRESQL
from jondel.core.engines.sqlite.dialect import DIALECT as SQLITE
from jondel.core.sql.splitting import split, statement_at, statements_in
from jondel.core.sql.tokens import tokens

BOTH = [SQLITE.lexis, POSTGRESQL.lexis]
TRIGGER = (
    "CREATE TEMP TRIGGER t AFTER INSERT ON a BEGIN "
    "UPDATE a SET end = CASE WHEN 1 THEN 2 END; DELETE FROM a; END"
)
CASES = [
    ("", []),
    (" ;; -- nothing\n;", []),
    ("SELECT 1", ["SELECT 1"]),
    ("SELECT 1; SELECT 2;", ["SELECT 1", "SELECT 2"]),
    ("SELECT ';' ; SELECT \";\" -- ; \n; /* ; */ SELECT 3", None),
    ("-- first\nSELECT 1 -- one\n;\n-- last", ["SELECT 1"]),
    ("SELECT 'it''s; fine'; SELECT 2", ["SELECT 'it''s; fine'", "SELECT 2"]),
    ("SELECT 'open; SELECT 2", ["SELECT 'open; SELECT 2"]),
    ("SELECT (1; SELECT 2", ["SELECT (1", "SELECT 2"]),
]


@pytest.mark.parametrize("lexis", BOTH)
@pytest.mark.parametrize(("script", "statements"), CASES)
def test_common_scripts(script: str, statements: list[str] | None, lexis) -> None:
    found = [piece.text for piece in statements_in(script, lexis)]
    wanted = ["SELECT ';'", 'SELECT ";"', "SELECT 3"] if statements is None else statements
    assert found == wanted


def test_words_of_sqlite() -> None:
    script = f"{TRIGGER}; EXPLAIN {TRIGGER};SELECT [a;b], `c;d` FROM t; SELECT $a::b(;"
    found = [piece.text for piece in statements_in(script, SQLITE.lexis)]
    assert found == [TRIGGER, f"EXPLAIN {TRIGGER}", "SELECT [a;b], `c;d` FROM t", "SELECT $a::b("]


def test_words_of_postgresql() -> None:
    whole = [
        "CREATE FUNCTION f() RETURNS int LANGUAGE plpgsql AS $body$ BEGIN RETURN 1; END $body$",
        "DO $$ BEGIN PERFORM 1; END $$",
        "SELECT E'it\\'s; \\\\', 'back\\', U&'d\\0061t;'",
        "SELECT 1",
        "CREATE RULE r AS ON INSERT TO t DO ALSO (INSERT INTO u VALUES (1); DELETE FROM v)",
        "CREATE FUNCTION g() RETURNS int BEGIN ATOMIC SELECT 1; SELECT CASE WHEN TRUE THEN 2 END; "
        "END",
        "SELECT a[1], b::text, '{}'::jsonb ? 'k', $1 FROM t",
        "BEGIN",
        "CREATE TABLE t (x int)",
        "END",
    ]
    script = ";\n".join(whole[:3]) + ";\n/* a /* b; */ ; */ SELECT 1;" + ";".join(whole[4:])
    found = [piece.text for piece in statements_in(script, POSTGRESQL.lexis)]
    assert found == whole


@pytest.mark.parametrize("lexis", BOTH)
@given(script=st.lists(st.sampled_from([
    *"'\"`[]();$:@?%/*-\\\n ", "SELECT", "BEGIN", "END", "CREATE", "TRIGGER", "RULE", "ATOMIC",
    "FUNCTION", "a", "1", "--", "/*", "*/", "$$", "$x$", "E'", "CASE", "é", "\0", "x'0'",
])).map("".join))  # fmt: skip
def test_pieces_are_the_script(lexis, script: str) -> None:
    pieces = split(script, lexis)
    assert "".join(script[piece.start : piece.end] for piece in pieces) == script
    assert pieces[0].start == 0
    assert pieces[-1].end == len(script)
    for piece in pieces:
        assert script[piece.at : piece.at + len(piece.text)] == piece.text
    covered = "".join(token.text for token in tokens(script, lexis))
    assert "".join(covered.split()) == "".join(script.split())
    for cursor in range(len(script) + 1):
        at = statement_at(script, cursor, lexis)
        assert at is None or at in pieces


STATEMENTS = [
    "SELECT 1", "SELECT 'a;''b'", 'SELECT ";" AS ";"', "/* ; */ SELECT 2 -- ;\n", TRIGGER,
    "SELECT X'3b' /* ; */", "VALUES (';')", "CREATE TABLE [a;b](`c;d`)", "SELECT 1.e1, .5, 0x1f",
    "INSERT INTO a VALUES (:a, @b, $c, ?4)", " ", "-- only ;\n",
]  # fmt: skip


@given(st.lists(st.sampled_from(STATEMENTS), max_size=6))
def test_as_the_engine_cuts(parts: list[str]) -> None:
    """SQLite itself says where each statement of a script ends."""
    script = "\n;".join(parts)
    with closing(apsw.Connection(":memory:")) as connection:
        connection.execute("CREATE TABLE a(b, c, d, end)")
        from apsw.ext import query_info

        theirs, rest = [], script
        while rest:
            details = query_info(connection, rest)
            theirs += [details.first_query] if details.has_vdbe else []
            rest = details.query_remaining or ""
    ours = [piece.text for piece in statements_in(script, SQLITE.lexis)]
    assert len(ours) == len(theirs)
    for our, their in zip(ours, theirs, strict=True):
        assert our in their


@pytest.mark.parametrize(
    ("script", "found"),
    [
        ("SELECT 1;| SELECT 2", "SELECT 1"),
        ("SELECT 1;\n|SELECT 2", "SELECT 2"),
        ("SELECT 1; \n\n|\nSELECT 2", "SELECT 2"),
        ("SELECT 1; -- done|\nSELECT 2", "SELECT 1"),
        ("SEL|ECT 1; SELECT 2", "SELECT 1"),
        ("SELECT 1;\n\n|", "SELECT 1"),
        ("|", None),
    ],
)
def test_the_statement_at_the_cursor(script: str, found: str | None) -> None:
    cursor = script.index("|")
    piece = statement_at(script.replace("|", ""), cursor, SQLITE.lexis)
    assert (piece.text if piece is not None else None) == found
