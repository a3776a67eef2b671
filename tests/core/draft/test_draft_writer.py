"""Drafts written: all or nothing, checked, in order, as a step; and taken back."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import apsw
import pytest
from hypothesis import given
from hypothesis import strategies as st

import outside
from conftest import MakeDatabase, OpenApp
from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_plan import cells_of, plan_of
from jondel.core.draft.draft_writer import Places, conflicts_of, settle, write_draft
from jondel.core.engines.needed import writer_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import RecordsMovedOn, WriteError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.trail.restore import take_back_step
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]

_HARBOUR = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)",
    "INSERT INTO berths VALUES (1, 'north'), (2, 'south')",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, length REAL DEFAULT 7.5, "
    "berth INTEGER REFERENCES berths(id) ON DELETE SET NULL)",
    "INSERT INTO boats VALUES (1, 'Gull', 8.0, 1), (2, 'Tern', NULL, 1), (3, '', 6.0, NULL)",
    "CREATE TABLE crews(boat INTEGER REFERENCES boats ON DELETE CASCADE, seat INTEGER, who TEXT, "
    "PRIMARY KEY (boat, seat)) WITHOUT ROWID",
    "INSERT INTO crews VALUES (1, 1, 'Ada'), (1, 2, 'Ben'), (2, 1, 'Cle')",
    "CREATE TABLE fees(id INTEGER PRIMARY KEY, boat INTEGER NOT NULL REFERENCES boats(id))",
    "INSERT INTO fees VALUES (10, 2)",
)


def _table(database: Database, name: str) -> Table:
    table = database.schema().named(name)
    assert table is not None
    return table


def _edit(
    draft: Draft,
    database: Database,
    name: str,
    position: tuple[StoredValue, ...],
    /,
    **values: object,
) -> None:
    table = _table(database, name)
    row = database.rows.read_record(table, position, 1 << 20)
    assert row is not None
    for column, value in values.items():
        draft.set_cell(table.id, position, cells_of(table, row), column, value)  # type: ignore[arg-type]


def _delete(draft: Draft, database: Database, name: str, *position: StoredValue) -> None:
    table = _table(database, name)
    row = database.rows.read_record(table, position, 1 << 20)
    assert row is not None
    draft.delete(table.id, position, cells_of(table, row))


def test_edits_new_records_and_deletions_are_written_together(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    path = make(*_HARBOUR)
    database = opened(path)
    draft = Draft()
    draft.insert(TableId("boats"), {"name": "Skua", "berth": 3})
    draft.insert(TableId("berths"), {"id": 3, "name": "west"})
    _edit(draft, database, "boats", (3,), name=None, length=7)
    _edit(draft, database, "crews", (1, 2), who="Bea")
    _delete(draft, database, "fees", 10)
    done = write_draft(draft, database, trail_of(database))
    assert (done.rows, done.step) == (5, 2)
    assert outside.rows(path, "SELECT id, name, length, berth FROM boats WHERE id > 2") == [
        [3, None, 7.0, None],
        [4, "Skua", 7.5, 3],
    ]
    assert outside.rows(path, "SELECT who FROM crews WHERE boat = 1") == [["Ada"], ["Bea"]]
    assert outside.rows(path, "SELECT count(*) FROM fees") == [[0]]


def test_it_is_told_where_records_are_then(make: MakeDatabase, opened: Opened) -> None:
    path = make(
        *_HARBOUR,
        "CREATE TABLE tags(name TEXT PRIMARY KEY) WITHOUT ROWID",
        "CREATE TABLE old(id INTEGER PRIMARY KEY DESC)",  # which is not the row number
        "INSERT INTO old VALUES (5)",
        "CREATE TABLE log(what)",
        "CREATE TRIGGER added AFTER INSERT ON boats BEGIN INSERT INTO log VALUES (1); END",
        "CREATE TRIGGER kept_out BEFORE INSERT ON berths WHEN new.id = 77 "
        "BEGIN SELECT RAISE(IGNORE); END",
        "INSERT INTO log VALUES (1), (2), (3)",
    )
    database = opened(path)
    draft = Draft()
    boat = draft.insert(TableId("boats"), {"name": "Skua"})
    tag = draft.insert(TableId("tags"), {"name": "old"})
    berth = draft.insert(TableId("berths"), {"id": 77, "name": "nowhere"})
    _edit(draft, database, "boats", (3,), id=30)
    _edit(draft, database, "boats", (2,), name="Knot")
    _edit(draft, database, "old", (1,), id=9)
    _edit(draft, database, "crews", (1, 2), who="Bea", boat=2)
    places: list[Places] = []
    write_draft(draft, database, None, places.append)
    assert places == [
        {
            boat: (31,),
            tag: ("old",),
            (TableId("boats"), (3,)): (30,),
            (TableId("boats"), (2,)): (2,),
            (TableId("old"), (1,)): (1,),
            (TableId("crews"), (1, 2)): (2, 2),
        }
    ]
    assert berth not in places[0]


def test_a_cascade_goes_as_far_as_records_point_at_each_other(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(
        "CREATE TABLE folders(id INTEGER PRIMARY KEY, "
        "above REFERENCES folders(id) ON DELETE CASCADE)",
        "CREATE INDEX above ON folders(above)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) "
        "INSERT INTO folders SELECT i, nullif(i - 1, 0) FROM n",
    )
    database = opened(path)
    draft = Draft()
    _delete(draft, database, "folders", 1)
    assert plan_of(draft, database).cascaded == 2999
    write_draft(draft, database, None)
    assert outside.rows(path, "SELECT count(*) FROM folders") == [[0]]


def test_tables_are_ranked_however_long_their_chain_is(make: MakeDatabase, opened: Opened) -> None:
    tables = [
        f"CREATE TABLE t{n}(id INTEGER PRIMARY KEY, p REFERENCES t{n + 1})" for n in range(1500)
    ]
    database = opened(make(*tables, "CREATE TABLE t1500(id INTEGER PRIMARY KEY, p REFERENCES t0)"))
    draft = Draft()
    for n in (3, 700, 1400):
        draft.insert(TableId(f"t{n}"), {"id": n})
    writes = plan_of(draft, database).plan.writes
    assert [str(write.table) for write in writes] == ["t1400", "t700", "t3"]


def test_a_write_is_a_step_of_its_own_kind_and_is_taken_back(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    path = make(*_HARBOUR)
    before = outside.content(path)
    database = opened(path)
    trail = trail_of(database)
    draft = Draft()
    _delete(draft, database, "boats", 1)
    _edit(draft, database, "boats", (3,), name="Knot")
    done = write_draft(draft, database, trail)
    steps = trail.steps()
    assert [step.after.trigger.kind for step in steps] == ["draft", "draft"]
    assert steps[-1].after.title == "wrote a draft: 2 in boats"
    assert outside.content(path) != before
    assert done.step == steps[-1].number
    take_back_step(trail, database, steps[-1])
    assert outside.content(path) == before


def test_what_a_cascade_takes_is_planned_statement_by_statement(
    make: MakeDatabase, opened: Opened
) -> None:
    database = opened(make(*_HARBOUR))
    draft = Draft()
    _delete(draft, database, "boats", 1)
    plan = plan_of(draft, database)
    assert plan.cascaded == 2
    assert [(w.kind, str(w.table), w.record) for w in plan.plan.writes] == [
        ("delete", "crews", "1 · 1"),
        ("delete", "crews", "1 · 2"),
        ("delete", "boats", "1"),
    ]
    draft = Draft()
    _delete(draft, database, "berths", 1)
    plan = plan_of(draft, database)
    assert [(w.kind, str(w.table), w.values) for w in plan.plan.writes] == [
        ("update", "boats", (("berth", None),)),
        ("update", "boats", (("berth", None),)),
        ("delete", "berths", ()),
    ]
    shown = writer_of(database).write_statement(plan.plan.writes[0]).text()
    assert shown.startswith('UPDATE "boats" SET "berth" = ? WHERE "rowid" IS ? AND')


@pytest.mark.parametrize(
    ("prepare", "named"),
    [
        pytest.param(
            lambda d, db: d.insert(TableId("berths"), {"id": 9}),
            "berths.*name must not be NULL",
            id="not-null",
        ),
        pytest.param(
            lambda d, db: d.insert(TableId("berths"), {"name": "north"}),
            "name = 'north' must be unique",
            id="unique",
        ),
        pytest.param(
            lambda d, db: d.insert(TableId("boats"), {"berth": 77}),
            "berth = 77|berths",
            id="no-parent",
        ),
        pytest.param(lambda d, db: _delete(d, db, "boats", 2), "fees", id="still-pointed-at"),
        pytest.param(
            lambda d, db: _edit(d, db, "boats", (2,), id=20), "fees|crews", id="key-pointed-at"
        ),
        pytest.param(lambda d, db: d.insert(TableId("nosuch"), {}), "nosuch", id="no-table"),
        pytest.param(lambda d, db: d.insert(TableId("boats"), {"gone": 1}), "gone", id="no-column"),
    ],
)
def test_a_draft_that_breaks_something_is_refused_whole_and_stays(
    make: MakeDatabase,
    opened: Opened,
    trail_of: TrailOf,
    prepare: Callable[[Draft, Database], object],
    named: str,
) -> None:
    path = make(*_HARBOUR)
    before = outside.content(path)
    database = opened(path)
    draft = Draft()
    _edit(draft, database, "boats", (3,), name="Knot")
    prepare(draft, database)
    entries = list(draft)
    with pytest.raises(WriteError, match=named):
        write_draft(draft, database, trail_of(database))
    assert list(draft) == entries
    assert outside.content(path) == before


def test_a_link_that_led_nowhere_before_is_no_hindrance(make: MakeDatabase, opened: Opened) -> None:
    path = make(*_HARBOUR, "INSERT INTO boats VALUES (9, 'Auk', 1.0, 99)")
    database = opened(path)
    draft = Draft()
    _edit(draft, database, "boats", (9,), name="Great Auk")
    write_draft(draft, database, None)
    assert outside.rows(path, "SELECT name FROM boats WHERE id = 9") == [["Great Auk"]]


def test_records_that_point_at_each_other_are_written(make: MakeDatabase, opened: Opened) -> None:
    path = make(
        "CREATE TABLE a(id INTEGER PRIMARY KEY, b REFERENCES b(id))",
        "CREATE TABLE b(id INTEGER PRIMARY KEY, a REFERENCES a(id))",
    )
    database = opened(path)
    draft = Draft()
    draft.insert(TableId("a"), {"id": 1, "b": 1})
    draft.insert(TableId("b"), {"id": 1, "a": 1})
    write_draft(draft, database, None)
    again = Draft()
    _delete(again, database, "a", 1)
    _delete(again, database, "b", 1)
    write_draft(again, database, None)
    assert outside.rows(path, "SELECT count(*) FROM a, b") == [[0]]


def test_triggers_run_as_when_the_app_writes(make: MakeDatabase, opened: Opened) -> None:
    path = make(
        *_HARBOUR,
        "CREATE TABLE log(what)",
        "CREATE TRIGGER renamed AFTER UPDATE ON boats BEGIN INSERT INTO log VALUES (new.name); END",
    )
    database = opened(path)
    draft = Draft()
    _edit(draft, database, "boats", (1,), name="Auk")
    write_draft(draft, database, None)
    assert outside.rows(path, "SELECT what FROM log") == [["Auk"]]


def test_a_changed_record_stops_the_write_and_is_told_with_theirs_and_mine(
    make: MakeDatabase, opened: Opened, app: OpenApp, trail_of: TrailOf
) -> None:
    path = make(*_HARBOUR)
    database = opened(path)
    draft = Draft()
    _edit(draft, database, "boats", (1,), name="Auk")
    _edit(draft, database, "boats", (2,), length=9.0)
    _delete(draft, database, "boats", 3)
    writer = app(path)
    writer.run("UPDATE boats SET length = 1 WHERE id = 1")
    writer.run("DELETE FROM boats WHERE id = 3")
    after = outside.content(path)
    with pytest.raises(RecordsMovedOn):
        write_draft(draft, database, trail_of(database))
    assert outside.content(path) == after
    found = conflicts_of(draft, database)
    assert [(c.edit.position, c.theirs) for c in found] == [
        ((1,), (1, "Gull", 1.0, 1)),
        ((3,), None),
    ]
    settle(draft, found[0], mine=True)
    settle(draft, found[1], mine=False)
    write_draft(draft, database, trail_of(database))
    assert outside.rows(path, "SELECT * FROM boats") == [[1, "Auk", 1.0, 1], [2, "Tern", 9.0, 1]]


def test_a_record_that_is_gone_comes_back_where_mine_is_wanted(
    make: MakeDatabase, opened: Opened, app: OpenApp
) -> None:
    path = make(*_HARBOUR)
    database = opened(path)
    draft = Draft()
    _edit(draft, database, "boats", (3,), name="Knot")
    app(path).run("DELETE FROM boats WHERE id = 3")
    with pytest.raises(RecordsMovedOn):
        write_draft(draft, database, None)
    (conflict,) = conflicts_of(draft, database)
    settle(draft, conflict, mine=True)
    write_draft(draft, database, None)
    assert outside.rows(path, "SELECT * FROM boats WHERE id = 3") == [[3, "Knot", 6.0, None]]


@pytest.mark.parametrize(
    ("statements", "table", "reason"),
    [
        pytest.param(("CREATE VIEW v AS SELECT 1 AS a",), "v", "view", id="view"),
        pytest.param(
            ("CREATE TABLE t(rowid TEXT, _rowid_ TEXT, oid TEXT)",), "t", "no key", id="no-identity"
        ),
        pytest.param(
            ("CREATE VIRTUAL TABLE f USING fts5(body)",), "f", "virtual", id="virtual-table"
        ),
    ],
)
def test_what_cannot_be_written_says_why(
    make: MakeDatabase, opened: Opened, statements: tuple[str, ...], table: str, reason: str
) -> None:
    database = opened(make(*statements))
    assert reason in writer_of(database).why_not_written(_table(database, table))
    assert (
        writer_of(database).why_not_written(_table(opened(make(*_HARBOUR, name="b.db")), "boats"))
        == ""
    )


def test_a_table_ordered_by_what_only_the_app_knows_is_read_and_not_written(
    tmp_path: Path, opened: Opened
) -> None:
    path = tmp_path / "app.db"
    with closing(apsw.Connection(str(path))) as connection:
        connection.create_collation("tidal", lambda one, other: (one > other) - (one < other))
        connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, name TEXT COLLATE tidal)")
        connection.execute("CREATE INDEX by_name ON t(name)")
        connection.execute("CREATE TABLE free(id INTEGER PRIMARY KEY, name TEXT COLLATE tidal)")
        connection.execute("INSERT INTO t VALUES (1, 'a')")
    database = opened(path)
    table = _table(database, "t")
    assert database.rows.read_window(table, 0, 5).rows == ((1, "a"),)
    assert "tidal" in writer_of(database).why_not_written(table)
    draft = Draft()
    draft.insert(TableId("t"), {"name": "b"})
    with pytest.raises(WriteRefused, match="tidal"):
        plan_of(draft, database)
    assert writer_of(database).why_not_written(_table(database, "free")) == ""


# Against a model, with an app that writes meanwhile

_COLUMNS = ("a", "b")
_CELL = st.sampled_from([None, 0, 1, "x", ""])
_KEYS = st.integers(1, 5)
_CHANGES = st.lists(
    st.one_of(
        st.tuples(st.just("set"), _KEYS, st.sampled_from(_COLUMNS), _CELL),
        st.tuples(st.just("delete"), _KEYS, st.none(), st.none()),
        st.tuples(st.just("insert"), st.integers(6, 8), st.none(), _CELL),
    ),
    max_size=6,
)
Rows = dict[int, dict[str, StoredValue]]


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory() as name:
        yield Path(name)


@given(mine=_CHANGES, theirs=_CHANGES, wal=st.booleans())
def test_no_update_is_ever_lost(folder: Path, mine: list, theirs: list, wal: bool) -> None:  # type: ignore[type-arg]
    """A draft is written over exactly what was seen, or nothing of it is."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        path = Path(name, "app.db")
        start: Rows = {key: {"a": key, "b": "seen"} for key in range(1, 6)}
        with closing(apsw.Connection(str(path))) as other:
            other.execute(f"PRAGMA journal_mode={'WAL' if wal else 'DELETE'}")
            other.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, a, b)")
            for key, row in start.items():
                other.execute("INSERT INTO t VALUES (?, ?, ?)", (key, row["a"], row["b"]))
            with closing(open_database(path)) as database:
                draft = _drafted(database, mine)
                now = _changed(start, theirs)
                for kind, key, column, value in theirs:
                    _run(other, kind, key, column, value)
                edited = {
                    entry.position[0]  # type: ignore[union-attr]
                    for entry in draft
                    if hasattr(entry, "position")
                }
                moved = any(now.get(key) != start[key] for key in edited)  # type: ignore[index]
                taken = {
                    entry.values["id"] for entry in draft if not hasattr(entry, "position")
                } & set(now)
                if moved or taken:
                    with pytest.raises(WriteError):
                        write_draft(draft, database, None)
                    assert _rows(other) == now
                else:
                    write_draft(draft, database, None)
                    assert _rows(other) == _changed(now, mine)


def _drafted(database: Database, changes: list) -> Draft:  # type: ignore[type-arg]
    draft = Draft()
    for kind, key, column, value in changes:
        edit = draft.edit_of(TableId("t"), (key,))
        if kind == "insert":
            if not any(entry.values.get("id") == key for entry in draft):
                draft.insert(TableId("t"), {"id": key, "a": value})
        elif kind == "delete":
            _delete(draft, database, "t", key)
        elif edit is None or not edit.deleted:
            _edit(draft, database, "t", (key,), **{column: value})
    return draft


def _changed(rows: Rows, changes: list) -> Rows:  # type: ignore[type-arg]
    found = {key: dict(row) for key, row in rows.items()}
    for kind, key, column, value in changes:
        if kind == "insert":
            found.setdefault(key, {"a": value, "b": None})
        elif kind == "delete":
            found.pop(key, None)
        elif key in found:
            found[key][column] = value
    return found


def _run(
    connection: apsw.Connection, kind: str, key: int, column: str | None, value: StoredValue
) -> None:
    if kind == "insert":
        connection.execute("INSERT OR IGNORE INTO t(id, a) VALUES (?, ?)", (key, value))  # type: ignore[arg-type]
    elif kind == "delete":
        connection.execute("DELETE FROM t WHERE id = ?", (key,))
    else:
        connection.execute(f"UPDATE t SET {column} = ? WHERE id = ?", (value, key))  # type: ignore[arg-type]


def _rows(connection: apsw.Connection) -> Rows:
    found = connection.execute("SELECT id, a, b FROM t").fetchall()
    return {key: {"a": a, "b": b} for key, a, b in found}  # type: ignore[misc]


def test_a_refused_write_leaves_no_snapshot_behind(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v UNIQUE)",
        "INSERT INTO t VALUES (1, 'a'), (2, 'b')",
    )
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database)
    table = database.schema().named("t")
    assert table is not None

    def write(position: int, before: str, after: str) -> None:
        draft = Draft()
        draft.set_cell(TableId("t"), (position,), (("id", position), ("v", before)), "v", after)
        write_draft(draft, database, trail)

    with pytest.raises(WriteRefused):
        write(1, "a", "b")
    app(path).run("UPDATE t SET v = 'c' WHERE id = 2")
    with pytest.raises(WriteRefused):
        write(1, "a", "c")
    with pytest.raises(RecordsMovedOn):
        write(2, "b", "d")
    assert trail.snapshots() == [first]
    write(1, "a", "e")
    assert [s.trigger.text for s in trail.snapshots()[1:]] == [
        "before writing",
        "wrote a draft: 1 in t",
    ]
