"""What a write is said to change is what it changes then."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from conftest import MakeDatabase
from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_plan import cells_of, plan_of
from jondel.core.draft.draft_writer import write_draft
from jondel.core.draft.planned_changes import planned_changes
from jondel.core.draft.readable_statements import readable_statements
from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, RecordChange, TableChanges
from jondel.core.model.values import StoredValue
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]

_HARBOUR = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO berths VALUES (1, 'north'), (2, 'south')",
    "CREATE TABLE boats(name TEXT, Berth REFERENCES berths ON DELETE SET NULL, length REAL)",
    "INSERT INTO boats VALUES ('Gull', 1, 8.0), ('Tern', 2, 6.5), ('Skua', 1, 7.0)",
    "CREATE TABLE tags(name TEXT, berth REFERENCES berths ON DELETE CASCADE, "
    "PRIMARY KEY (name, berth)) WITHOUT ROWID",
    "INSERT INTO tags VALUES ('new', 1), ('old', 2)",
)


def _cells(table: TableChanges, record: RecordChange) -> dict[str, object]:
    if record.kind == "changed":
        return {c.column: (c.before, c.after) for c in record.cells}
    if record.cells:
        return {c.column: c.after for c in record.cells}
    row = record.after if record.kind == "added" else record.before
    return dict(zip(table.columns_after, row or (), strict=True))


def _told(changes: Changes) -> dict[tuple[str, str, tuple[StoredValue, ...]], dict[str, object]]:
    return {
        (str(table.table), record.kind, record.key): _cells(table, record)
        for table in changes.tables
        for record in table.records
    }


def test_the_records_told_are_those_that_change(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(make(*_HARBOUR))
    draft = Draft()
    for name, position, column, value in (
        ("boats", (2,), "name", "Arctic tern"),
        ("boats", (2,), "length", None),
        ("berths", (2,), "name", "far south"),
    ):
        table = database.schema().named(name)
        assert table is not None
        row = database.rows.read_record(table, position, 1000)
        assert row is not None
        draft.set_cell(table.id, position, cells_of(table, row), column, value)
    berths = database.schema().named("berths")
    assert berths is not None
    draft.delete(TableId("berths"), (1,), (("id", 1), ("name", "north")))
    draft.insert(TableId("berths"), {"id": 7, "name": "west"})
    planned = planned_changes(plan_of(draft, database).plan, database.schema(), 100)
    trail = trail_of(database)
    trail.take(database)
    done = write_draft(draft, database, trail)
    assert done.step is not None
    before, after = (trail.steps()[place].after for place in (-2, -1))
    assert _told(planned) == _told(trail.changes(before, after))
    assert planned.counts == trail.changes(before, after).counts


def test_only_the_first_records_are_told_and_all_are_counted(
    make: MakeDatabase, opened: Opened
) -> None:
    database, draft = opened(make(*_HARBOUR)), Draft()
    for _ in range(5):
        draft.insert(TableId("berths"), {"name": "x"})
    planned = planned_changes(plan_of(draft, database).plan, database.schema(), 2)
    (table,) = planned.tables
    assert (len(table.records), table.counts.added) == (2, 5)


def test_the_gist_of_a_statement_addresses_the_record_and_the_whole_checks_it(
    make: MakeDatabase, opened: Opened
) -> None:
    database, draft = opened(make(*_HARBOUR)), Draft()
    original = (("id", 1), ("name", "north"))
    draft.set_cell(TableId("berths"), (1,), original, "name", 'a " WHERE ?')
    draft.delete(TableId("tags"), ("old", 2), (("name", "old"), ("berth", 2)))
    draft.insert(TableId("berths"), {})
    plan = plan_of(draft, database).plan
    deleted, changed, added = readable_statements(plan.writes, database)
    assert changed.gist.text() == 'UPDATE "berths" SET "name" = ? WHERE "rowid" = ?'
    assert changed.gist.values == ('a " WHERE ?', 1)
    assert deleted.gist.text() == 'DELETE FROM "tags" WHERE "name" = ? AND "berth" = ?'
    assert deleted.gist.values == ("old", 2)
    assert changed.guarded
    assert 'typeof("name")' in changed.exact.text()
    assert not added.guarded
