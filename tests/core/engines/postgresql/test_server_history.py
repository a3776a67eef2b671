"""What a snapshot of a server must see although no row says so: histories, columns, rights."""

from __future__ import annotations

import random
import shutil
from collections import Counter
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pytest

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.model.filters import Arrangement, WordsCondition
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail
from jondel.demo.private_server import private_server

App = psycopg.Connection[Any]


@pytest.fixture
def app(postgresql_database: str) -> Iterator[App]:
    with psycopg.connect(postgresql_database, autocommit=True) as connection:
        yield connection


@pytest.fixture
def database(postgresql_database: str, home: Any) -> Iterator[Database]:
    with closing(open_database(postgresql_database)) as opened:
        yield opened


@pytest.fixture
def trail(database: Database) -> Iterator[Trail]:
    with closing(Trail(database.location)) as opened:
        yield opened


def _run(app: App, *statements: str) -> None:
    for sql in statements:
        app.execute(sql)  # type: ignore[call-overload]


def _marked(changes: Changes) -> dict[str, str]:
    return {table.table.name: table.counts.marked() for table in changes.tables}


def _held(trail: Trail, snapshot: Snapshot, name: str) -> Counter[tuple[str, ...]]:
    """All rows of a table in a snapshot."""
    with trail.opened(snapshot) as state:
        table = state.schema().named(name)
        assert table is not None
        batches = state.scanner.stream_rows(table, table.column_names, table.position_columns)
        return Counter(tuple(map(repr, row)) for batch in batches for row in batch)


@pytest.mark.parametrize("columns", [("n", "r"), ("rowid", "oid"), ("t", "content")])
@pytest.mark.parametrize("value", ["NULL", "''", "'y'"])
def test_rows_that_are_alike_and_went_are_seen(
    database: Database, trail: Trail, app: App, columns: tuple[str, str], value: str
) -> None:
    """Also where columns are called what rows are told apart by."""
    one, two = columns
    _run(app, f'CREATE TABLE log("{one}" int, "{two}" text, _rowid_ int)',
         f"INSERT INTO log SELECT 1, {value} FROM generate_series(1, 5)")  # fmt: skip
    first = trail.take(database)
    some = "WHERE ctid IN (SELECT ctid FROM log LIMIT {})"
    for change, told in (
        (f"DELETE FROM log {some.format(3)}", "-3"),
        (f'UPDATE log SET "{one}" = 2 {some.format(1)}', "+1 -1"),
        (f"INSERT INTO log SELECT 1, {value} FROM generate_series(1, 3)", "+3"),
        (f"DELETE FROM log {some.format(2)}; INSERT INTO log VALUES (7)", "+1 -2"),
    ):
        _run(app, change)
        second = trail.take(database)
        assert _marked(trail.changes(first, second)) == {"log": told}
        first = second
        assert sum(_held(trail, first, "log").values()) == app.execute(
            "SELECT count(*) FROM log"
        ).fetchall()[0][0]  # fmt: skip


def test_a_database_that_is_made_again_from_a_template_is_read_anew(
    postgresql_database: str, postgresql: str, home: Any
) -> None:
    name = psycopg.conninfo.conninfo_to_dict(postgresql_database)["dbname"]
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)",
             "INSERT INTO boats SELECT i, 'kept' FROM generate_series(1, 20) i")  # fmt: skip
    with closing(open_database(postgresql_database)) as database, closing(
        Trail(database.location)
    ) as trail, psycopg.connect(postgresql, autocommit=True) as server:  # fmt: skip
        first = trail.take(database)
        _wait_for_copies(server, f"CREATE DATABASE {name}_kept TEMPLATE {name}")
        with psycopg.connect(postgresql_database, autocommit=True) as app:
            _run(app, "UPDATE boats SET name = 'changed'", "DELETE FROM boats WHERE id = 3")
        second = trail.take(database)
        _wait_for_copies(server, f"DROP DATABASE {name}")
        _run(server, f"CREATE DATABASE {name} TEMPLATE {name}_kept")
        third = trail.take(database)
        assert _marked(trail.changes(first, second)) == {"boats": "~19 -1"}
        assert _marked(trail.changes(second, third)) == {"boats": "+1 ~19"}
        assert trail.changes(first, third).empty
        assert restore(trail, database, second).changed
        assert _marked(trail.changes(first, database)) == {"boats": "~19 -1"}


def _wait_for_copies(server: App, sql: str) -> None:
    """What needs a database for itself: the server waits a few seconds for others to leave it."""
    _run(server, sql)


def test_a_data_folder_that_was_put_back_is_read_anew(tmp_path: Path, home: Any) -> None:
    """Also when as many transactions were committed since as are gone."""
    folder = Path("/tmp") / f"jondel-pg-{random.randrange(1 << 40):x}"
    kept = tmp_path / "kept"
    try:
        with private_server(folder, locale="C") as url, psycopg.connect(
            url, autocommit=True
        ) as app:  # fmt: skip
            _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)",
                 "INSERT INTO boats SELECT i, 'kept' FROM generate_series(1, 20) i",
                 "CHECKPOINT")  # fmt: skip
        shutil.copytree(folder / "data", kept, symlinks=True)
        for path in (folder / "data").rglob("*"):
            copied = kept / path.relative_to(folder / "data")
            shutil.copystat(path, copied)
        owner = (folder / "data").stat()
        with private_server(folder, locale="C") as url:
            with psycopg.connect(url, autocommit=True) as app:
                _run(app, *["UPDATE boats SET name = 'changed'"] * 5)
            with closing(open_database(url)) as database, closing(
                Trail(database.location)
            ) as trail:  # fmt: skip
                changed = trail.take(database)
        shutil.rmtree(folder / "data")
        shutil.copytree(kept, folder / "data", symlinks=True)
        for path in (folder / "data", *(folder / "data").rglob("*")):
            shutil.chown(path, owner.st_uid, owner.st_gid)
        with private_server(folder, locale="C") as url:
            with psycopg.connect(url, autocommit=True) as app:
                _run(app, *["UPDATE boats SET name = 'other' WHERE id = 7"] * 20)
            with closing(open_database(url)) as database, closing(
                Trail(database.location)
            ) as trail:  # fmt: skip
                now = trail.take(database)
                assert _marked(trail.changes(changed, now)) == {"boats": "~20"}
                assert len(_held(trail, now, "boats")) == 20
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.mark.parametrize("default", ["", " DEFAULT 'new'"])
def test_a_column_that_was_dropped_and_added_again_is_another_one(
    database: Database, trail: Trail, app: App, default: str
) -> None:
    _run(app, f"CREATE TABLE boats(id int PRIMARY KEY, name text{default})",
         f"CREATE TABLE tides(id int PRIMARY KEY, name text{default}) PARTITION BY RANGE (id)",
         "CREATE TABLE tides_1 PARTITION OF tides FOR VALUES FROM (0) TO (100)",
         "INSERT INTO boats SELECT i, 'old' FROM generate_series(1, 9) i",
         "INSERT INTO tides SELECT i, 'old' FROM generate_series(1, 9) i")  # fmt: skip
    first = trail.take(database)
    for table in ("boats", "tides"):
        _run(app, f"ALTER TABLE {table} DROP COLUMN name",
             f"ALTER TABLE {table} ADD COLUMN name text{default}")  # fmt: skip
    second = trail.take(database)
    assert _marked(trail.changes(first, second)) == {"boats": "~9", "tides": "~9"}
    restore(trail, database, first)
    found = app.execute("SELECT count(*) FROM boats JOIN tides USING (id) "
                        "WHERE boats.name = 'old' AND tides.name = 'old'")  # fmt: skip
    assert found.fetchall() == [(9,)]


def test_rows_that_come_into_sight_without_being_written_are_seen(
    postgresql_database: str, app: App, home: Any
) -> None:
    role, other = (f"mate_{random.randrange(1 << 30)}" for _ in range(2))
    _run(app, f"CREATE ROLE {role} LOGIN", f"CREATE ROLE {other}",
         "CREATE TABLE boats(id int PRIMARY KEY, harbour text)",
         f"GRANT ALL ON boats TO {role}, {other}",
         "INSERT INTO boats SELECT i, CASE WHEN i % 2 = 0 THEN 'ours' ELSE 'theirs' END "
         "FROM generate_series(1, 10) i")  # fmt: skip
    url = postgresql_database.replace("//jondel@", f"//{role}@")
    changes = (
        ("ALTER TABLE boats ENABLE ROW LEVEL SECURITY", 0),
        ("CREATE POLICY half ON boats USING (harbour = 'ours')", 5),
        ("DROP POLICY half ON boats; CREATE POLICY few ON boats USING (id < 3)", 2),
        ("ALTER TABLE boats DISABLE ROW LEVEL SECURITY", 10),
        (f"ALTER TABLE boats ENABLE ROW LEVEL SECURITY; ALTER ROLE {role} BYPASSRLS", 10),
        (f"ALTER ROLE {role} NOBYPASSRLS", 2),
        ("CREATE POLICY failing ON boats USING (current_setting('app.harbour') = harbour)", None),
        (f"ALTER ROLE {role} SET app.harbour = 'ours'", 6),
        ("DROP POLICY failing ON boats", 2),
        (f"GRANT jondel TO {role}; ALTER ROLE {role} SET role = jondel", 10),
        (f"ALTER ROLE {role} RESET role", 10),  # an owner by membership
        (f"REVOKE jondel FROM {role}", 2),
    )
    try:
        with closing(Trail(_location(url))) as trail:
            for sql, visible in (("SELECT 1", 10), *changes):
                _run(app, sql)
                with closing(open_database(url)) as database:
                    taken = trail.take(database)
                if visible is None:  # then that table alone cannot be read
                    with trail.opened(taken) as state:
                        boats = state.schema().by_id[TableId("public", "boats")]
                        assert "app.harbour" in (boats.unreadable or "")
                else:
                    assert len(_held(trail, taken, "boats")) == visible, sql
    finally:
        _run(app, f"DROP OWNED BY {role}", f"DROP OWNED BY {other}", f"DROP ROLE {role}",
             f"DROP ROLE {other}")  # fmt: skip


def _location(url: str) -> str:
    with closing(open_database(url)) as database:
        return database.location


def test_a_zero_that_changes_its_sign_is_a_change(
    database: Database, trail: Trail, app: App
) -> None:
    """As a value, as a key, as a part of one, and where rows have none."""
    _run(app, "CREATE TABLE cell(id int PRIMARY KEY, v float8, w real)",
         "CREATE TABLE key(v float8 PRIMARY KEY, x text)",
         "CREATE TABLE keys(v float8, id int, PRIMARY KEY (v, id))",
         "CREATE TABLE bare(v float8, x text)",
         "INSERT INTO cell VALUES (1, '-0', '-0')", "INSERT INTO key VALUES ('-0', 'a'), (1, 'b')",
         "INSERT INTO keys VALUES ('-0', 5), (0, 3), ('-0', 4)",
         "INSERT INTO bare VALUES ('-0', 'a'), (0, 'a'), ('-0', 'b'), ('NaN', 'c')")  # fmt: skip
    first = trail.take(database)
    _run(app, "UPDATE cell SET v = 0, w = 0", "UPDATE key SET v = 0 WHERE v = 0",
         "UPDATE keys SET v = 0 WHERE id = 4", "UPDATE bare SET v = 0 WHERE x = 'b'")  # fmt: skip
    second = trail.take(database)
    told = {"bare": "+1 -1", "cell": "~1", "key": "+1 -1", "keys": "+1 -1"}
    assert _marked(trail.changes(first, second)) == told
    restore(trail, database, first)
    assert trail.changes(first, database).empty
    assert app.execute("SELECT v::text, w::text FROM cell").fetchall() == [("-0", "-0")]


def test_records_of_a_partition_are_listed_once(database: Database, trail: Trail, app: App) -> None:
    _run(app, "CREATE TABLE tides(id int, month int, height real, PRIMARY KEY (month, id)) "
         "PARTITION BY RANGE (month)",
         "CREATE TABLE tides_1 PARTITION OF tides FOR VALUES FROM (0) TO (6)",
         "CREATE TABLE tides_2 PARTITION OF tides FOR VALUES FROM (6) TO (12)",
         "INSERT INTO tides SELECT i, i % 12, i FROM generate_series(1, 24) i")  # fmt: skip
    first = trail.take(database)
    _run(app, "ALTER TABLE tides DETACH PARTITION tides_2", "DELETE FROM tides_2 WHERE id = 7",
         "UPDATE tides_2 SET height = 0 WHERE id = 8",
         "INSERT INTO tides_2 VALUES (99, 7)")  # fmt: skip
    second = trail.take(database)
    _run(app, "ALTER TABLE tides ATTACH PARTITION tides_2 FOR VALUES FROM (6) TO (12)")
    third = trail.take(database)
    detached = trail.changes(first, second)
    assert _marked(detached) == {"tides": "-12", "tides_2": "+2"}
    assert [c.kind for c in detached.schema_changes if c.table] == ["partition detached"]
    assert _marked(trail.changes(second, third)) == {"tides": "+12"}
    assert _marked(trail.changes(first, third)) == {"tides": "+1 ~1 -1"}


@pytest.mark.parametrize("with_key", [True, False])
@pytest.mark.parametrize(("kind", "count"), [("text", 1598), ("numeric", 1100), ("int", 600)])
def test_wide_tables_stop_nothing(
    database: Database, trail: Trail, app: App, with_key: bool, kind: str, count: int
) -> None:
    columns = ", ".join(f"c{n} {kind}" for n in range(count))
    key = "id int PRIMARY KEY" if with_key else "id int"
    _run(app, f"CREATE TABLE wide({key}, {columns})", "CREATE TABLE boats(id int PRIMARY KEY)",
         "INSERT INTO wide(id, c1) VALUES (1, '7'), (2, '8'), (2 + 1, NULL)")  # fmt: skip
    first = trail.take(database)
    _run(app, "UPDATE wide SET c5 = '9' WHERE id = 2", "DELETE FROM wide WHERE id = 1",
         "INSERT INTO boats VALUES (1)")  # fmt: skip
    second = trail.take(database)
    told = "~1 -1" if with_key else "+1 -2"
    assert _marked(trail.changes(first, second)) == {"boats": "+1", "wide": told}
    wide = database.schema().by_id[TableId("public", "wide")]
    assert len(database.rows.read_window(wide, 0, 5).rows) == 2
    restore(trail, database, first)
    assert trail.changes(first, database).empty
    with trail.opened(first) as state:
        was = state.schema().by_id[wide.id]
        assert len(state.rows.read_window(was, 0, 5).rows) == 3
        assert len(list(state.finder.find_text(was, "7"))) == 1
        assert state.finder.arrange(was, Arrangement(WordsCondition("7"), ())).rows == 1


def test_a_table_that_cannot_be_read_stops_no_other(
    database: Database, trail: Trail, app: App
) -> None:
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)",
         "CREATE FUNCTION broken(int) RETURNS int LANGUAGE plpgsql IMMUTABLE AS "
         "'BEGIN RAISE EXCEPTION ''no''; END'",
         "CREATE TABLE docks(id int PRIMARY KEY, name text)",
         "INSERT INTO boats VALUES (1, 'a')", "INSERT INTO docks VALUES (1, 'a')")  # fmt: skip
    first = trail.take(database)
    (path,) = app.execute("SELECT pg_relation_filepath('docks')").fetchall()[0]
    (folder,) = app.execute("SHOW data_directory").fetchall()[0]
    _run(app, "UPDATE boats SET name = 'b'", "CHECKPOINT")
    file = Path(folder, path)
    content = file.read_bytes()
    try:
        file.write_bytes(b"\x01" * len(content))
        _run(app, "UPDATE boats SET name = 'c'", "DISCARD ALL")
        second = trail.take(database)
        assert _marked(trail.changes(first, second)) == {"boats": "~1"}
    finally:
        file.write_bytes(content)
