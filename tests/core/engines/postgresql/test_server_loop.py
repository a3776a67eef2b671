"""The whole loop on a server: snapshot, act, see, put back, ask earlier states."""

from __future__ import annotations

import random
import sqlite3
import subprocess
import sys
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import date, timedelta
from pathlib import Path
from typing import Any, cast

import psycopg
import pytest
from server_work import Work, make, naive_reading

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.postgresql import writing
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import (
    RecordsMovedOn,
    StatementFailed,
    StatementRefused,
    TargetLocked,
    WriteError,
    WriteRefused,
)
from jondel.core.model.addresses import TableId
from jondel.core.model.values import Exact
from jondel.core.model.writes import RowWrite, WritePlan
from jondel.core.snapshots.settings import change_store_settings
from jondel.core.sql.values_in_sql import styled
from jondel.core.trail.history import record_history
from jondel.core.trail.restore import restore, take_back_step
from jondel.core.trail.step_statements import run_at
from jondel.core.trail.trail import Trail
from jondel.core.trail.two_databases import two_files
from seeds import length, seeds


@pytest.fixture
def database(postgresql_database: str, home: Any) -> Iterator[Database]:
    with closing(open_database(postgresql_database)) as opened:
        yield opened


@pytest.fixture
def trail(database: Database) -> Iterator[Trail]:
    with closing(Trail(database.location)) as opened:
        yield opened


@pytest.fixture
def app(postgresql_database: str) -> Iterator[psycopg.Connection[Any]]:
    with psycopg.connect(postgresql_database, autocommit=True) as connection:
        yield connection


def _run(app: psycopg.Connection[Any], *statements: str) -> None:
    for sql in statements:
        app.execute(sql)


@pytest.fixture(params=["superuser", "owner"])
def owned(
    request: pytest.FixtureRequest, postgresql_database: str, app: psycopg.Connection[Any]
) -> Iterator[str]:
    """The URL of a database for its superuser, and for an owner who is none."""
    if request.param == "superuser":
        yield postgresql_database
        return
    role = f"mate_{random.SystemRandom().randrange(1 << 40)}"
    (name,) = app.execute("SELECT current_database()").fetchone()
    _run(app, f"CREATE ROLE {role} LOGIN", f"ALTER DATABASE {name} OWNER TO {role}",
         f"ALTER SCHEMA public OWNER TO {role}")  # fmt: skip
    yield postgresql_database.replace("//jondel@", f"//{role}@")


@pytest.mark.parametrize("seed", seeds("JONDEL_SERVER_SEEDS", 6))
def test_any_earlier_state_can_be_put_back(seed: int, owned: str, home: Any) -> None:
    """Unless its schema was another one; which is said, and then nothing is written. The same for
    the steps in between, which are taken back."""
    make(owned)
    picks = random.Random(seed)
    readings, taken = [], []
    with closing(open_database(owned)) as database, closing(Trail(database.location)) as trail:
        with closing(Work(owned, seed)) as work:
            for _ in range(length(6, 20)):
                work.turn(12)
                taken.append(trail.take(database))
                readings.append(naive_reading(owned))
        for _ in range(length(4, 10)):
            number = picks.randrange(len(taken))
            before = naive_reading(owned)
            refusal = _refusal(lambda to=taken[number]: restore(trail, database, to))  # type: ignore[misc]
            now = naive_reading(owned)
            if refusal:
                assert "schema is not what it was" in refusal
                assert now == before
            else:  # what a query's kept result holds is the server's business
                assert {**now, "prices": None} == {**readings[number], "prices": None}
            _take_back_one(trail, database, owned, picks)


def _take_back_one(trail: Trail, database: Database, url: str, picks: random.Random) -> None:
    """A step is taken back whole, or not at all and with a reason."""
    step = picks.choice(trail.steps()[1:])
    with_linked = picks.random() < 0.5
    before, taken = naive_reading(url), trail.take(database)
    refusal = _refusal(lambda: take_back_step(trail, database, step, with_linked=with_linked))
    if refusal:
        assert naive_reading(url) == before, refusal
        return
    assert step.before is not None
    undone = trail.changes(step.before, step.after, Scope(internal=True))
    left = trail.changes(step.before, database, Scope(internal=True))
    for table in undone.tables:
        if table.key_columns == table.columns_after or table.derived:
            continue  # records that nothing tells apart
        still = left.table(table.table)
        keys = {record.key for record in (still.records if still is not None else ())}
        assert not keys & {record.key for record in table.records}, table.table
    # And nothing else was touched but for what links took along.
    done = trail.changes(taken, database, Scope(internal=True))
    for table in done.tables:
        theirs = undone.table(table.table)
        if not with_linked and not table.derived:
            assert theirs is not None, table.table


def _refusal(write: Callable[[], object]) -> str:
    try:
        write()
    except (WriteRefused, RecordsMovedOn) as error:
        return str(error)
    return ""


def test_sequences_and_rows_that_are_alike_are_put_back(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    _run(
        app,
        "CREATE TABLE boats(id int PRIMARY KEY GENERATED ALWAYS AS IDENTITY, name text UNIQUE)",
        "CREATE TABLE log(what text)",
        "INSERT INTO boats(name) VALUES ('a'), ('b')",
        "INSERT INTO log VALUES ('x'), ('x'), ('x')",
        "CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN INSERT INTO log VALUES (tg_op); RETURN new; END'",
        "CREATE TRIGGER noted AFTER INSERT OR UPDATE ON boats FOR EACH ROW "
        "EXECUTE FUNCTION noted()",
    )
    start = trail.take(database)
    _run(
        app,
        "INSERT INTO boats(name) VALUES ('c'), ('d')",
        "DELETE FROM boats WHERE name = 'a'",
        "UPDATE boats SET name = 'a' WHERE name = 'b'",
        "DELETE FROM log WHERE ctid IN (SELECT ctid FROM log LIMIT 2)",
    )
    done = restore(trail, database, start)
    assert done.changed
    assert app.execute("SELECT id, name FROM boats ORDER BY id").fetchall() == [(1, "a"), (2, "b")]
    assert app.execute("SELECT what FROM log").fetchall() == [("x",)] * 3
    assert app.execute("INSERT INTO boats(name) VALUES ('e') RETURNING id").fetchall() == [(3,)]


def test_an_owner_who_is_no_superuser_restores_along_links(
    database: Database, app: psycopg.Connection[Any], postgresql_database: str
) -> None:
    role = f"mate_{random.randrange(1 << 30)}"
    (name,) = app.execute("SELECT current_database()").fetchone()
    _run(app, f"CREATE ROLE {role} LOGIN", f"ALTER DATABASE {name} OWNER TO {role}",
         f"SET ROLE {role}", "CREATE SCHEMA dock",
         "CREATE TABLE dock.boats(id int PRIMARY KEY)",
         "CREATE TABLE dock.trips(id int PRIMARY KEY, boat int REFERENCES dock.boats)",
         "CREATE TABLE dock.stops(id int PRIMARY KEY, trip int REFERENCES dock.trips "
         "ON DELETE CASCADE)",
         "INSERT INTO dock.boats VALUES (1), (2)", "INSERT INTO dock.trips VALUES (1, 1), (2, 2)",
         "INSERT INTO dock.stops VALUES (1, 1), (2, 2)")  # fmt: skip
    url = postgresql_database.replace("//jondel@", f"//{role}@")
    try:
        with closing(open_database(url)) as theirs, closing(Trail(theirs.location)) as trail:
            start = trail.take(theirs)
            _run(app, "TRUNCATE dock.boats CASCADE")
            emptied = trail.take(theirs)
            restore(trail, theirs, start)
            assert app.execute("SELECT * FROM dock.stops").fetchall() == [(1, 1), (2, 2)]
            restore(trail, theirs, emptied)
            assert app.execute("SELECT count(*) FROM dock.boats").fetchall() == [(0,)]
    finally:
        _run(app, "RESET ROLE", f"REASSIGN OWNED BY {role} TO jondel", f"DROP OWNED BY {role}",
             f"DROP ROLE {role}")  # fmt: skip


def test_what_the_app_writes_meanwhile_is_not_overwritten(
    database: Database, trail: Trail, app: psycopg.Connection[Any], postgresql: str
) -> None:
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)", "INSERT INTO boats VALUES (1)")
    start = trail.take(database)
    _run(app, "UPDATE boats SET name = 'a'")
    assert database.writer is not None
    assert database.commits is not None
    apply = database.writer.apply

    def after(statements: list[str], other: str) -> Any:
        """Write only after others have committed something."""

        def applied(plan: Any, since: Any = None) -> Any:
            _run(app, *statements)
            with psycopg.connect(postgresql, autocommit=True) as elsewhere:
                elsewhere.execute(other)
            return apply(plan, since)

        return applied

    # What is committed in another database of the server is no concern of this one.
    elsewhere = (
        "CREATE TABLE elsewhere(n int); INSERT INTO elsewhere VALUES (1); DROP TABLE elsewhere"
    )
    for statements in (["DELETE FROM boats"], ["INSERT INTO boats VALUES (2)"]):
        database.writer.apply = after(statements, "SELECT 1")  # type: ignore[method-assign]
        with pytest.raises(RecordsMovedOn):
            restore(trail, database, start)
        database.writer.apply = apply  # type: ignore[method-assign]
        restore(trail, database, start)
        _run(app, "UPDATE boats SET name = 'a'")
    database.writer.apply = after([], elsewhere)  # type: ignore[method-assign]
    restore(trail, database, start)
    assert app.execute("SELECT * FROM boats").fetchall() == [(1, None)]


def test_a_step_is_taken_back_and_a_record_has_a_history(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, price numeric(9, 2))",
         "INSERT INTO boats VALUES (1, 1.5), (2, 2)")  # fmt: skip
    trail.take(database)
    _run(app, "UPDATE boats SET price = price + 1 WHERE id = 1")
    trail.take(database)
    _run(app, "UPDATE boats SET price = 7 WHERE id = 2")
    trail.take(database)
    take_back_step(trail, database, trail.steps()[1])
    found = app.execute("SELECT id, price::text FROM boats ORDER BY id").fetchall()
    assert found == [(1, "1.50"), (2, "7.00")]
    versions = list(record_history(trail, TableId("public", "boats"), ("id",), (1,), database))
    assert [version.row for version in versions] == [
        (1, Exact("numeric", text)) for text in ("1.50", "2.50", "1.50")
    ]


def test_statements_on_the_server_and_on_steps(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    _run(app, "CREATE SCHEMA dock", "CREATE TABLE dock.berths(id int PRIMARY KEY, free boolean)",
         "CREATE TABLE boats(id int PRIMARY KEY, price numeric, berth int)",
         "INSERT INTO dock.berths VALUES (1, true), (2, false)",
         "INSERT INTO boats VALUES (1, 9.5, 1), (2, 10, 2)",
         "INSERT INTO boats VALUES (3, 123456789012345678.25, NULL)")  # fmt: skip
    first = trail.take(database)
    _run(app, "UPDATE boats SET price = 11 WHERE id = 1")
    trail.take(database)

    def rows(sql: str, at: str | None = None) -> list[tuple[Any, ...]]:
        return list(run_at(trail, lambda: database, sql, at).rows)

    joined = "SELECT boats.id FROM public.boats JOIN dock.berths b ON b.id = berth WHERE b.free"
    assert rows(joined) == rows(joined, first.id) == [(1,)]
    assert rows("SELECT price FROM boats WHERE price > 9.9 AND price < 100 ORDER BY id") == [
        (Exact("numeric", "11"),),
        (Exact("numeric", "10"),),
    ]
    assert rows("SELECT price FROM boats WHERE price > 9.9 AND price < 100", first.id) == [(10,)]
    assert rows("SELECT price FROM boats WHERE id = 3", first.id) == [("123456789012345678.25",)]
    moved = "SELECT b.id, a.price, b.price FROM s1.boats a JOIN s2.public.boats b USING (id) "
    assert rows(f"{moved} WHERE a.price <> b.price", "s1") == [(1, 9.5, 11)]
    assert rows("SHOW server_encoding") == [("UTF8",)]
    for sql, error, words in (
        ("UPDATE boats SET id = 1", StatementRefused, "UPDATE is not possible"),
        ("WITH x AS (DELETE FROM boats RETURNING id) SELECT * FROM x", StatementRefused, "write"),
        ("SELECT 1; SELECT 2", StatementRefused, "exactly one"),
        ("", StatementRefused, "exactly one"),
        ("SELECT\n nme FROM boats", StatementFailed, r'"nme" does not exist \(line 2, character 2'),
        ("SELECT nextval('x') FROM s1.boats", StatementRefused, "--at s1"),
    ):
        with pytest.raises(error, match=words):
            rows(sql)
    assert rows("SELECT count(*) FROM boats") == [(3,)]


def test_a_write_whose_connection_is_lost_is_told_truly(
    database: Database, app: psycopg.Connection[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    _run(
        app,
        "CREATE TABLE boats(id int PRIMARY KEY)",
        "CREATE FUNCTION lost() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); RETURN new; END'",
    )
    write = RowWrite("insert", TableId("public", "boats"), (), (("id", 1),), "1", ("id",))
    plan = WritePlan((write,), triggers=True)
    assert database.writer is not None
    for timing in ("AFTER INSERT ON boats", "AFTER INSERT ON boats DEFERRABLE INITIALLY DEFERRED"):
        kind = "CONSTRAINT TRIGGER" if "DEFER" in timing else "TRIGGER"
        _run(app, f"CREATE {kind} lost {timing} FOR EACH ROW EXECUTE FUNCTION lost()")
        with pytest.raises(WriteError, match="the connection was lost; nothing was written"):
            database.writer.apply(plan)
        _run(app, "DROP TRIGGER lost ON boats")
        assert app.execute("SELECT * FROM boats").fetchall() == []

    def lost_on_the_way_back(connection: psycopg.Connection[Any]) -> str:
        """The answer to the commit never arrives."""
        number = str(connection.execute("SELECT pg_current_xact_id()::text").fetchone()[0], "ascii")  # type: ignore[index]
        connection.pgconn.exec_(b"COMMIT")
        connection.close()
        return number

    monkeypatch.setattr(writing, "transaction_number", lost_on_the_way_back)
    database.writer.apply(plan)
    assert app.execute("SELECT * FROM boats").fetchall() == [(1,)]


def test_a_lost_connection_is_made_again(database: Database, app: psycopg.Connection[Any]) -> None:
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY)")
    assert database.commits is not None
    before = database.commits.change_token()
    _run(app, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> "
         "pg_backend_pid() AND application_name = 'jondel'",
         "INSERT INTO boats VALUES (1)")  # fmt: skip
    assert database.commits.change_token() != before
    table = database.schema().by_id[TableId("public", "boats")]
    assert database.rows.measure(table).rows == 1


def test_a_snapshot_is_exported_as_a_plain_file(
    trail: Trail, database: Database, app: psycopg.Connection[Any], tmp_path: Path
) -> None:
    _run(app, "CREATE SCHEMA dock", "CREATE TABLE dock.log(what text)",
         "CREATE TABLE log(at timestamp, what text)", "CREATE TABLE empty()",
         "CREATE TABLE boats(id int PRIMARY KEY, price numeric(9, 2), photo bytea)",
         "INSERT INTO boats VALUES (1, 1.5, '\\x00'), (2, NULL, NULL)",
         *["INSERT INTO log VALUES ('2026-06-14 14:02:11', 'x')"] * 2)  # fmt: skip
    trail.export(trail.take(database), tmp_path / "out.db")
    with closing(sqlite3.connect(tmp_path / "out.db")) as file:
        assert file.execute("SELECT * FROM boats").fetchall() == [
            (1, "1.50", b"\x00"),
            (2, None, None),
        ]
        assert (
            file.execute('SELECT * FROM "public.log"').fetchall()
            == [("2026-06-14 14:02:11", "x")] * 2
        )
        assert file.execute('SELECT count(*) FROM "dock.log"').fetchone() == (0,)


def test_odd_names_and_values_go_through_the_whole_loop(
    trail: Trail, database: Database, app: psycopg.Connection[Any], tmp_path: Path
) -> None:
    _run(app, "CREATE TABLE empty()", "INSERT INTO empty DEFAULT VALUES",
         'CREATE TABLE t(id int PRIMARY KEY, x text)', 'CREATE SCHEMA "S.x"',
         'CREATE TABLE "T"("Id" int PRIMARY KEY, "X" text, x real, "a ""b"" %s" text)',
         'CREATE TABLE "S.x"."a.b"(v double precision, w text)',
         "INSERT INTO t VALUES (1, 'c')",
         """INSERT INTO "T" VALUES (1, E'\\x1b[31m\\n\\\\N', 'NaN', '\\N'), (2, '', NULL, NULL)""",
         """INSERT INTO "S.x"."a.b" VALUES ('-Infinity', NULL)""",
         *["""INSERT INTO "S.x"."a.b" VALUES ('NaN', '')"""] * 2)  # fmt: skip
    assert database.writer is not None
    cells = (('a "b" %s', "c"),)
    write = RowWrite("update", TableId("public", "T"), (("Id", 1),), cells, "1", ("Id",))
    shown, _ = styled(database.writer.write_statement(write), "literals")
    assert shown == """UPDATE "public"."T" SET "a ""b"" %s" = 'c'::text WHERE "Id" = ('1'::int4)"""
    start = trail.take(database)
    assert trail.take(database).image == start.image
    _run(app, 'UPDATE "T" SET x = 0 WHERE "Id" = 1', "DELETE FROM t", 'DELETE FROM "S.x"."a.b"')
    changed = trail.changes(start, trail.take(database))
    told = {str(entry.table): entry.counts.marked() for entry in changed.tables}
    assert told == {"S.x.a.b": "-3", "public.T": "~1", "public.t": "-1"}
    restore(trail, database, start)
    assert trail.changes(start, database).empty
    found = run_at(trail, lambda: database, 'SELECT "a ""b"" %s" FROM public."T"', start.id)
    assert found.rows == (("\\N",), (None,))
    assert run_at(trail, lambda: database, "SELECT x FROM public.t", start.id).rows == (("c",),)
    trail.export(start, tmp_path / "out.db")
    with closing(sqlite3.connect(tmp_path / "out.db")) as file:
        assert file.execute('SELECT v FROM "a.b" ORDER BY 1').fetchall() == [
            (float("-inf"),), ("NaN",), ("NaN",),
        ]  # fmt: skip


def test_a_server_is_compared_with_a_file(
    database: Database, app: psycopg.Connection[Any], tmp_path: Path
) -> None:
    """For people who move: by names, and by what values mean."""
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, price numeric(9, 2), afloat boolean, "
         "since date, tag uuid, photo bytea, level float8)",
         "INSERT INTO boats SELECT i, i * 1.25, i % 2 = 0, date '2026-01-01' + i, "
         "lpad(i::text, 32, '0')::uuid, '\\x00ff', i / 4.0 FROM generate_series(1, 50) i",
         "CREATE TABLE rates(name numeric PRIMARY KEY, big numeric)",
         "INSERT INTO rates VALUES (2, 0.1), (10, 12345678901234567890.5), (1.5, NULL)",
         "CREATE TABLE only_here(id int PRIMARY KEY)")  # fmt: skip
    path = tmp_path / "moved.db"
    with closing(sqlite3.connect(path)) as file:
        file.executescript(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, price REAL, afloat INTEGER, since TEXT, "
            "tag TEXT, photo BLOB, level REAL);"
            "CREATE TABLE rates(name NUMERIC PRIMARY KEY, big) WITHOUT ROWID;"
            "INSERT INTO rates VALUES (2, 0.1), (10, '12345678901234567890.5'), (1.5, NULL);"
        )
        file.executemany(
            "INSERT INTO boats VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(i, i * 1.25, int(i % 2 == 0), str(date(2026, 1, 1) + timedelta(days=i)),
              str(uuid.UUID(int=int(f"{i:032}", 16))), b"\x00\xff", i / 4) for i in range(1, 51)],
        )  # fmt: skip
        file.commit()
        with closing(open_database(path)) as moved:
            for statement, expected in (
                ("SELECT 1", {}),
                ("UPDATE boats SET price = price + 0.01, afloat = NULL WHERE id = 7",
                 {"boats": "~1"}),
                ("DELETE FROM rates WHERE name = 10", {"boats": "~1", "rates": "-1"}),
            ):  # fmt: skip
                file.execute(statement)
                file.commit()
                with two_files(database, moved) as sides:
                    assert sides is not None
                    changes = compare(*sides)
                found = {str(entry.table): entry.counts.marked() for entry in changes.tables}
                assert found == expected
                assert [c.kind for c in changes.schema_changes] == ["table removed"]


def test_a_migration_goes_through_beside_what_is_read(
    database: Database, app: psycopg.Connection[Any]
) -> None:
    """Also beside a question that takes long, and one that is asked a row at a time."""
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)",
         "INSERT INTO boats SELECT i, 'n' FROM generate_series(1, 3000) i",
         "SET lock_timeout = 9000")  # fmt: skip
    slow = "SELECT count(*) FROM boats a, boats b, boats c"
    failed: list[BaseException] = []

    def ask() -> None:
        try:
            run_at(_no_trail, lambda: database, slow)
        except TargetLocked as error:
            failed.append(error)

    asking = threading.Thread(target=ask)
    asking.start()
    asked = "SELECT 1 FROM pg_stat_activity WHERE query LIKE 'FETCH %' AND state = 'active'"
    while not app.execute(asked).fetchall():
        time.sleep(0.05)
    _run(app, "ALTER TABLE boats ALTER COLUMN name TYPE varchar(9)")
    asking.join(20)
    assert "reading gave way" in str(failed[0])
    table = database.schema().by_id[TableId("public", "boats")]
    assert database.rows.measure(table).rows == 3000


class _NoTrail:
    def snapshots(self) -> list[Any]:
        return []


_no_trail = cast(Trail, _NoTrail())


def test_a_table_that_is_too_large_is_left_out_until_it_is_asked_for(
    database: Database, trail: Trail, app: psycopg.Connection[Any], home: Any
) -> None:
    _run(
        app,
        "CREATE TABLE boats(id int PRIMARY KEY, name text)",
        "CREATE TABLE tides(id int, day int, height text) PARTITION BY RANGE (day)",
        "CREATE TABLE tides_1 PARTITION OF tides FOR VALUES FROM (0) TO (10)",
        "INSERT INTO boats VALUES (1, 'Gull')",
        "INSERT INTO tides SELECT i, i % 10, repeat('x', 50) FROM generate_series(1, 3000) i",
    )
    change_store_settings(largest_table="150KB")
    tides = TableId("public", "tides")
    with closing(Trail(database.location)) as few:
        first = few.take(database)
        _run(app, "UPDATE boats SET name = 'Tern'", "UPDATE tides SET height = 'y' WHERE id = 7")
        changes = few.changes(first, few.take(database))
        assert [table.table.name for table in changes.tables] == ["boats"]
        (left_out,) = changes.unread
        assert left_out.table == tides
        assert "more than 150 kB, and is left out of snapshots" in left_out.reason
        assert few.changes(first, database).unread, "and so it is beside the database itself"
    change_store_settings(largest_table="1GB")
    before = trail.take(database)
    _run(app, "UPDATE tides SET height = 'z' WHERE id = 8")
    changes = trail.changes(before, trail.take(database))
    assert ([t.table for t in changes.tables], changes.unread) == ([tides], ())
    # One that is in stays in while it is but little larger.
    change_store_settings(largest_table="260KB")
    with closing(Trail(database.location)) as later:
        taken = later.take(database)
        assert not later.changes(before, taken).unread


def test_a_capture_that_is_killed_leaves_the_trail_whole(
    database: Database,
    trail: Trail,
    app: psycopg.Connection[Any],
    postgresql_database: str,
) -> None:
    _run(app, "CREATE TABLE boats(id int PRIMARY KEY, name text)")
    rows = 20_000
    app.execute("INSERT INTO boats SELECT i, 'first' FROM generate_series(1, %s) i", (rows,))
    chance, readings, taken = random.Random(3), [], []
    for number in range(length(4, 40)):
        command = [sys.executable, "-m", "jondel", "snapshot", postgresql_database]
        process = subprocess.Popen(command, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        time.sleep(0.2 + chance.random())
        process.kill()
        process.wait()
        app.execute("UPDATE boats SET name = %s WHERE id %% 7 = %s", (f"n{number}", number % 7))
        app.execute("DELETE FROM boats WHERE id = %s", (1 + number * 11,))
        readings.append(naive_reading(postgresql_database)["boats"])
        taken.append(trail.take(database))
    for snapshot, reading in zip(taken, readings, strict=True):
        with trail.opened(snapshot) as state:
            (table,) = state.schema().tables
            batches = state.scanner.stream_rows(table, table.column_names, table.primary_key)
            assert sorted((str(i), n) for batch in batches for i, n in batch) == sorted(reading)
