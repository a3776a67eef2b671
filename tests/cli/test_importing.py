"""``jondel import``: looked at, tried out, done; in scripts."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import JondelCommand, MakeDatabase

HARBOUR = (
    "CREATE TABLE piers(id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, pier INT NOT NULL REFERENCES piers, length REAL)",
    "INSERT INTO piers VALUES (1, 'north')",
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR)


@pytest.fixture
def boats(tmp_path: Path) -> Path:
    file = tmp_path / "boats.csv"
    file.write_text("pier;Length;colour\n1;7,5;red\n9;8;blue\n1;x;\n")
    return file


def _rows(path: Path, sql: str = "SELECT * FROM boats") -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as connection:
        return connection.execute(sql).fetchall()


def test_a_file_is_shown_and_nothing_is_written_without_being_told_to(
    jondel: JondelCommand, path: Path, boats: Path
) -> None:
    told = jondel("import", path, boats, "--type", "Length=comma-decimals")
    lines = told.stdout.splitlines()
    assert lines[0].split() == ["column", "goes", "into", "read", "as", "first", "value"]
    assert lines[1].split() == ["pier", "pier", "INT", "'1'"]
    assert "! 1 value; line 4: 'x' is not a number as in 1.234,50" in lines[2]
    assert "(left out)" in lines[3]
    assert "nothing was written" in told.stderr
    document = json.loads(jondel("import", path, boats, "--json").stdout)
    assert [column["into"] for column in document["columns"]] == ["pier", "length", None]
    assert document["columns"][1]["unfit"] == 2
    assert _rows(path) == []


def test_it_is_tried_out_then_done_and_what_is_rejected_is_kept(
    jondel: JondelCommand, path: Path, boats: Path, tmp_path: Path
) -> None:
    words = ("import", path, boats, "--type", "Length=comma-decimals")
    tried = jondel(*words, "--rehearse", "--json")
    document = json.loads(tried.stdout)
    assert document["rehearsed"] is True
    assert (document["imported"], document["rejected"]["rows"]) == (1, 2)
    assert document["tables"][0]["added"][0]["row"] == {"id": 1, "pier": 1, "length": 7.5}
    assert _rows(path) == []
    done = jondel(*words, "--write", "--json", "--rejects", tmp_path / "no.csv")
    document = json.loads(done.stdout)
    assert document["step"] == "s2"
    assert document["rejected"] == {
        "rows": 2,
        "file": str(tmp_path / "no.csv"),
        "reasons": [
            {"reason": "length: 'x' is not a number as in 1.234,50", "rows": 1},
            {"reason": "pier 9 points at nothing in piers", "rows": 1},
        ],
    }
    assert "2 rows rejected" in done.stderr
    assert _rows(path) == [(1, 1, 7.5)]
    assert "import boats.csv into boats" in jondel("trail", path).stdout
    # What was rejected is mended, and only that goes in.
    mended = tmp_path / "no.csv"
    mended.write_text(mended.read_text().replace(",9,", ",1,").replace(",x,", ",6,"))
    jondel("import", path, mended, "--into", "boats", "--write")
    assert _rows(path, "SELECT pier, length FROM boats WHERE id > 1") == [(1, 6.0), (1, 8.0)]


def test_strictly_nothing_goes_in_where_a_row_does_not(
    jondel: JondelCommand, path: Path, boats: Path
) -> None:
    told = jondel("import", path, boats, "--strict", "--write")
    assert told.returncode == 1
    assert "line 2: length: '7,5' is not a number; nothing was written" in told.stderr
    assert _rows(path) == []
    assert not boats.with_name("boats.rejected.csv").exists()


def test_a_new_table_is_made_as_one_says(jondel: JondelCommand, path: Path, boats: Path) -> None:
    jondel(
        *("import", path, boats, "--new", "--into", "fleet", "--match", "colour=paint"),
        *("--match", "Length=", "--type", "pier=TEXT", "--key", "colour", "--write"),
    )
    assert _rows(path, "SELECT sql FROM sqlite_schema WHERE name = 'fleet'") == [
        ("CREATE TABLE fleet (\n  pier TEXT,\n  paint TEXT PRIMARY KEY\n)",)
    ]
    assert _rows(path, "SELECT * FROM fleet") == [("1", "red"), ("9", "blue"), ("1", None)]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--into", "nope"), "there is no table nope; --new makes one"),
        (("--match", "x=pier"), "the file has no column x; it has pier, Length, colour"),
        (("--match", "colour=x"), "boats has the columns id, pier, length"),
        (("--match", "colour=pier"), "two columns of the file go into pier"),
        (("--type", "pier=TEXT"), "boats has its types"),
        (("--key", "pier"), "--key is for a table that is made"),
        (("--rehearse", "--write"), "give it or --write, not both"),
        (("--new",), "there is a table boats already"),
        (("--delimiter", "ab"), "separated by one character"),
    ],
)
def test_what_cannot_be_done_is_said(
    jondel: JondelCommand, path: Path, boats: Path, words: tuple[str, ...], said: str
) -> None:
    told = jondel("import", path, boats, *words)
    assert told.returncode in (1, 2)
    assert said in told.stderr
