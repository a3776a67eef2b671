"""Whatever takes long is stopped at once, and what was stopped has done nothing."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import apsw
import pytest

import outside
from conftest import MakeDatabase, OpenApp
from jondel.core.browse.link_guesses import guessed_links
from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_plan import cells_of, plan_of
from jondel.core.draft.draft_writer import write_draft
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.key_occurrence import which_occur
from jondel.core.errors import Cancelled
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.trail.history import record_history
from jondel.core.trail.restore import Stopping, restore, take_back_step
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]
_ROWS = 3000
_ENDLESS = (
    "SELECT count(*) FROM (WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) "
    "SELECT * FROM n)"
)
_SCHEMA = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)",
    "CREATE TABLE trips(id INTEGER PRIMARY KEY, boat_id INTEGER REFERENCES boats(id))",
)


def _numbers(most: int) -> str:
    return (
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n "
        f"WHERE i < {most}) SELECT i FROM n"
    )


def _table(database: Database, name: str) -> Table:
    table = database.schema().named(name)
    assert table is not None
    return table


class _Interrupted:
    """Databases that are interrupted as soon as a piece of work has used one."""

    def __init__(self) -> None:
        self._used: list[Database] = []

    def uses(self, database: Database) -> None:
        self._used.append(database)
        database.interrupt()


def test_what_is_asked_after_an_interrupt_is_refused_until_it_is_taken_up_again(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(make(*_SCHEMA))
    table = _table(database, "boats")
    database.interrupt()
    asked: list[Callable[[], Any]] = [
        database.schema,
        lambda: database.rows.measure(table),
        lambda: database.rows.read_window(table, 0, 5),
        lambda: statements_of(database).execute("SELECT 1"),
        lambda: database.rows.find_position(table, ("id",), (1,)),
        lambda: list(database.finder.find_text(table, "x", whole=False)),
    ]
    for ask in asked:
        with pytest.raises(Cancelled):
            ask()
    database.resume()
    for ask in asked:
        ask()


def test_looking_for_links_does_not_take_an_interrupt_for_a_link_that_leads_nowhere(
    make: MakeDatabase, opened: Opened, monkeypatch: pytest.MonkeyPatch
) -> None:
    database = opened(
        make(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY)",
            "CREATE TABLE trips(id INTEGER PRIMARY KEY, boat_id INTEGER)",
            "INSERT INTO boats VALUES (1)",
            "INSERT INTO trips VALUES (1, 1)",
        )
    )
    schema = database.schema()
    assert len(list(guessed_links(database, schema))) == 1
    database.interrupt()
    with pytest.raises(Cancelled):
        list(guessed_links(database, schema))


def test_history_is_stopped_also_where_states_need_not_be_read(
    make: MakeDatabase, opened: Opened, app: OpenApp, trail_of: TrailOf
) -> None:
    path = make(*_SCHEMA, "INSERT INTO boats VALUES (1, 'Gull')")
    database = opened(path)
    trail = trail_of(database)
    writer = app(path)
    for number in range(30):
        writer.run(f"INSERT INTO trips VALUES ({number}, 1)")
        trail.take(database)
    states: list[Database] = []
    versions = record_history(
        trail, TableId("boats"), ("id",), (1,), database, opened=states.append
    )
    next(versions)
    states[-1].interrupt()
    with pytest.raises(Cancelled):
        next(versions)
    assert len(states) == 1


def test_taking_back_many_rows_takes_few_passes(
    make: MakeDatabase,
    opened: Opened,
    app: OpenApp,
    trail_of: TrailOf,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    path = make(*_SCHEMA, f"INSERT INTO trips(boat_id) SELECT NULL FROM ({_numbers(200_000)})")
    database = opened(path)
    trail = trail_of(database)
    trail.take(database)
    app(path).run(f"INSERT INTO boats SELECT i, 'Tern' FROM ({_numbers(_ROWS)})")
    trail.take(database)
    step = trail.steps()[-1]
    looked_up: list[object] = []
    find = type(database.rows).find_position

    def counting(*arguments: Any) -> Any:
        looked_up.append(arguments)
        return find(*arguments)

    monkeypatch.setattr(type(database.rows).__mro__[1], "find_position", counting)
    take_back_step(trail, database, step)
    assert len(looked_up) < 20
    assert outside.rows(path, "SELECT count(*) FROM boats") == [[0]]


@pytest.mark.parametrize("declared", ["", "INTEGER", "TEXT", "NUMERIC", "REAL", "BLOB"])
def test_which_keys_occur_is_told_as_one_by_one(
    make: MakeDatabase, opened: Opened, declared: str
) -> None:
    database = opened(
        make(
            f"CREATE TABLE t(a TEXT COLLATE NOCASE, b {declared})",
            "INSERT INTO t VALUES ('x', 1), ('Y', '1'), ('z', 1.0), ('z', x'31'), ('q', NULL)",
        )
    )
    table = _table(database, "t")
    keys = [(a, b) for a in ("x", "X", "y", "Y", "z") for b in (1, "1", 1.0, "1.0", 2, b"1")]
    told = database.rows.which_occur(table, ("a", "b"), keys)
    assert told == {
        place
        for place, key in enumerate(keys)
        if database.rows.find_position(table, ("a", "b"), key) is not None
    }
    assert 0 < len(told) < len(keys)


@pytest.mark.parametrize("declared", ["", "INTEGER", "TEXT", "NUMERIC", "REAL", "BLOB"])
def test_many_keys_are_looked_for_by_an_index_of_them(
    make: MakeDatabase, opened: Opened, declared: str
) -> None:
    path = make(f"CREATE TABLE t(a {declared})")
    table = _table(opened(path), "t")
    asked: list[str] = []
    with closing(apsw.Connection(str(path))) as connection:

        def note(trace: dict[str, Any]) -> None:
            asked.append(trace["sql"])

        connection.trace_v2(apsw.SQLITE_TRACE_STMT, note)
        which_occur(connection, table, ("a",), [(n,) for n in range(50)])
        connection.trace_v2(0, None)
        marks = (0,) * asked[0].count("?")
        plan = connection.execute(f"EXPLAIN QUERY PLAN {asked[0]}", marks).fetchall()
    assert any("SEARCH k USING AUTOMATIC" in row[-1] for row in plan), plan


@contextmanager
def _interrupting(database: Database, after_seconds: float) -> Any:
    """Interrupt a database after a while; fails where the block does not end soon after."""
    asked: list[float] = []

    def interrupt() -> None:
        asked.append(time.monotonic())
        database.interrupt()

    timer = threading.Timer(after_seconds, interrupt)
    timer.start()
    with pytest.raises(Cancelled):
        yield
    assert asked, "it was over before"
    database.resume()


def test_a_write_is_stopped_and_nothing_is_written(make: MakeDatabase, opened: Opened) -> None:
    path = make(
        *_SCHEMA,
        f"CREATE TRIGGER slow BEFORE INSERT ON boats BEGIN {_ENDLESS}; END",
    )
    database = opened(path)
    draft = Draft()
    draft.insert(TableId("trips"), {"id": 5})
    draft.insert(TableId("boats"), {"id": 5})
    before = outside.content(path)
    with _interrupting(database, 0.3):
        write_draft(draft, database, None)
    assert outside.content(path) == before


@pytest.mark.parametrize("way", ["restore", "take back", "restore by copying"])
def test_putting_back_is_stopped_before_it_is_written_or_seen_through(
    make: MakeDatabase, opened: Opened, app: OpenApp, trail_of: TrailOf, way: str
) -> None:
    path = make(*_SCHEMA, "INSERT INTO boats VALUES (1, 'Gull')")
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database)
    writer = app(path)
    writer.run("UPDATE boats SET name = 'Tern'")
    if way == "restore by copying":
        writer.run("CREATE INDEX named ON boats(name)")
    trail.take(database)
    before = outside.content(path)
    interrupted = _Interrupted()

    def put_back(stopping: Stopping) -> None:
        if way == "take back":
            take_back_step(trail, database, trail.steps()[-1], stopping)
        else:
            restore(trail, database, first, None, stopping)

    with pytest.raises(Cancelled):
        put_back(Stopping(opened=interrupted.uses))
    assert outside.content(path) == before
    committed: list[list[list[object]]] = []
    put_back(
        Stopping(committed=lambda: committed.append(outside.rows(path, "SELECT name FROM boats")))
    )
    assert committed == [[["Gull"]]]


def test_an_export_that_is_stopped_leaves_no_file(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, tmp_path: Path
) -> None:
    database = opened(make(*_SCHEMA))
    trail = trail_of(database)
    snapshot = trail.take(database)
    (tmp_path / "out").mkdir()

    def stopped() -> None:
        raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        trail.export(snapshot, tmp_path / "out" / "state.db", stopped)
    assert list((tmp_path / "out").iterdir()) == []


def test_planning_a_deletion_is_stopped(make: MakeDatabase, opened: Opened) -> None:
    path = make(
        "CREATE TABLE f(id INTEGER PRIMARY KEY, above REFERENCES f(id) ON DELETE CASCADE)",
        f"INSERT INTO f SELECT i, nullif(i - 1, 0) FROM ({_numbers(9000)})",
    )
    database = opened(path)
    table = _table(database, "f")
    row = database.rows.read_record(table, (1,), 100)
    assert row is not None
    draft = Draft()
    draft.delete(TableId("f"), (1,), cells_of(table, row))
    with _interrupting(database, 0.1):
        plan_of(draft, database)
