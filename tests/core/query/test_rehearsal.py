"""A rehearsal shows what the real run changes, and leaves the file as it is, byte for byte."""

from __future__ import annotations

import random
import shutil
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import apsw
import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.diff.compare import compare
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.dialect import DIALECT
from jondel.core.errors import Cancelled, RecordsMovedOn, TargetBusy
from jondel.core.model.changes import Changes
from jondel.core.model.outcomes import CollectedRows, ScriptOutcome, ScriptStatement
from jondel.core.query.rehearsal import rehearsed
from jondel.core.query.scripts import script_of
from jondel.core.query.writing import write_script
from jondel.core.trail.trail import Trail
from seeds import seeds

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT UNIQUE, length REAL)",
    "CREATE TABLE berths(pier TEXT, number INT, boat_id INT REFERENCES boats ON DELETE CASCADE, "
    "PRIMARY KEY (pier, number)) WITHOUT ROWID",
    "CREATE TABLE log(what, at)",
    "CREATE TRIGGER renamed AFTER UPDATE OF name ON boats BEGIN "
    "INSERT INTO log VALUES (old.name || ' is ' || new.name, 1); END",
    "CREATE VIEW long_boats AS SELECT * FROM boats WHERE length > 10",
    "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n WHERE x < 300) "
    "INSERT INTO boats SELECT x, 'boat ' || x, x / 3.0 FROM n",
    "INSERT INTO berths SELECT char(65 + id % 5), id, id FROM boats WHERE id % 2",
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR, journal="WAL")


@pytest.fixture
def database(path: Path) -> Iterator[Database]:
    with closing(open_database(path)) as opened:
        yield opened


@pytest.fixture
def trail(database: Database) -> Iterator[Trail]:
    with closing(Trail(database.location)) as opened:
        yield opened


def statements(sql: str, **values: object) -> tuple[ScriptStatement, ...]:
    return script_of(sql, DIALECT).with_values(values)  # type: ignore[arg-type]


def no_sinks(_: int) -> None:
    return None


def rehearse(
    trail: Trail, database: Database, sql: str, *, foreign_keys: bool = True
) -> tuple[ScriptOutcome, Changes]:
    with rehearsed(
        trail, database, statements(sql), no_sinks, foreign_keys=foreign_keys
    ) as rehearsal:
        return rehearsal.outcome, compare(rehearsal.before, rehearsal.after)


def told(outcome: ScriptOutcome) -> list[tuple[str, int | None, str]]:
    """What is the same tried out and for real."""
    return [
        (one.fate, one.affected, one.error.message if one.error is not None else "")
        for one in outcome.outcomes
    ]


def plain(changes: Changes) -> tuple[object, ...]:
    return changes.tables, changes.schema_changes, changes.unread


SCRIPTS = [
    "UPDATE boats SET length = length + 1 WHERE id % 50 = 0",
    "DELETE FROM boats WHERE id < 20",
    "INSERT INTO boats(name) VALUES ('Gull'), ('Tern') RETURNING id; UPDATE boats SET name = 'X' "
    "WHERE name = 'Gull'",
    "BEGIN; DELETE FROM berths; ROLLBACK; DELETE FROM log",
    "BEGIN; UPDATE boats SET name = 'a' WHERE id = 1; COMMIT; UPDATE boats SET name = 'a'",
    "SAVEPOINT one; DELETE FROM boats; ROLLBACK TO one; RELEASE one; INSERT INTO log VALUES (1, 2)",
    "INSERT INTO boats VALUES (999, 'boat 1', 0)",
    "INSERT OR REPLACE INTO boats VALUES (1, 'boat 2', 0)",
    "INSERT INTO berths VALUES ('Z', 1, 12345)",
    "ALTER TABLE boats ADD COLUMN flag TEXT DEFAULT 'NL'; UPDATE boats SET flag = 'DE' WHERE id = 2"
    "",
    "CREATE TABLE crew(id INTEGER PRIMARY KEY, name); INSERT INTO crew(name) VALUES ('Ida');"
    "CREATE INDEX by_name ON crew(name)",
    "DROP TABLE log",
    "PRAGMA foreign_keys = OFF; BEGIN; CREATE TABLE new_boats(id INTEGER PRIMARY KEY, name TEXT);"
    "INSERT INTO new_boats SELECT id, name FROM boats; DROP TABLE boats;"
    "ALTER TABLE new_boats RENAME TO boats; COMMIT; PRAGMA foreign_keys = ON",
    "SELECT * FROM long_boats; DELETE FROM log; SELECT nothing",
    "VACUUM",
    "BEGIN; INSERT INTO log VALUES ('left', 'open')",
    "PRAGMA user_version = 7",
    "CREATE TRIGGER t AFTER INSERT ON log BEGIN DELETE FROM boats WHERE id = 3; END;"
    "INSERT INTO log VALUES (1, 1)",
    "WITH gone(id) AS (SELECT id FROM boats WHERE id > 290) DELETE FROM boats WHERE id IN gone",
    "UPDATE boats SET name = name",
]


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
@pytest.mark.parametrize("sql", SCRIPTS)
def test_the_real_run_changes_what_the_rehearsal_showed(
    make: MakeDatabase, sql: str, journal: str
) -> None:
    path = make(*HARBOUR, journal=journal)
    _same_for_real(path, sql)


def _same_for_real(path: Path, sql: str, *, foreign_keys: bool = True) -> None:
    content = path.read_bytes()
    with (
        closing(open_database(path)) as database,
        closing(Trail(database.location)) as trail,
    ):
        before = trail.take(database)
        outcome, changes = rehearse(trail, database, sql, foreign_keys=foreign_keys)
        assert path.read_bytes() == content
        assert not list(path.parent.glob(f"{path.name}-*"))
        done = write_script(trail, database, statements(sql), no_sinks, foreign_keys=foreign_keys)
        assert told(done.outcome) == told(outcome)
        real = trail.changes(before, database)
        assert plain(real) == plain(changes)
        step = next((s for s in trail.steps() if s.number == done.step), None)
        assert (step is None) == (trail.find("last") == before)


TABLES = ["boats", "berths", "log"]
PARTS = """
UPDATE {t} SET {c} = {v} WHERE {w}
DELETE FROM {t} WHERE {w}
INSERT INTO boats(name, length) VALUES ({v}, {v})
INSERT OR IGNORE INTO boats VALUES ({v}, {v}, 1)
INSERT INTO berths VALUES ('Q', {v}, {v})
INSERT INTO log SELECT name, id FROM boats WHERE {w}
BEGIN
COMMIT
ROLLBACK
SAVEPOINT s
ROLLBACK TO s
RELEASE s
CREATE INDEX IF NOT EXISTS i ON boats(length)
DROP INDEX IF EXISTS i
ALTER TABLE log ADD COLUMN more DEFAULT {v}
CREATE TABLE t{n}(a, b)
DROP TABLE IF EXISTS log
PRAGMA foreign_keys = OFF
VACUUM
REINDEX
SELECT count(*) FROM boats
PRAGMA user_version = {n}
""".strip().splitlines()


def _random_script(choose: random.Random) -> str:
    parts = []
    for number in range(choose.randint(1, 8)):
        table = choose.choice(TABLES)
        column = {"boats": "length", "berths": "number", "log": "at"}[table]
        low = choose.randint(0, 200)
        values = {
            "t": table,
            "c": column,
            "n": number,
            "v": choose.choice(["1", "'boat 7'", "NULL", "12.5", "x'00'", "7"]),
            "w": choose.choice([f"{column} > {low}", f"{column} = 3", "1", "0"]),
        }
        parts.append(choose.choice(PARTS).format(**values))
    return "; ".join(parts)


@pytest.mark.parametrize("seed", seeds("JONDEL_SCRIPT_SEEDS", 25))
def test_random_scripts(make: MakeDatabase, seed: int) -> None:
    choose = random.Random(seed)
    path = make(*HARBOUR, journal=choose.choice(["WAL", "DELETE"]))
    for _ in range(3):
        _same_for_real(path, _random_script(choose), foreign_keys=choose.random() < 0.5)


def test_a_rehearsal_beside_an_app_takes_no_lock(
    path: Path, database: Database, trail: Trail, app: OpenApp
) -> None:
    """An app that waits for nobody writes all the while, and none of its writes is refused."""
    writing = app(path, timeout=0.0)
    stop, refused = threading.Event(), []

    def write() -> None:
        while not stop.is_set():
            try:
                writing.run("UPDATE boats SET length = length + 1 WHERE id = 5")
            except Exception as error:
                refused.append(error)

    thread = threading.Thread(target=write)
    thread.start()
    try:
        for _ in range(15):
            outcome, changes = rehearse(trail, database, "DELETE FROM boats WHERE id = 9")
            assert outcome.error is None
            assert {t.table.name: t.counts.removed for t in changes.tables} == {
                "boats": 1, "berths": 1,
            }  # fmt: skip
    finally:
        stop.set()
        thread.join()
    assert not refused


def test_writing_after_something_was_committed_is_refused(
    path: Path, database: Database, trail: Trail
) -> None:
    sql = statements("UPDATE boats SET length = 0 WHERE id = 1")
    with rehearsed(trail, database, sql, no_sinks) as rehearsal:
        since = rehearsal.since
    with closing(sqlite3.connect(path)) as other:
        other.execute("DELETE FROM log")
        other.execute("INSERT INTO log VALUES (1, 1)")
        other.commit()
    content = path.read_bytes()
    with pytest.raises(RecordsMovedOn):
        write_script(trail, database, sql, no_sinks, since=since)
    assert path.read_bytes() == content
    assert trail.empty


def test_a_step_is_tried_out_and_stays_as_it_was(database: Database, trail: Trail) -> None:
    first = trail.take(database)
    write_script(trail, database, statements("DELETE FROM boats WHERE id > 10"), no_sinks)
    with rehearsed(trail, first, statements("DELETE FROM boats WHERE id > 290"), no_sinks) as tried:
        changes = compare(tried.before, tried.after)
        assert tried.since is None
    assert {t.table.name: t.counts.removed for t in changes.tables} == {"boats": 10, "berths": 5}
    with trail.opened(first) as state:
        assert state.rows.measure(state.schema().tables[1]).rows == 300


@pytest.mark.parametrize("sql", ["ATTACH '{}' AS more", "VACUUM INTO '{}'"])
def test_no_other_file_is_made(database: Database, trail: Trail, tmp_path: Path, sql: str) -> None:
    other = tmp_path / "other.db"
    outcome, changes = rehearse(trail, database, sql.format(other))
    assert outcome.error is not None
    assert "not tried out" in outcome.error.message
    assert changes.empty
    assert not other.exists()


def test_what_is_about_the_file_is_said_and_not_done(database: Database, trail: Trail) -> None:
    outcome, changes = rehearse(
        trail, database, "PRAGMA journal_mode = DELETE; PRAGMA page_size = 1024; VACUUM"
    )
    assert outcome.notes == (
        "PRAGMA journal_mode is not tried out",
        "PRAGMA page_size is not tried out",
    )
    assert changes.empty


def test_rows_come_from_what_was_written(database: Database, trail: Trail) -> None:
    sinks: dict[int, CollectedRows] = {}

    def sink_for(number: int) -> CollectedRows:
        return sinks.setdefault(number, CollectedRows())

    sql = "DELETE FROM boats WHERE id > :n RETURNING id; SELECT count(*) AS left FROM boats"
    with rehearsed(trail, database, statements(sql, n=298), sink_for):
        pass
    assert sorted(sinks[0].rows) == [(299,), (300,)]
    assert sinks[1].rows == [(298,)]
    assert [column.name for column in sinks[1].columns] == ["left"]
    assert sinks[0].columns[0].column == "id"


def test_a_script_that_never_ends_is_stopped(database: Database, trail: Trail) -> None:
    endless = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) "
    sql = f"DELETE FROM log; {endless} INSERT INTO log SELECT count(*), 1 FROM n"
    working: list[Database] = []
    seconds: list[float] = []

    def stop() -> None:
        time.sleep(0.4)
        seconds.append(time.monotonic())
        working[-1].interrupt()

    thread = threading.Thread(target=stop)
    thread.start()
    with (
        pytest.raises(Cancelled),
        rehearsed(trail, database, statements(sql), no_sinks, opened=working.append),
    ):
        pass
    thread.join()
    assert time.monotonic() - seconds[0] < 5  # far more than it takes


def test_a_large_overlay_goes_to_a_file(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("jondel.core.engines.sqlite.overlay._IN_MEMORY_BYTES", 10_000)
    path = make(*HARBOUR)
    _same_for_real(path, "UPDATE boats SET name = name || ' of the harbour'")


def test_an_empty_database_gets_its_first_table(tmp_path: Path) -> None:
    path = tmp_path / "empty.db"
    path.touch()
    _same_for_real(path, "CREATE TABLE t(a); INSERT INTO t VALUES (1)")
    with closing(apsw.Connection(str(path))) as connection:
        assert connection.execute("SELECT * FROM t").fetchall() == [(1,)]


def test_a_collation_of_the_app_is_not_written_by(
    tmp_path: Path, make_with_collation: Callable[[Path], None]
) -> None:
    path = tmp_path / "own.db"
    make_with_collation(path)
    copy = tmp_path / "copy.db"
    shutil.copy(path, copy)
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        outcome, changes = rehearse(trail, database, "INSERT INTO t VALUES ('b')")
        assert outcome.error is not None
        assert "collation" in outcome.error.message
        assert changes.empty
    assert path.read_bytes() == copy.read_bytes()


@pytest.fixture
def make_with_collation() -> Callable[[Path], None]:
    def made(path: Path) -> None:
        with closing(sqlite3.connect(path)) as connection:
            connection.create_collation("backwards", lambda a, b: (a < b) - (a > b))
            connection.execute("CREATE TABLE t(a TEXT COLLATE backwards PRIMARY KEY)")
            connection.execute("INSERT INTO t VALUES ('a')")
            connection.commit()

    return made


def test_what_was_written_is_told_even_where_no_step_can_be_made_of_it(
    path: Path, database: Database, trail: Trail, monkeypatch: pytest.MonkeyPatch
) -> None:
    take, times = trail.take_unless_unchanged, []

    def busy_afterwards(*given: Any) -> object:
        times.append(1)
        if len(times) > 1:
            raise TargetBusy("the app writes without a pause")
        return take(*given)

    monkeypatch.setattr(trail, "take_unless_unchanged", busy_afterwards)
    done = write_script(trail, database, statements("DELETE FROM boats WHERE id > 10"), no_sinks)
    assert done.step is None
    assert done.why == "it is no step: the app writes without a pause"
    assert [one.fate for one in done.outcome.outcomes] == ["done"]
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT count(*) FROM boats").fetchone() == (10,)
