"""Nobody waits for us: not a migration, nor who copies or drops a database."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import closing
from typing import Any

import psycopg
import pytest
from psycopg.conninfo import conninfo_to_dict

from jondel.core.engines.delta import Known
from jondel.core.engines.postgresql.delta import ServerDelta
from jondel.core.engines.postgresql.ordered_writes import OrderedWrites
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import TargetLocked
from jondel.core.model.addresses import TableId
from jondel.core.model.writes import RowWrite, WritePlan
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail

App = psycopg.Connection[Any]
_MIGRATION = "ALTER TABLE boats ALTER COLUMN name TYPE varchar(90)"


@pytest.fixture
def app(postgresql_database: str) -> Iterator[App]:
    """An app that waits for a lock for a while, and no longer."""
    with psycopg.connect(
        postgresql_database, autocommit=True, options="-c lock_timeout=60s"
    ) as connection:
        connection.execute("CREATE TABLE boats(id int PRIMARY KEY, name text)")
        connection.execute("INSERT INTO boats SELECT i, 'n' FROM generate_series(1, 5000) i")
        yield connection


@pytest.fixture
def database(postgresql_database: str, app: App, home: Any) -> Iterator[Database]:
    with closing(open_database(postgresql_database)) as opened:
        yield opened


def _boats(database: Database) -> Any:
    return database.schema().by_id[TableId("public", "boats")]


def test_it_goes_through_beside_rows_that_nobody_reads_on(database: Database, app: App) -> None:
    """A transaction that keeps its locks and is asked nothing, as beside a slow export."""
    boats = _boats(database)
    rows = database.scanner.stream_rows(boats, boats.column_names, ("id",))
    next(rows)
    app.execute(_MIGRATION)
    with pytest.raises(TargetLocked, match="reading gave way, try again"):
        for _ in rows:
            pass
    assert database.rows.measure(_boats(database)).rows == 5000


def test_it_goes_through_beside_a_snapshot_that_rests(postgresql_database: str, app: App) -> None:
    def rest() -> None:
        with ServerDelta(session).delta(Known()) as told:
            next(told.tables)
            app.execute(_MIGRATION)

    with (
        closing(Session(postgresql_database, "harbour")) as session,
        pytest.raises(TargetLocked, match="gave way"),
    ):
        rest()


def test_it_goes_through_beside_what_is_written(
    database: Database, app: App, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of which nothing is written then."""
    write = OrderedWrites.write

    def slow(self: OrderedWrites, writes: Any) -> None:
        write(self, writes)
        app.execute(_MIGRATION)

    monkeypatch.setattr(OrderedWrites, "write", slow)
    cells = (("id", 1), ("name", "n"))
    boats = TableId("public", "boats")
    plan = WritePlan((RowWrite("update", boats, cells, (("name", "x"),), "1", ("id",)),))
    assert database.writer is not None
    with pytest.raises(TargetLocked, match="nothing was written, try again"):
        database.writer.apply(plan)
    assert app.execute("SELECT name FROM boats WHERE id = 1").fetchall() == [("n",)]


@pytest.mark.parametrize("shut_out", [False, True], ids=["", "shut-out"])
def test_a_database_that_is_watched_can_be_copied_and_dropped(
    postgresql_database: str, postgresql: str, app: App, home: Any, shut_out: bool
) -> None:
    """Also by a user who may not connect to the server's maintenance database."""
    name = str(conninfo_to_dict(postgresql_database)["dbname"])
    url = postgresql_database
    if shut_out:
        role = f"mate_{name}"
        app.execute(f"CREATE ROLE {role} LOGIN")  # type: ignore[call-overload]
        app.execute("REVOKE CONNECT ON DATABASE postgres FROM PUBLIC")
        app.execute(f"GRANT SELECT ON boats TO {role}")  # type: ignore[call-overload]
        url = url.replace("//jondel@", f"//{role}@")
    done = threading.Event()
    tokens: list[Any] = []

    def watch(database: Database) -> None:
        assert database.commits is not None
        while not done.wait(database.commits.look_every_seconds):
            tokens.append(database.commits.change_token())

    try:
        with closing(open_database(url)) as database:
            assert len(database.rows.read_window(_boats(database), 0, 9).rows) == 9
            watching = threading.Thread(target=watch, args=(database,))
            watching.start()
            try:
                app.close()
                with psycopg.connect(postgresql, autocommit=True) as server:
                    server.execute(f'CREATE DATABASE "{name} copy" TEMPLATE "{name}"')  # type: ignore[call-overload]
                with psycopg.connect(postgresql_database, autocommit=True) as again:
                    again.execute("DELETE FROM boats WHERE id = 1")
                while len(set(tokens)) < 2:
                    assert watching.is_alive()
                    done.wait(0.05)
                assert len(database.rows.read_window(_boats(database), 0, 1).rows) == 1
            finally:
                done.set()
                watching.join()
            with psycopg.connect(postgresql, autocommit=True) as server:
                server.execute(f'DROP DATABASE "{name}"')  # type: ignore[call-overload]
    finally:
        with psycopg.connect(postgresql, autocommit=True) as server:
            server.execute("GRANT CONNECT ON DATABASE postgres TO PUBLIC")


def test_settings_of_the_database_do_not_change_what_its_schema_reads_as(
    postgresql_database: str, database: Database, app: App
) -> None:
    app.execute("ALTER TABLE boats ADD COLUMN at date DEFAULT current_date")
    app.execute("CREATE INDEX by_name ON boats(name) WHERE name <> ''")
    with closing(Trail(database.location)) as trail:
        first = trail.take(database)
        name = conninfo_to_dict(postgresql_database)["dbname"]
        for setting in ("quote_all_identifiers = on", "default_transaction_isolation = "
                        "'serializable'", "default_transaction_deferrable = on",
                        "bytea_output = 'escape'", "search_path = pg_temp"):  # fmt: skip
            app.execute(f"ALTER DATABASE {name} SET {setting}")  # type: ignore[call-overload]
        with closing(open_database(postgresql_database)) as again:
            changes = trail.changes(first, trail.take(again))
        assert changes.empty
        assert changes.schema_changes == ()


def test_what_the_driver_says_of_its_errors_is_not_on_the_terminal(
    postgresql_database: str, database: Database, app: App
) -> None:
    app.execute("CREATE TABLE ranks(id int PRIMARY KEY, pos int UNIQUE)")
    app.execute("INSERT INTO ranks VALUES (1, 1), (2, 2)")
    with closing(Trail(database.location)) as trail:
        first = trail.take(database)
        app.execute("UPDATE ranks SET pos = -pos")
        app.execute("UPDATE ranks SET pos = 3 + pos")
        command = [
            sys.executable,
            "-m",
            "jondel",
            "restore",
            postgresql_database,
            first.id,
            "--yes",
        ]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        assert done.stdout == "public.ranks  ~2 undone\n"
        assert done.stderr.startswith("jondel: the state before is kept as")
        assert "psycopg" not in done.stderr


def test_commits_in_another_database_are_not_the_apps(
    database: Database, app: App, postgresql: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """While something is put back, others go on elsewhere on the server."""
    assert database.writer is not None
    apply = database.writer.apply

    def beside(plan: Any, since: Any = None) -> Any:
        with psycopg.connect(postgresql, autocommit=True) as elsewhere:
            elsewhere.execute("CREATE TABLE elsewhere(n int); DROP TABLE elsewhere")
        return apply(plan, since)

    with closing(Trail(database.location)) as trail:
        first = trail.take(database)
        app.execute("DELETE FROM boats WHERE id < 9")
        monkeypatch.setattr(database.writer, "apply", beside)
        assert restore(trail, database, first).changed
        assert database.commits is not None
        since = database.commits.mark(exact=True)
        with psycopg.connect(postgresql, autocommit=True) as elsewhere:
            elsewhere.execute("CREATE TABLE elsewhere(n int); DROP TABLE elsewhere")
        assert not database.commits.moved_since(since)
        app.execute("UPDATE boats SET name = name WHERE id = 1")
        assert database.commits.moved_since(since)
