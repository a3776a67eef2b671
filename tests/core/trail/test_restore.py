"""Putting a database back: as a whole, a table, a step, one record; checked, and never by half."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from app_process import AppProcess
from conftest import MakeDatabase, OpenApp
from jondel.core.diff.compare import Scope
from jondel.core.engines.protocol import Database
from jondel.core.errors import (
    LinkedInTheWay,
    RecordsMovedOn,
    TableNotFound,
    TargetLocked,
    WriteRefused,
)
from jondel.core.model.addresses import TableId
from jondel.core.trail import restore as restoring
from jondel.core.trail.restore import restore, take_back_record, take_back_step
from jondel.core.trail.trail import Trail
from outside import content, rows

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]

_HARBOUR = (
    "CREATE TABLE pontoons(id INTEGER PRIMARY KEY, name TEXT UNIQUE)",
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, pontoon_id REFERENCES pontoons(id), size, note)",
    "CREATE TABLE rates(season TEXT, size, price REAL, PRIMARY KEY (season, size)) WITHOUT ROWID",
    "CREATE TABLE log(what)",
    "CREATE TABLE counted(id INTEGER PRIMARY KEY AUTOINCREMENT, v)",
    "CREATE TABLE made(id INTEGER PRIMARY KEY, v, w AS (v || '!') STORED)",
    "CREATE VIRTUAL TABLE words USING fts5(note)",
    "CREATE TRIGGER noted AFTER UPDATE OF size ON berths BEGIN "
    "INSERT INTO log VALUES ('size of ' || new.id); END",
    "INSERT INTO pontoons VALUES (1, 'north'), (2, 'south')",
    "INSERT INTO berths VALUES (1, 1, 800, NULL), (2, 1, 1000, ''), (3, 2, 1200, x'00ff')",
    "INSERT INTO rates VALUES ('summer', 800, 21.5), ('summer', 1000, 30)",
    "INSERT INTO counted(v) VALUES ('a')",
    "INSERT INTO made(id, v) VALUES (1, 'a')",
    "INSERT INTO words VALUES ('a quiet berth')",
)
_WORK = (
    "INSERT INTO pontoons VALUES (3, 'west')",
    "INSERT INTO berths VALUES (4, 3, 900, 'new')",
    "UPDATE berths SET size = 1100, note = CAST(x'61ff' AS TEXT) WHERE id = 2",
    "DELETE FROM berths WHERE id = 3",
    "UPDATE rates SET price = 99 WHERE size = 800",
    "INSERT INTO rates VALUES ('winter', 800, 9.0)",
    "DELETE FROM rates WHERE size = 1000",
    "UPDATE counted SET v = 'b'",
    "INSERT INTO counted(v) VALUES ('c')",
    "UPDATE made SET v = 'b'",
    "UPDATE words SET note = 'a loud berth'",
    "INSERT INTO words VALUES ('boats')",
)


@pytest.fixture(params=["WAL", "DELETE"])
def path(request: pytest.FixtureRequest, make: MakeDatabase) -> Path:
    return make(*_HARBOUR, journal=request.param)


def _do(app: AppProcess, *statements: str) -> None:
    for statement in statements:
        app.run(statement)


def test_the_whole_database_goes_back_and_the_running_app_sees_it(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    start = trail.take(database, "start")
    before = content(path)
    _do(writer, *_WORK)
    after = content(path)
    done = restore(trail, database, start)
    assert done.method == "rows"
    assert content(path) == before
    assert writer.run("SELECT count(*) FROM berths") == [[3]]
    assert writer.run("SELECT note FROM words WHERE words MATCH 'quiet'") == [["a quiet berth"]]
    assert trail.changes(start, database, Scope(internal=True)).empty
    undone = restore(trail, database, done.before)
    assert content(path) == after
    assert undone.after.trigger.kind == "restore"


def test_a_change_of_the_schema_is_undone_by_copying_the_database_over(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    start = trail.take(database, "start")
    before = content(path)
    _do(writer, *_WORK, "ALTER TABLE berths ADD COLUMN power", "CREATE TABLE boats(id)")
    done = restore(trail, database, start)
    assert done.method == "copy"
    assert content(path) == before
    assert len(writer.run("SELECT * FROM berths")[0]) == 4
    writer.run("INSERT INTO berths VALUES (9, 1, 1, NULL)")
    assert trail.changes(start, database).counts.marked() == "+1"


def test_many_changes_are_undone_by_copying_too(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(restoring, "_MOST_RECORDS", 3)
    database = opened(path)
    trail = trail_of(database)
    start, before = trail.take(database), content(path)
    _do(app(path), *_WORK)
    assert restore(trail, database, start).method == "copy"
    assert content(path) == before


def test_settings_of_the_database_go_back_too(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database = opened(path)
    trail = trail_of(database)
    start = trail.take(database)
    app(path).run("PRAGMA user_version=7")
    assert restore(trail, database, start).method == "copy"
    assert rows(path, "PRAGMA user_version") == [[0]]


def test_nothing_is_done_where_there_is_nothing_to_do(
    path: Path, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(path)
    trail = trail_of(database)
    start = trail.take(database)
    done = restore(trail, database, start)
    assert done.before.number == done.after.number == start.number
    assert len(trail.snapshots()) == 1


def test_values_that_changed_places_go_back(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database = opened(path)
    trail = trail_of(database)
    start, before = trail.take(database), content(path)
    _do(
        app(path),
        "UPDATE pontoons SET name = 'x' WHERE id = 1",
        "UPDATE pontoons SET name = 'north' WHERE id = 2",
        "UPDATE pontoons SET name = 'south' WHERE id = 1",
    )
    assert restore(trail, database, start).method == "rows"
    assert content(path) == before


def test_one_table_goes_back_and_the_others_stay(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    start = trail.take(database)
    _do(writer, *_WORK)
    restore(trail, database, start, [TableId("rates"), TableId("words")])
    assert writer.run("SELECT count(*), sum(price) FROM rates") == [[2, 51.5]]
    assert writer.run("SELECT note FROM words") == [["a quiet berth"]]
    assert writer.run("SELECT count(*) FROM pontoons") == [[3]]
    with pytest.raises(TableNotFound, match="boats"):
        restore(trail, database, start, [TableId("boats")])


def test_a_table_that_others_point_into_does_not_leave_them_dangling(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database = opened(path)
    trail = trail_of(database)
    start = trail.take(database)
    _do(app(path), *_WORK)
    before = content(path)
    with pytest.raises(WriteRefused, match=r"berths 4 points at pontoons with id = 3"):
        restore(trail, database, start, [TableId("pontoons")])
    assert content(path) == before


def test_a_step_is_taken_back_while_later_ones_stay(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    trail.take(database)
    _do(writer, "UPDATE berths SET note = 'wrong' WHERE id = 1", "INSERT INTO log VALUES ('x')")
    trail.take(database)
    _do(writer, "UPDATE berths SET size = 850 WHERE id = 1", "INSERT INTO pontoons VALUES (9, 'z')")
    trail.take(database)
    done = take_back_step(trail, database, trail.steps()[1])
    assert writer.run("SELECT size, note FROM berths WHERE id = 1") == [[850, None]]
    assert writer.run("SELECT count(*) FROM log WHERE what = 'x'") == [[0]]
    assert writer.run("SELECT count(*) FROM pontoons") == [[3]]
    assert done.undone.tables[TableId("berths")].changed == 1


@pytest.mark.parametrize(
    ("later", "named"),
    [
        pytest.param("UPDATE berths SET note = 'q' WHERE id = 1", "berths 1", id="cell-changed"),
        pytest.param("DELETE FROM berths WHERE id = 1", "berths 1", id="row-removed"),
        pytest.param("UPDATE berths SET note = CAST('wrong' AS BLOB) WHERE id = 1", "berths 1",
                     id="other-storage-class"),
        pytest.param("UPDATE pontoons SET name = 'q' WHERE id = 7", "pontoons 7", id="added-row"),
        pytest.param("INSERT INTO berths VALUES (3, 1, 1, NULL)", "berths 3", id="removed-is-back"),
        pytest.param("INSERT INTO berths VALUES (8, 7, 1, NULL)", "pontoons", id="pointed-at"),
    ],
)  # fmt: skip
def test_what_has_moved_on_is_not_taken_back_and_nothing_is_written(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp, later: str, named: str
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    trail.take(database)
    _do(
        writer,
        "UPDATE berths SET note = 'wrong' WHERE id = 1",
        "DELETE FROM berths WHERE id = 3",
        "INSERT INTO pontoons VALUES (7, 'far')",
    )
    trail.take(database)
    writer.run(later)
    before = content(path)
    with pytest.raises((RecordsMovedOn, WriteRefused), match=named):
        take_back_step(trail, database, trail.steps()[1])
    assert content(path) == before


def test_a_link_that_led_nowhere_before_may_do_so_again(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(*_HARBOUR, "INSERT INTO berths VALUES (5, 77, 1, 'points at nothing')")
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    trail.take(database)
    writer.run("DELETE FROM berths WHERE id = 5")
    trail.take(database)
    take_back_step(trail, database, trail.steps()[1])
    assert writer.run("SELECT pontoon_id FROM berths WHERE id = 5") == [[77]]


def test_one_records_change_is_taken_back_with_the_triggers_running(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    first = trail.take(database)
    _do(writer, "UPDATE berths SET size = 1 WHERE id IN (1, 2)")
    take_back_record(trail, database, (first, database), TableId("berths"), lambda r: r.key == (2,))
    assert writer.run("SELECT id, size FROM berths WHERE id < 3") == [[1, 1], [2, 1000]]
    assert len(writer.run("SELECT * FROM log")) == 3
    with pytest.raises(WriteRefused, match="did not change"):
        take_back_record(
            trail, database, (first, database), TableId("berths"), lambda r: r.key == (3,)
        )


def test_what_only_the_app_can_order_is_not_written(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, tmp_path: Path
) -> None:
    path = tmp_path / "app.db"

    def write(*statements: str) -> None:
        program = (
            "import sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
            "c.create_collation('tidal', lambda a, b: (a < b) - (a > b))\n"
            "for statement in sys.argv[2:]: c.execute(statement)"
        )
        subprocess.run([sys.executable, "-c", program, str(path), *statements], check=True)

    write(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT COLLATE tidal)",
        "CREATE INDEX t_v ON t(v)",
        "INSERT INTO t VALUES (1, 'a'), (2, 'b')",
    )
    database = opened(path)
    trail = trail_of(database)
    trail.take(database)
    write("UPDATE t SET v = 'c' WHERE id = 1")
    trail.take(database)
    before = path.read_bytes()
    with pytest.raises(WriteRefused, match="tidal"):
        take_back_step(trail, database, trail.steps()[1])
    assert path.read_bytes() == before
    # As a whole it can go back: then nothing has to be put in order.
    assert restore(trail, database, trail.find("s1")).method == "copy"
    assert rows(path, "SELECT v || '' FROM t NOT INDEXED") == [["a"], ["b"]]


def test_a_database_that_is_held_is_left_alone(
    path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp, monkeypatch: pytest.MonkeyPatch
) -> None:
    from jondel.core.engines.sqlite import writer as writing

    monkeypatch.setattr(writing, "BUSY_TIMEOUT_MS", 50)
    database, holder = opened(path), app(path)
    trail = trail_of(database)
    start = trail.take(database)
    holder.run("UPDATE berths SET size = 1")
    holder.run("BEGIN IMMEDIATE")
    with pytest.raises(TargetLocked, match="nothing was written"):
        restore(trail, database, start)
    holder.run("ROLLBACK")
    assert holder.run("SELECT sum(size) FROM berths") == [[3]]
    assert restore(trail, database, start).undone.tables[TableId("berths")].changed == 3


@pytest.mark.parametrize("by_copy", [False, True])
def test_a_commit_that_comes_in_between_stops_the_restore(
    path: Path,
    opened: Opened,
    trail_of: TrailOf,
    app: OpenApp,
    monkeypatch: pytest.MonkeyPatch,
    by_copy: bool,
) -> None:
    """What the app writes after the snapshot that is taken first would be lost unseen."""
    database, writer = opened(path), app(path)
    trail = trail_of(database)
    start = trail.take(database)
    writer.run("UPDATE berths SET size = 1")
    original = trail.changes

    def and_then_a_commit(*arguments: Any, **options: Any) -> Any:
        found = original(*arguments, **options)
        writer.run("INSERT INTO log VALUES ('in between')")
        return found

    monkeypatch.setattr(trail, "changes", and_then_a_commit)
    if by_copy:
        monkeypatch.setattr(restoring, "_MOST_RECORDS", 0)
    with pytest.raises(RecordsMovedOn, match="written to it meanwhile"):
        restore(trail, database, start)
    assert writer.run("SELECT count(*) FROM log WHERE what = 'in between'") == [[1]]
    assert writer.run("SELECT sum(size) FROM berths") == [[3]]


def test_what_links_take_along_is_refused_or_included(
    make: MakeDatabase, app: OpenApp, opened: Opened, trail_of: TrailOf
) -> None:
    """As on a server, although here it is Jondel that cascades."""
    path = make(
        "CREATE TABLE par(id INTEGER PRIMARY KEY, name TEXT)",
        "CREATE TABLE kid(id INTEGER PRIMARY KEY, par REFERENCES par ON DELETE CASCADE)",
        "CREATE TABLE note(what, par REFERENCES par ON DELETE SET NULL)",
        "CREATE TABLE lost(par REFERENCES par ON DELETE CASCADE)",
        "INSERT INTO lost VALUES (1)",  # which pointed at nothing before
    )
    database = opened(path)
    trail = trail_of(database)
    trail.take(database)
    user = app(path)
    user.run("INSERT INTO par VALUES (1, 'a')")
    trail.take(database)
    user.run("INSERT INTO kid VALUES (7, 1)")
    user.run("INSERT INTO note VALUES ('x', 1)")
    before = content(path)
    step = trail.steps()[1]
    with pytest.raises(LinkedInTheWay, match="kid 7 points at par with id = 1"):
        take_back_step(trail, database, step)
    assert content(path) == before
    done = take_back_step(trail, database, step, with_linked=True)
    assert {str(t): c.marked() for t, c in done.linked.tables.items()} == {
        "kid": "-1",
        "note": "~1",
    }
    assert rows(path, "SELECT count(*) FROM par") == rows(path, "SELECT count(*) FROM kid") == [[0]]
    assert rows(path, "SELECT * FROM note") == [["x", None]]
    assert rows(path, "SELECT * FROM lost") == [[1]]


def test_a_write_that_was_rolled_back_is_not_taken_for_the_apps(
    make: MakeDatabase, app: OpenApp, opened: Opened, trail_of: TrailOf
) -> None:
    """Rows that outgrow the page cache reach the file before they are rolled back."""
    path = make(
        "PRAGMA page_size=65536",
        "CREATE TABLE big(id INTEGER PRIMARY KEY, v)",
        "CREATE TABLE ranks(id INTEGER PRIMARY KEY, pos UNIQUE) WITHOUT ROWID",
        "INSERT INTO big WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE "
        "i < 200) SELECT i, randomblob(60000) FROM n",
        "INSERT INTO ranks VALUES (1, 1), (2, 2)",
    )
    database = opened(path)
    trail = trail_of(database)
    start, before = trail.take(database), content(path)
    user = app(path)
    user.run("UPDATE big SET v = randomblob(60000)")
    user.run("UPDATE ranks SET pos = -pos")
    user.run("UPDATE ranks SET pos = 3 + pos")
    done = restore(trail, database, start)
    assert done.method == "copy"
    assert content(path) == before


def test_a_table_of_very_many_columns_is_put_back(
    make: MakeDatabase, app: OpenApp, opened: Opened, trail_of: TrailOf
) -> None:
    columns = ", ".join(f"c{n}" for n in range(1990))
    path = make(f"CREATE TABLE wide(id INTEGER PRIMARY KEY, {columns})",
                "INSERT INTO wide(id, c7) VALUES (1, 'a'), (2, -0.0)")  # fmt: skip
    database = opened(path)
    trail = trail_of(database)
    start, before = trail.take(database), content(path)
    app(path).run("UPDATE wide SET c1989 = 'x'")
    app(path).run("UPDATE wide SET c7 = 0.0 WHERE id = 2")
    app(path).run("INSERT INTO wide(id) VALUES (3)")
    step = trail.take(database)
    assert trail.changes(start, step).counts.marked() == "+1 ~2"
    take_back_step(trail, database, trail.steps()[1])
    assert content(path) == before
