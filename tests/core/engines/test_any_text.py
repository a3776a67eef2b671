"""Text that is not valid in its encoding, in keys too: shown, ordered, compared, put back."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import JondelCommand
from jondel.core.engines.needed import statements_of
from jondel.core.engines.registry import open_database
from jondel.core.model.filters import Arrangement, OrderKey
from jondel.core.model.values import InvalidText

_BAD = b"\xff\xfeA"


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / "app.db"
    _write(
        path,
        "CREATE TABLE t(k TEXT, n INTEGER, v, PRIMARY KEY (k, n)) WITHOUT ROWID",
        "INSERT INTO t VALUES ('ok', 1, 'a'), (CAST(x'fffe41' AS TEXT), 2, 'b'), "
        "(CAST(x'80' AS TEXT), 3, 'c')",
        "CREATE VIEW w AS SELECT v, k FROM t",
    )
    return path


def _write(path: Path, *statements: str) -> None:
    with closing(sqlite3.connect(path)) as connection:
        for statement in statements:
            connection.execute(statement)
        connection.commit()


def test_rows_are_found_and_ordered_by_such_keys(path: Path) -> None:
    with closing(open_database(path)) as database:
        table, view = (database.schema().named(name) for name in "tw")
        assert table is not None
        assert view is not None
        positions = database.rows.read_window(table, 0, 10).positions
        assert positions == (("ok", 1), (InvalidText(b"\x80"), 3), (InvalidText(_BAD), 2))
        for number, position in enumerate(positions):
            assert database.rows.ordinal_of(table, position) == number
            assert database.rows.read_record(table, position, 99) is not None
            assert database.rows.find_position(table, ("k", "n"), position) == position
        order = database.finder.arrange(table, Arrangement(None, (OrderKey("v", True),)))
        assert [order.ordinal_of(position) for position in positions] == [2, 0, 1]
        assert database.finder.tally(table, "v", Arrangement(), positions[1:]).rows == 2
        assert [hit.position for hit in database.finder.find_text(table, "b")] == [positions[2]]
        made = database.finder.arrange(view, Arrangement(None, (OrderKey("v"),)))
        rows = database.rows.read_window(view, 0, 9, order=made).rows
        assert rows == (("a", "ok"), ("b", InvalidText(_BAD)), ("c", InvalidText(b"\x80")))


def test_they_are_compared_asked_for_and_restored(jondel: JondelCommand, path: Path) -> None:
    assert jondel("snapshot", path).returncode == 0
    _write(path, "UPDATE t SET v = 'z' WHERE n = 2", "DELETE FROM t WHERE n = 3")
    (found,) = json.loads(jondel("diff", path, "s1", "--json").stdout)["tables"]
    assert found["changed"][0]["key"] == {"k": {"text_base64": "//5B"}, "n": 2}
    assert found["removed"][0]["key"] == {"k": {"text_base64": "gA=="}, "n": 3}
    asked = json.loads(jondel("query", path, "SELECT k, n FROM t ORDER BY n", "--json").stdout)
    assert asked["rows"] == [["ok", 1], [{"text_base64": "//5B"}, 2]]
    assert jondel("restore", path, "s1", "--yes").returncode == 0
    with closing(sqlite3.connect(path)) as connection:
        rows = connection.execute("SELECT hex(k), v FROM t ORDER BY n").fetchall()
    assert rows == [("6F6B", "a"), ("FFFE41", "b"), ("80", "c")]


def test_utf_16_that_is_not_valid_is_not_made_into_something_else(tmp_path: Path) -> None:
    path = tmp_path / "app.db"
    _write(
        path,
        "PRAGMA encoding = 'UTF-16le'",
        "CREATE TABLE t(v)",
        "INSERT INTO t VALUES (CAST(x'00d84100' AS TEXT)), ('fine')",
    )
    with closing(open_database(path)) as database:
        table = database.schema().named("t")
        assert table is not None
        expected = ((InvalidText(bytes.fromhex("00d84100")),), ("fine",))
        assert database.rows.read_window(table, 0, 9).rows == expected
        assert statements_of(database).execute("SELECT v FROM t").rows == expected
        assert [r for b in database.scanner.stream_rows(table, ["v"], []) for r in b] == list(
            expected
        )


def test_json_is_a_whole_document_where_a_table_cannot_be_read(
    jondel: JondelCommand, tmp_path: Path
) -> None:
    path = tmp_path / "app.db"
    _write(path, "CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'a')")
    _write(
        path,
        "PRAGMA writable_schema = ON",
        "INSERT INTO sqlite_schema VALUES ('table', 'shapes', 'shapes', 0, "
        "'CREATE VIRTUAL TABLE shapes USING a_module_of_the_app(x)')",
    )
    assert jondel("snapshot", path).returncode == 0
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("UPDATE t SET v = 'b'")
        connection.commit()
    for words in (("diff", path, "s1", "--json"), ("compare", path, path, "--json"),
                  ("record", path, "--json", "--", "true")):  # fmt: skip
        told = jondel(*words)
        assert told.returncode == 0, told.stderr
        document = json.loads(told.stdout)
        if document["tables"]:
            assert [entry["table"] for entry in document["unread"]] == ["shapes"]


def test_a_tally_of_chosen_keys_counts_all_of_them(tmp_path: Path) -> None:
    path = tmp_path / "app.db"
    _write(
        path,
        "CREATE TABLE t(k TEXT PRIMARY KEY, v) WITHOUT ROWID",
        "WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 12000) "
        "INSERT INTO t SELECT 'key ' || i, 2 FROM n",
    )
    with closing(open_database(path)) as database:
        table = database.schema().named("t")
        assert table is not None
        positions = [(f"key {number}",) for number in range(1, 11_501)]
        found = database.finder.tally(table, "v", Arrangement(), positions)
        assert (found.rows, found.total) == (11_500, 23_000)


def test_a_table_is_a_shadow_where_the_engine_says_so_and_not_by_its_name(tmp_path: Path) -> None:
    path = tmp_path / "app.db"
    _write(
        path,
        "CREATE VIRTUAL TABLE docs USING fts5(body)",
        "CREATE VIRTUAL TABLE docs_more USING fts5(body)",
        "CREATE TABLE docs_extra(x)",
    )
    with closing(open_database(path)) as database:
        owners = {table.name: table.shadow_of for table in database.schema().tables}
    assert owners["docs_data"] == "docs"
    assert owners["docs_more_data"] == "docs_more"
    assert owners["docs_extra"] == owners["docs"] == ""
