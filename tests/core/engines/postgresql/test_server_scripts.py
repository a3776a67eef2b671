"""Scripts on a server: asked, tried out in a transaction that is rolled back, run for real."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pytest

from jondel.core.diff.compare import compare
from jondel.core.engines.needed import rehearser_of, statements_of
from jondel.core.engines.postgresql.dialect import DIALECT
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import (
    Cancelled,
    FeatureMissing,
    RecordsMovedOn,
    StatementFailed,
    StatementRefused,
    TargetLocked,
)
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.model.outcomes import CollectedRows, ScriptOutcome, ScriptStatement
from jondel.core.model.values import Exact
from jondel.core.query.rehearsal import rehearsed
from jondel.core.query.remarks import outlives_a_rollback, problems_in
from jondel.core.query.scripts import script_of
from jondel.core.query.writing import write_script
from jondel.core.trail.trail import Trail

HARBOUR = """
CREATE SCHEMA office;
CREATE TABLE office.boats(id serial PRIMARY KEY, name text NOT NULL UNIQUE, price numeric(8,2));
CREATE TABLE office.berths(pier int, number int, boat int REFERENCES office.boats ON DELETE CASCADE
    DEFERRABLE INITIALLY DEFERRED, PRIMARY KEY (pier, number));
CREATE TABLE log(what text);
CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$
    BEGIN INSERT INTO public.log VALUES (new.name); RETURN new; END $$;
CREATE TRIGGER renamed AFTER UPDATE OF name ON office.boats FOR EACH ROW EXECUTE FUNCTION note();
INSERT INTO office.boats(name, price) SELECT 'boat ' || i, i FROM generate_series(1, 50) i;
INSERT INTO office.berths SELECT i % 3, i, i FROM generate_series(1, 20) i;
"""


@pytest.fixture
def app(postgresql_database: str) -> Iterator[psycopg.Connection[Any]]:
    with psycopg.connect(postgresql_database, autocommit=True) as connection:
        connection.execute(HARBOUR)  # type: ignore[call-overload]
        yield connection


@pytest.fixture
def database(
    postgresql_database: str, app: psycopg.Connection[Any], home: Any
) -> Iterator[Database]:
    with closing(open_database(postgresql_database)) as opened:
        yield opened


@pytest.fixture
def trail(database: Database) -> Iterator[Trail]:
    with closing(Trail(database.location)) as opened:
        yield opened


def statements(sql: str, **values: Any) -> tuple[ScriptStatement, ...]:
    return script_of(sql, DIALECT).with_values(values)


def no_sinks(_: int) -> None:
    return None


def rehearse(trail: Trail, database: Database, sql: str) -> tuple[ScriptOutcome, Changes]:
    with rehearsed(trail, database, statements(sql), no_sinks) as rehearsal:
        return rehearsal.outcome, compare(rehearsal.before, rehearsal.after)


def told(outcome: ScriptOutcome) -> list[tuple[str, int | None, str]]:
    return [(one.fate, one.affected, one.error.message if one.error is not None else "")
            for one in outcome.outcomes]  # fmt: skip


def content(app: psycopg.Connection[Any]) -> list[Any]:
    tables = ("office.boats", "office.berths", "log")
    return [app.execute(f"SELECT * FROM {t} ORDER BY 1, 2" if "." in t else f"SELECT * FROM {t}")
            .fetchall() for t in tables]  # type: ignore[call-overload]  # fmt: skip


SCRIPTS = [
    "UPDATE office.boats SET price = price * 2 WHERE id < 5",
    "UPDATE office.boats SET name = upper(name) WHERE id = 7",
    "DELETE FROM office.boats WHERE id < 10",
    "TRUNCATE office.berths",
    "INSERT INTO office.boats(id, name) VALUES (900, 'Gull'), (901, 'Tern')",
    "INSERT INTO office.boats(id, name) VALUES (900, 'boat 1')",
    "INSERT INTO office.berths VALUES (9, 9, 12345)",
    "SET CONSTRAINTS ALL IMMEDIATE; INSERT INTO office.berths VALUES (9, 9, 12345); SELECT 1",
    "BEGIN; DELETE FROM log; DELETE FROM office.berths; ROLLBACK; DELETE FROM office.boats "
    "WHERE id = 50; BEGIN; UPDATE office.boats SET name = 'x' WHERE id = 1; COMMIT",
    "BEGIN; DELETE FROM office.berths; COMMIT; UPDATE office.boats SET name = 'same'",
    "BEGIN; DELETE FROM office.berths",
    "BEGIN; SAVEPOINT a; DELETE FROM office.berths; ROLLBACK TO a; RELEASE a; COMMIT",
    "ALTER TABLE office.boats ADD COLUMN flag text DEFAULT 'NL'; CREATE TABLE office.n(x int); "
    "INSERT INTO office.n VALUES (1)",
    "DROP TABLE office.berths",
    "DO $$ BEGIN DELETE FROM public.log; INSERT INTO public.log VALUES ('done'); END $$",
    "WITH gone AS (DELETE FROM office.berths WHERE pier = 1 RETURNING boat) "
    "INSERT INTO log SELECT boat::text FROM gone",
    "SET LOCAL datestyle = 'German'; SET ROLE pg_monitor; SELECT 1",
    "UPDATE office.boats SET nme = 1",
    "DO $$ BEGIN COMMIT; END $$",
]


@pytest.mark.parametrize("sql", SCRIPTS)
def test_the_real_run_changes_what_the_rehearsal_showed(
    database: Database, trail: Trail, app: psycopg.Connection[Any], sql: str
) -> None:
    before, first = content(app), trail.take(database)
    outcome, changes = rehearse(trail, database, sql)
    assert content(app) == before
    done = write_script(trail, database, statements(sql), no_sinks)
    if "DO $$ BEGIN COMMIT" in sql:  # it may end its transaction where there is none around it
        assert done.outcome.error is not None
        assert outcome.error is not None
        return
    assert told(done.outcome) == told(outcome)
    real = trail.changes(first, database)
    assert real.tables == changes.tables
    assert real.schema_changes == changes.schema_changes


@pytest.mark.parametrize(
    ("sql", "why"),
    [
        ("VACUUM office.boats", "VACUUM cannot be rolled back"),
        ("CREATE INDEX CONCURRENTLY i ON log(what)", "CONCURRENTLY"),
        ("COPY log TO '/tmp/never'", "COPY to a file"),
        ("PREPARE TRANSACTION 'x'", "outlives a rollback"),
        ("COPY log FROM PROGRAM 'touch {mark}'", "COPY runs a program"),
        ("copy (select 1) to /* x */ program 'touch {mark}'", "COPY runs a program"),
        ("DELETE FROM log; COPY log FROM PROGRAM 'touch {mark}'", "COPY runs a program"),
        ("DO $$ BEGIN COPY log FROM PROGRAM 'touch {mark}'; END $$", "COPY runs a program"),
        ("DO $$ BEGIN EXECUTE 'COPY log FROM PROGRAM $q$touch {mark}$q$'; END $$", "a program"),
        (
            "CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS "
            "$f$ BEGIN COPY log FROM PROGRAM 'touch {mark}'; END $f$; SELECT f()",
            "f() is called",
        ),
        ("SELECT pg_create_physical_replication_slot('x')", "replication slot"),
        ("SELECT dblink_exec('host=elsewhere', 'DELETE FROM t')", "another server"),
        ("NOTIFY office", "sends a notification"),
        ("SELECT pg_notify('office', 'x') FROM office.boats", "sends a notification"),
        ("SELECT setval('office.boats_id_seq', 900)", "moves a sequence"),
        (
            "INSERT INTO office.boats(id, name) VALUES (nextval('office.boats_id_seq'), 'x')",
            "nextval() moves a sequence",
        ),
        ("UPDATE log SET what = 'x' WHERE pg_try_advisory_lock(1)", "advisory lock"),
        ("ALTER SYSTEM SET work_mem = '1MB'", "settings of the server"),
        ("SELECT pg_reload_conf()", "settings"),
        ('SELECT pg_catalog."pg_terminate_backend"(1)', "ends another session"),
        ("COPY log TO STDOUT", "COPY TO STDOUT hands its rows"),
        ("COPY log FROM STDIN", "COPY FROM STDIN needs data"),
        ("DELETE FROM log; DROP DATABASE x", "DROP DATABASE cannot be rolled back"),
    ],
)
def test_what_a_rollback_does_not_undo_is_not_tried_out(
    database: Database, trail: Trail, app: psycopg.Connection[Any], sql: str, why: str
) -> None:
    """Nothing of the script is run then."""
    mark = f"/tmp/jondel-never-{os.getpid()}"
    numbers = "SELECT last_value, is_called FROM office.boats_id_seq"
    before = app.execute(numbers).fetchall()
    outcome, changes = rehearse(trail, database, sql.replace("{mark}", mark))
    assert outcome.error is not None
    assert why in outcome.error.message
    assert changes.empty
    assert {one.fate for one in outcome.outcomes} <= {"failed", "not run"}
    assert not Path(mark).exists()
    assert app.execute(numbers).fetchall() == before
    assert app.execute("SELECT 1 FROM pg_locks WHERE locktype = 'advisory'").fetchall() == []


@pytest.mark.parametrize(
    "sql",
    [
        "CREATE TABLE n(id int DEFAULT nextval('office.boats_id_seq'))",
        "ALTER TABLE log ALTER what SET DEFAULT nextval('office.boats_id_seq')::text",
        "CREATE FUNCTION f() RETURNS void LANGUAGE sql AS 'SELECT pg_notify(NULL, NULL)'",
        "UPDATE log SET what = 'COPY log FROM PROGRAM'",
        "INSERT INTO log SELECT CASE WHEN true THEN load ELSE cluster END "
        "FROM (VALUES ('a', 'b')) v(load, cluster)",
        "DO $$ BEGIN IF true THEN INSERT INTO log VALUES ('notify'); END IF; END $$",
    ],
)
def test_what_only_looks_like_such_an_effect_is_tried_out(
    database: Database, trail: Trail, sql: str
) -> None:
    outcome, _ = rehearse(trail, database, sql)
    assert outcome.error is None


def test_what_cannot_be_recognised_inside_functions_is_said(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    for sql in (
        "CREATE FUNCTION put_together(sql text) RETURNS void LANGUAGE plpgsql AS "
        "'BEGIN EXECUTE sql; END'",
        "CREATE FUNCTION tell() RETURNS trigger LANGUAGE plpgsql AS "
        "$$BEGIN PERFORM pg_notify('office', new.what); RETURN new; END$$",
        "CREATE TRIGGER told AFTER INSERT ON log FOR EACH ROW EXECUTE FUNCTION tell()",
        "CREATE FUNCTION calls_it() RETURNS void LANGUAGE sql AS $$SELECT pg_notify('a', 'b')$$",
    ):
        app.execute(sql)
    outcome, _ = rehearse(trail, database, "SELECT put_together('SELECT 1')")
    assert outcome.error is None
    told = str(outcome.notes)
    assert "public.put_together() may do outside of the transaction is not known" in told
    assert "triggers call public.tell() (pg_notify() sends a notification)" in told
    outcome, _ = rehearse(trail, database, "SELECT public.calls_it()")
    assert outcome.error is not None
    assert "calls_it() is called: pg_notify()" in outcome.error.message


def test_a_question_with_such_an_effect_is_not_taken_for_one_that_reads(
    database: Database, app: psycopg.Connection[Any]
) -> None:
    with pytest.raises(StatementRefused, match="would write"):
        statements_of(database).execute("SELECT pg_advisory_lock(7)")
    assert app.execute("SELECT 1 FROM pg_locks WHERE locktype = 'advisory'").fetchall() == []


def test_what_was_tried_out_is_written_afterwards(
    database: Database, trail: Trail, app: psycopg.Connection[Any], postgresql: str
) -> None:
    """Our own transaction that was rolled back is no commit, nor is one in another database."""
    script = statements("UPDATE office.boats SET price = 9 WHERE id < 3; DELETE FROM log")
    app.execute("BEGIN")  # an app that has a transaction open all the time
    app.execute("SELECT pg_current_xact_id()")
    with rehearsed(trail, database, script, no_sinks) as rehearsal:
        since = rehearsal.since
    with psycopg.connect(postgresql, autocommit=True) as elsewhere:
        elsewhere.execute("CREATE TABLE elsewhere(n int); DROP TABLE elsewhere")
    done = write_script(trail, database, script, no_sinks, since=since)
    assert done.outcome.error is None
    assert done.why == ""
    assert done.step is not None
    app.execute("ROLLBACK")
    with rehearsed(trail, database, script, no_sinks) as rehearsal:
        since = rehearsal.since
    app.execute("UPDATE office.boats SET price = 1 WHERE id = 40")
    with pytest.raises(RecordsMovedOn):
        write_script(trail, database, script, no_sinks, since=since)


def test_no_splitting_lets_a_commit_through(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    """The server takes one statement at a time, wherever they were taken to end."""
    before = content(app)
    hidden = ScriptStatement(statements("SELECT 1")[0].statement, "SELECT 1")
    sneaking = hidden._replace(
        statement=hidden.statement.__class__(("DELETE FROM log; COMMIT; SELECT 1",))
    )
    with rehearsed(trail, database, [sneaking], no_sinks) as rehearsal:
        assert rehearsal.outcome.error is not None
        assert "multiple commands" in rehearsal.outcome.error.message
    assert content(app) == before


def test_an_app_that_waits_is_given_way(
    database: Database, trail: Trail, app: psycopg.Connection[Any], postgresql_database: str
) -> None:
    trail.take(database)
    failed: list[BaseException] = []

    def try_out() -> None:
        try:
            rehearse(trail, database, "UPDATE office.boats SET price = 0; SELECT pg_sleep(60)")
        except TargetLocked as error:
            failed.append(error)

    thread = threading.Thread(target=try_out)
    thread.start()
    waiting = (
        "SELECT 1 FROM pg_stat_activity WHERE wait_event = 'PgSleep' "
        "AND datname = current_database()"
    )
    while not app.execute(waiting).fetchall():  # type: ignore[arg-type, call-overload]
        time.sleep(0.05)
    app.execute("UPDATE office.boats SET price = 5 WHERE id = 1")
    thread.join(20)
    assert "gave way" in str(failed[0])
    assert app.execute("SELECT price FROM office.boats WHERE id = 1").fetchone() is not None


def test_writing_after_something_was_committed_is_refused(
    database: Database, trail: Trail, app: psycopg.Connection[Any]
) -> None:
    sql = statements("DELETE FROM office.berths WHERE pier = 1")
    with rehearsed(trail, database, sql, no_sinks) as rehearsal:
        since = rehearsal.since
    app.execute("INSERT INTO log VALUES ('meanwhile')")
    before = content(app)
    with pytest.raises(RecordsMovedOn):
        write_script(trail, database, sql, no_sinks, since=since)
    assert content(app) == before


def test_rows_come_with_their_types_and_tables(database: Database) -> None:
    rows = CollectedRows()
    asked = statements(
        "SELECT b.id, b.price, 1.50::numeric AS fixed, ARRAY[1, 2] AS many FROM office.boats b "
        "WHERE b.id = :id AND name = %s", id=2, **{"1": "boat 2"}
    )  # fmt: skip
    statements_of(database).stream(asked[0].statement, rows)
    assert rows.rows == [
        (2, Exact("numeric", "2.00"), Exact("numeric", "1.50"), Exact("array", "{1,2}"))
    ]
    assert [column.column for column in rows.columns] == ["id", "price", "", ""]
    assert rows.columns[0].table == TableId("office", "boats")


@pytest.mark.parametrize(
    ("sql", "at", "words"),
    [
        ("SELECT nme FROM office.boats WHERE id = :i", 7, 'column "nme" does not exist'),
        ("SELECT :i::int, :j::text,\n  nme FROM office.boats", 28, "nme"),
        ("SELECT * FROM nowhere", 14, "nowhere"),
        ("SELECT (", 8, "syntax error at end of input"),
    ],
)
def test_errors_say_where(database: Database, sql: str, at: int, words: str) -> None:
    entry = statements(sql, i=1, j="x")[0]
    with pytest.raises(StatementFailed, match=words) as failed:
        statements_of(database).stream(entry.statement, CollectedRows())
    assert failed.value.at is not None
    assert entry.place(failed.value.at) == at
    problems = problems_in(sql, database, DIALECT)
    assert words in problems[0].message
    assert problems[0].start in (at, at - 1)


def test_what_is_right_is_left_alone(database: Database, app: psycopg.Connection[Any]) -> None:
    before = content(app)
    sql = (
        "SELECT $1, :a, %s FROM office.boats WHERE id = ANY($2); DELETE FROM office.boats; "
        "UPDATE office.boats SET price = :p; DROP TABLE office.berths"
    )
    assert problems_in(sql, database, DIALECT) == []
    assert content(app) == before


def test_an_endless_question_is_stopped(database: Database) -> None:
    endless = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT max(x) FROM n"
    stopped: list[float] = []

    def stop() -> None:
        time.sleep(0.5)
        stopped.append(time.monotonic())
        database.interrupt()

    thread = threading.Thread(target=stop)
    thread.start()
    with pytest.raises(Cancelled):
        statements_of(database).stream(statements(endless)[0].statement, CollectedRows())
    assert time.monotonic() - stopped[0] < 5
    thread.join()
    database.resume()
    rows = CollectedRows()
    statements_of(database).stream(statements("SELECT 1")[0].statement, rows)
    assert rows.rows == [(1,)]


def test_a_step_of_a_server_is_asked_and_not_tried_out(database: Database, trail: Trail) -> None:
    first = trail.take(database)
    with trail.opened(first) as state:
        rows = CollectedRows()
        asked = statements("SELECT name FROM office.boats WHERE price > ? AND id < ?", **{
            "1": 2, "2": 4,
        })  # fmt: skip
        statements_of(state).stream(asked[0].statement, rows)
        assert rows.rows == [("boat 3",)]
        with pytest.raises(FeatureMissing, match="can only be read"):
            rehearser_of(state)


def test_plans_are_the_servers(database: Database, app: psycopg.Connection[Any]) -> None:
    before = content(app)
    asked = statements("SELECT * FROM office.boats WHERE price = :p", p="5.00")[0].statement
    runner = statements_of(database)
    planned = runner.plan(asked)
    assert planned[0].table == "boats"
    assert planned[0].rows is None
    assert runner.plan(asked, measured=True)[0].rows == 1
    deleting = statements("DELETE FROM log")[0].statement
    assert runner.plan(deleting)
    with pytest.raises(StatementRefused, match="not run to be measured"):
        runner.plan(deleting, measured=True)
    with pytest.raises(StatementFailed, match="nme") as failed:
        runner.plan(statements("SELECT nme FROM log")[0].statement)
    assert failed.value.at == 7
    assert content(app) == before


def test_what_outlives_a_rollback_is_said_beforehand(database: Database) -> None:
    schema = database.schema()
    told = outlives_a_rollback("INSERT INTO office.boats(name) VALUES ('x')", schema, DIALECT)
    assert told == ["numbers that office.boats gives out are gone, rolled back or not"]
    assert outlives_a_rollback("INSERT INTO log VALUES ('x')", schema, DIALECT) == []
    assert outlives_a_rollback("SELECT nextval('x')", schema, DIALECT)


def test_a_question_in_a_script_is_run_to_its_end_whatever_is_wanted_of_it(
    database: Database, app: psycopg.Connection[Any], trail: Trail
) -> None:
    app.execute(
        "CREATE FUNCTION public.noted(n int) RETURNS int LANGUAGE sql AS "
        "$$ INSERT INTO public.log VALUES (n::text) RETURNING n $$"
    )
    rows = CollectedRows(3)
    sql = "SELECT public.noted(i) FROM generate_series(1, 2500) i; SELECT 1 / 0"
    outcome = write_script(trail, database, statements(sql), lambda number: rows).outcome
    assert [one.fate for one in outcome.outcomes] == ["undone", "failed"]
    assert outcome.outcomes[1].error is not None
    assert "division by zero" in outcome.outcomes[1].error.message
    assert app.execute("SELECT count(*) FROM log").fetchone() == (0,)
    sql = "SELECT public.noted(i) FROM generate_series(1, 2500) i"
    outcome = write_script(trail, database, statements(sql), lambda number: rows).outcome
    assert [one.fate for one in outcome.outcomes] == ["done"]
    assert (len(rows.rows), rows.complete) == (3, False)
    assert app.execute("SELECT count(*) FROM log").fetchone() == (2500,)


def test_a_question_that_no_cursor_is_for_is_run_all_the_same(
    database: Database, trail: Trail
) -> None:
    rows = CollectedRows()
    sql = "WITH gone AS (DELETE FROM office.berths RETURNING boat) SELECT count(*) FROM gone"
    outcome = write_script(trail, database, statements(sql), lambda number: rows).outcome
    assert [one.fate for one in outcome.outcomes] == ["done"]
    assert rows.rows == [(20,)]
    wrong = write_script(trail, database, statements("SELECT nope FROM log"), lambda n: rows)
    assert wrong.outcome.error is not None
    assert wrong.outcome.error.at == 7
