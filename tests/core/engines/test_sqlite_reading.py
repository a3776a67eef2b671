"""Windows, records, positions and streams of rows, against plain SQL."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

import hostile
from conftest import MakeDatabase, OpenApp
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database, Extent
from jondel.core.errors import (
    Cancelled,
    StatementFailed,
    StatementRefused,
    TableUnreadable,
)
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, InvalidText

Opened = Callable[[Path], Database]

_SHAPES = {
    "dense row ids": (
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)",
        "WITH RECURSIVE n(i) AS (SELECT 5 UNION ALL SELECT i+1 FROM n WHERE i < 1004) "
        "INSERT INTO t SELECT i, 'v' || i FROM n",
    ),
    "gaps": (
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 1000) "
        "INSERT INTO t SELECT i * i - 300, 'v' || i FROM n",
    ),
    "hidden row ids": (
        "CREATE TABLE t(v TEXT)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 1000) "
        "INSERT INTO t SELECT 'v' || (i % 7) FROM n",
        "DELETE FROM t WHERE rowid % 10 = 3",
    ),
    "text key": (
        "CREATE TABLE t(k TEXT COLLATE NOCASE, n INT, v, PRIMARY KEY(k, n)) WITHOUT ROWID",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 900) "
        "INSERT INTO t SELECT substr('aAbBcC', i % 6 + 1, 1), i, i FROM n",
    ),
    "no rows": ("CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)",),
}


def _table(database: Database, name: str = "t") -> Table:
    found = database.schema().named(name)
    assert found is not None
    return found


def _expected(path: Path, table: Table) -> list[tuple[Any, ...]]:
    order = ", ".join(table.position_columns)
    with closing(sqlite3.connect(path)) as connection:
        return connection.execute(f"SELECT * FROM t ORDER BY {order}").fetchall()


@pytest.mark.parametrize("shape", list(_SHAPES))
def test_a_window_anywhere_holds_the_rows_that_are_there(
    make: MakeDatabase, opened: Opened, shape: str
) -> None:
    """Whatever help is given to find it: none, the extent, the row before, or the row after."""
    path = make(*_SHAPES[shape])
    database = opened(path)
    table = _table(database)
    expected = _expected(path, table)
    extent = database.rows.measure(table)
    assert extent.rows == len(expected)
    everything = database.rows.read_window(table, 0, len(expected) + 1)
    assert list(everything.rows) == expected
    chance = random.Random(1)
    for _ in range(40):
        offset = chance.randrange(len(expected) + 1) if expected else 0
        limit = chance.randint(1, 50)
        rows = expected[offset : offset + limit]
        after = everything.positions[offset - 1] if offset else None
        end = offset + limit
        before = everything.positions[end] if end < len(expected) else None
        for help_given in (
            {},
            {"extent": extent},
            {"extent": extent, "after": after},
            {"extent": Extent(extent.rows), "before": before},
        ):
            window = database.rows.read_window(table, offset, limit, **help_given)  # type: ignore[arg-type]
            assert list(window.rows) == rows, (offset, limit, help_given)
            assert window.offset == offset


@pytest.mark.parametrize("shape", list(_SHAPES))
def test_a_position_leads_back_to_its_row_and_its_place(
    make: MakeDatabase, opened: Opened, shape: str
) -> None:
    path = make(*_SHAPES[shape])
    database = opened(path)
    table = _table(database)
    window = database.rows.read_window(table, 0, 10_000)
    for ordinal in range(0, len(window.rows), 97):
        position = window.positions[ordinal]
        assert database.rows.ordinal_of(table, position) == ordinal
        assert database.rows.read_record(table, position, 1000) == window.rows[ordinal]
    assert database.rows.read_record(table, (-(10**6),) * len(table.position_columns), 10) is None


def test_only_row_numbers_without_a_gap_are_called_dense(
    make: MakeDatabase, opened: Opened
) -> None:
    dense = opened(make(*_SHAPES["dense row ids"], name="a.db"))
    assert dense.rows.measure(_table(dense)) == Extent(1000, 5)
    gaps = opened(make(*_SHAPES["gaps"], name="b.db"))
    assert gaps.rows.measure(_table(gaps)) == Extent(1000, None)


def test_keys_equal_under_their_collation_are_found_apart(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(
        "CREATE TABLE t(k TEXT COLLATE NOCASE, v)",
        "INSERT INTO t VALUES ('Greeting', 1), ('greeting', 2), (NULL, 3), (7, 4), ('7', 5)",
    )
    database = opened(path)
    table = _table(database)
    found = [
        database.rows.find_position(table, ["k"], [key]) for key in ("greeting", None, "7", "x")
    ]
    assert found == [(2,), (3,), (4,), None] or found == [(2,), (3,), (5,), None]
    assert database.rows.find_position(table, ["k"], ["Greeting"]) == (1,)


def test_large_values_come_clipped_in_windows_and_whole_in_streams(
    hostile_database: Path, opened: Opened
) -> None:
    database = opened(hostile_database)
    table = _table(database, "large")
    row = database.rows.read_window(table, 0, 1).rows[0]
    assert row[1] == Clipped("blob", 20_000_000, bytes(1024))
    assert row[2] == Clipped("text", 5_000_000, b"x" * 1024)
    ((streamed,),) = database.scanner.stream_rows(table, table.column_names, ["id"])
    assert streamed == (1, bytes(20_000_000), "x" * 5_000_000)
    record = database.rows.read_record(table, (1,), 6_000_000)
    assert record is not None
    assert record[2] == "x" * 5_000_000


@pytest.mark.parametrize("encoding", ["UTF-8", "UTF-16le", "UTF-16be"])
def test_text_of_any_encoding_and_validity_is_read(
    make: MakeDatabase, opened: Opened, encoding: str
) -> None:
    invalid = "66ff6f80" if encoding == "UTF-8" else "00d8"
    path = make(
        f"PRAGMA encoding='{encoding}'",
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)",
        "INSERT INTO t(v) VALUES ('größe ⚓'), (NULL), ('a' || char(0) || 'b')",
        name=f"{encoding}.db",
    )
    if encoding == "UTF-8":
        with closing(sqlite3.connect(path)) as connection:
            connection.execute(f"INSERT INTO t(v) VALUES (CAST(X'{invalid}' AS TEXT))")
            connection.commit()
    database = opened(path)
    table = _table(database)
    expected: list[Any] = ["größe ⚓", None, "a\x00b"]
    if encoding == "UTF-8":
        expected.append(InvalidText(bytes.fromhex(invalid)))
    window = database.rows.read_window(table, 0, 10)
    assert [row[1] for row in window.rows] == expected
    streamed = [
        row for batch in database.scanner.stream_rows(table, ["v"], ["id"]) for row in batch
    ]
    assert [row[0] for row in streamed] == expected


def test_streams_are_ordered_by_bytes_whatever_the_collation_or_encoding(
    make: MakeDatabase, opened: Opened
) -> None:
    words = ["b", "B", "a", "ä", "\U0001f6a2", "\uffee", "", "Z"]
    for encoding in ("UTF-8", "UTF-16le"):
        path = make(
            f"PRAGMA encoding='{encoding}'",
            "CREATE TABLE t(k TEXT COLLATE NOCASE)",
            *(f"INSERT INTO t VALUES ('{word}')" for word in words),
            "INSERT INTO t VALUES (NULL), (X'00')",
            name=f"{encoding}.db",
        )
        database = opened(path)
        rows = [
            r[0] for b in database.scanner.stream_rows(_table(database), ["k"], ["k"]) for r in b
        ]
        assert rows == [None, *sorted(words, key=lambda word: word.encode()), b"\x00"]


def test_a_table_of_the_most_columns_possible_is_read_whole(
    hostile_database: Path, opened: Opened
) -> None:
    database = opened(hostile_database)
    table = _table(database, "many_columns")
    row = database.rows.read_window(table, 0, 5).rows[0]
    assert (len(row), row[0], row[8]) == (2000, 1, 7)
    columns = [*table.column_names, "rowid"]
    ((streamed,),) = database.scanner.stream_rows(table, columns, ["id"])
    assert streamed == (*row, 1)


def test_names_of_any_kind_can_be_read(hostile_database: Path, opened: Opened) -> None:
    database = opened(hostile_database)
    for name in hostile.NAMES.values():
        table = _table(database, name)
        assert table.column_names == ("order", name, "a b")
        assert database.rows.read_window(table, 0, 5).rows[0][0] == hostile.MARKUP


def test_a_broken_view_is_listed_with_its_reason_and_disturbs_nothing(
    hostile_database: Path, opened: Opened
) -> None:
    database = opened(hostile_database)
    broken = _table(database, "broken")
    assert "gone" in (broken.unreadable or "")
    with pytest.raises(TableUnreadable, match="gone"):
        database.rows.measure(broken)
    fine = _table(database, "fine")
    assert database.rows.measure(fine).rows == database.rows.measure(_table(database, "texts")).rows


def test_a_table_whose_collation_only_the_app_knows_can_be_read(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make("CREATE TABLE other(id)")
    with closing(sqlite3.connect(path)) as connection:
        connection.create_collation("by_tide", lambda a, b: (a > b) - (a < b))
        connection.execute("CREATE TABLE t(k TEXT PRIMARY KEY COLLATE by_tide, v) WITHOUT ROWID")
        connection.execute("INSERT INTO t VALUES ('ebb', 1), ('flood', 2)")
        connection.commit()
    database = opened(path)
    assert len(database.rows.read_window(_table(database), 0, 10).rows) == 2
    assert any("by_tide" in notice for notice in database.notices)


def test_virtual_tables_are_read_and_their_shadow_tables_are_internal(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(
        "CREATE VIRTUAL TABLE notes USING fts5(title, body)",
        "INSERT INTO notes VALUES ('tide', 'low at noon')",
    )
    database = opened(path)
    shown = [t.name for t in database.schema().tables if not t.internal]
    assert shown == ["notes"]
    assert database.rows.read_window(_table(database, "notes"), 0, 5).rows == (
        ("tide", "low at noon"),
    )


def test_the_schema_tells_columns_keys_and_links(harbour: Path, opened: Opened) -> None:
    bookings = _table(opened(harbour), "bookings")
    assert bookings.primary_key == ("id",)
    (link,) = bookings.links_from("berth_id")
    assert (str(link.target_table), link.target_columns) == ("berths", ("id",))
    status = bookings.column("status")
    assert status is not None
    assert (status.type.name, status.not_null, status.default) == ("TEXT", True, "'held'")


def test_the_schema_is_read_anew_after_it_changed(
    make: MakeDatabase, opened: Opened, app: OpenApp
) -> None:
    path = make("CREATE TABLE t(id)")
    database = opened(path)
    assert _table(database).column_names == ("id",)
    app(path).run("ALTER TABLE t ADD COLUMN v DEFAULT 3")
    assert _table(database).column_names == ("id", "v")


@pytest.mark.parametrize(
    ("default", "expected"),
    [
        pytest.param("", (None, True), id="none"),
        pytest.param("DEFAULT 7", (7, True), id="whole"),
        pytest.param("DEFAULT '7'", (7, True), id="affinity-applies"),
        pytest.param("DEFAULT (1 + 1)", (2, True), id="expression"),
        pytest.param("DEFAULT CURRENT_TIMESTAMP", (None, False), id="current-time"),
    ],
)
def test_the_default_filled_into_a_new_column(
    make: MakeDatabase, opened: Opened, default: str, expected: tuple[object, bool]
) -> None:
    database = opened(make(f"CREATE TABLE t(id, v INTEGER {default})"))
    assert database.scanner.default_of(_table(database), "v") == expected


@pytest.mark.parametrize(
    ("sql", "rows"),
    [
        pytest.param("SELECT 1, 'a' -- and a remark", ((1, "a"),), id="select"),
        pytest.param("  ;; SELECT 2 ;  ", ((2,),), id="stray-semicolons"),
        pytest.param("WITH a AS (SELECT 3) SELECT * FROM a", ((3,),), id="with"),
        pytest.param("VALUES (4)", ((4,),), id="values"),
        pytest.param("PRAGMA table_info(t)", ((0, "id", "", 0, None, 0),), id="reading-pragma"),
        pytest.param("SELECT * FROM t", (), id="no-rows"),
    ],
)
def test_statements_that_read_are_run(
    make: MakeDatabase, opened: Opened, sql: str, rows: tuple[tuple[object, ...], ...]
) -> None:
    result = opened(make("CREATE TABLE t(id)")).statements.execute(sql)
    assert result.rows == rows
    assert result.columns


@pytest.mark.parametrize(
    "sql",
    [
        "INSERT INTO t VALUES (1)",
        "DELETE FROM t",
        "WITH a AS (SELECT 1) INSERT INTO t SELECT * FROM a",
        "CREATE TABLE u(id)",
        "DROP TABLE t",
        "ATTACH 'other.db' AS other",
        "VACUUM INTO 'copy.db'",
        "BEGIN",
        "PRAGMA journal_mode=WAL",
        "PRAGMA user_version=5",
        "PRAGMA query_only=0",
        "SELECT 1; SELECT 2",
        "SELECT 1; DROP TABLE t",
        "",
        "-- nothing",
    ],
)
def test_statements_that_would_write_or_are_not_one_are_refused(
    make: MakeDatabase, opened: Opened, tmp_path: Path, sql: str
) -> None:
    path = make("CREATE TABLE t(id)")
    before = path.read_bytes()
    with pytest.raises(StatementRefused):
        statements_of(opened(path)).execute(sql)
    assert path.read_bytes() == before
    assert sorted(p.name for p in tmp_path.iterdir()) == ["app.db"]


def test_a_wrong_statement_is_answered_in_the_engines_words(
    make: MakeDatabase, opened: Opened
) -> None:
    with pytest.raises(StatementFailed, match="no such column: tide"):
        opened(make("CREATE TABLE t(id)")).statements.execute("SELECT tide FROM t")


def test_a_limit_says_when_rows_are_left_out(make: MakeDatabase, opened: Opened) -> None:
    database = opened(make("CREATE TABLE t(id)", "INSERT INTO t VALUES (1), (2), (3)"))
    assert not statements_of(database).execute("SELECT * FROM t", limit=2).complete
    assert statements_of(database).execute("SELECT * FROM t", limit=3).complete


def test_an_interrupt_stops_a_long_statement(make: MakeDatabase, opened: Opened) -> None:
    import threading

    database = opened(make("CREATE TABLE t(id)"))
    threading.Timer(0.2, database.interrupt).start()
    with pytest.raises(Cancelled):
        statements_of(database).execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n"
        )
    database.resume()
    assert statements_of(database).execute("SELECT 1").rows == ((1,),)
