"""Tables whose order only the app knows are scanned: nothing is missed, and nothing is written.

The app's collations differ from what stands in for them here in every way that matters: one is
reversed, one takes different texts for the same.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import apsw
import pytest

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.needed import statements_of, writer_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import StatementRefused
from jondel.core.model.filters import Arrangement, ColumnCondition, OrderKey
from jondel.core.trail.trail import Trail

_ROWS = 120
_NAMES = [f"Name {number:03}" for number in range(_ROWS)]


def _compared(one: str, other: str) -> int:
    return (one > other) - (one < other)


def _app(path: Path) -> apsw.Connection:
    connection = apsw.Connection(str(path))
    connection.create_collation("backwards", lambda one, other: _compared(other, one))
    connection.create_collation("folded", lambda one, other: _compared(one.lower(), other.lower()))
    return connection


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / "app.db"
    with closing(_app(path)) as app:
        app.execute(
            "CREATE TABLE kept_by_key(k TEXT PRIMARY KEY COLLATE backwards, v) WITHOUT ROWID;"
            "CREATE TABLE numbered(id INTEGER PRIMARY KEY, k TEXT COLLATE folded UNIQUE, v);"
            "CREATE TABLE plain(k TEXT COLLATE NOCASE PRIMARY KEY);"
            "CREATE VIEW joined AS SELECT a.k, b.v FROM kept_by_key a JOIN numbered b ON a.k = b.k;"
            "CREATE VIEW over_it AS SELECT * FROM joined"
        )
        for number, name in enumerate(_NAMES):
            app.execute("INSERT INTO kept_by_key VALUES (?, ?)", (name, number))
            app.execute("INSERT INTO numbered VALUES (?, ?, ?)", (number, name, number))
    return path


@pytest.fixture
def database(path: Path) -> Iterator[Database]:
    with closing(open_database(path)) as opened:
        yield opened


@pytest.mark.parametrize("name", ["kept_by_key", "numbered", "joined", "over_it"])
def test_every_row_is_found_by_its_value(database: Database, name: str) -> None:
    table = database.schema().named(name)
    assert table is not None
    assert table.unknown_order
    for wanted in _NAMES[::7]:
        condition = ColumnCondition("k", "is", (wanted,))
        assert database.finder.arrange(table, Arrangement(condition)).rows == 1
        assert database.rows.matching_rows(table, (("k", wanted),), 5).rows
        sql = f"SELECT count(*) FROM {name} WHERE k = '{wanted}'"
        assert statements_of(database).execute(sql).rows == ((1,),)
        if table.position_columns:
            position = database.rows.find_position(table, ("k",), (wanted,))
            assert position is not None
            assert database.rows.read_record(table, position, 100) is not None
    between = ColumnCondition("k", "between", (_NAMES[10], _NAMES[19]))
    assert database.finder.arrange(table, Arrangement(between)).rows == 10


@pytest.mark.parametrize("name", ["kept_by_key", "numbered"])
def test_windows_and_places_agree_with_each_other(database: Database, name: str) -> None:
    table = database.schema().named(name)
    assert table is not None
    extent = database.rows.measure(table)
    first = database.rows.read_window(table, 0, 50, extent=extent)
    second = database.rows.read_window(table, 50, 100, after=first.positions[-1], extent=extent)
    positions = (*first.positions, *second.positions)
    assert len(set(positions)) == extent.rows == _ROWS
    assert [database.rows.ordinal_of(table, position) for position in positions] == list(
        range(_ROWS)
    )
    down = Arrangement(None, (OrderKey("k", True),))
    order = database.finder.arrange(table, down)
    rows = database.rows.read_window(table, 0, _ROWS, order=order).rows
    assert [row[table.column_names.index("k")] for row in rows] == _NAMES[::-1]


def test_a_key_that_its_collation_takes_for_the_same_is_another_key(tmp_path: Path) -> None:
    path = tmp_path / "app.db"
    with closing(_app(path)) as app:
        app.execute("CREATE TABLE t(k TEXT PRIMARY KEY COLLATE folded, v) WITHOUT ROWID")
        for name in ("Aft", "Greeting", "harbour"):
            app.execute("INSERT INTO t VALUES (?, 1)", (name,))
        with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
            before = trail.take(database)
            app.execute("UPDATE t SET k = 'greeting' WHERE k = 'Greeting'")
            with trail.both_sides(before, database) as sides:
                assert sides is not None
                for by_pages in (True, False):
                    (found,) = compare(*sides, Scope(by_pages=by_pages)).tables
                    kinds = {record.kind: record.key for record in found.records}
                    assert kinds == {"removed": ("Greeting",), "added": ("greeting",)}


def test_it_is_said_and_nothing_is_written(database: Database) -> None:
    (notice,) = database.notices
    assert "backwards" in notice
    assert "numbered" in notice
    for name, refused in (("kept_by_key", True), ("numbered", True), ("plain", False)):
        table = database.schema().named(name)
        assert table is not None
        assert bool(writer_of(database).why_not_written(table)) is refused


@pytest.mark.parametrize(
    "sql",
    [
        "SELECT * FROM main.numbered WHERE k = 'x'",
        "PRAGMA integrity_check",
        "PRAGMA quick_check(numbered)",
    ],
)
def test_what_would_trust_the_order_is_refused(database: Database, sql: str) -> None:
    with pytest.raises(StatementRefused, match="order"):
        statements_of(database).execute(sql)
    assert statements_of(database).execute("PRAGMA integrity_check(plain)").rows == (("ok",),)
