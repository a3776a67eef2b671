"""What stands in the way of a write is named whole, and what helps is taken into the draft."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import outside
from conftest import MakeDatabase
from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_plan import cells_of
from jondel.core.draft.draft_writer import write_draft
from jondel.core.draft.remedies import Remedy, apply_remedy, records_in_the_way, remedies_for
from jondel.core.engines.protocol import Database
from jondel.core.errors import RecordsMovedOn, WriteError, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.values import StoredValue
from jondel.core.model.writes import Obstacle

Opened = Callable[[Path], Database]


def _numbers(most: int) -> str:
    """The numbers from 1 on, as a table."""
    step = f"SELECT 1 AS value UNION ALL SELECT value + 1 FROM n WHERE value < {most}"
    return f"(WITH RECURSIVE n(value) AS ({step}) SELECT value FROM n)"


_HARBOUR = (
    "CREATE TABLE pontoons(id INTEGER PRIMARY KEY, name TEXT UNIQUE)",
    "INSERT INTO pontoons VALUES (1, 'A'), (2, 'B'), (3, 'C')",
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, pontoon INTEGER REFERENCES pontoons, size INTEGER "
    "CHECK (size < 90), side TEXT NOT NULL)",
    "INSERT INTO berths SELECT value, value % 2 + 1, 10, 'l' FROM " + _numbers(9),
    "CREATE TABLE lamps(pontoon INTEGER REFERENCES pontoons, place TEXT, "
    "PRIMARY KEY (pontoon, place)) WITHOUT ROWID",
    "INSERT INTO lamps VALUES (1, 'end'), (1, 'gate')",
)


def _delete(draft: Draft, database: Database, name: str, *position: StoredValue) -> None:
    table = database.schema().named(name)
    assert table is not None
    row = database.rows.read_record(table, position, 1 << 20)
    assert row is not None
    draft.delete(table.id, position, cells_of(table, row))


def _refusal(draft: Draft, database: Database, kind: type[WriteError]) -> tuple[Obstacle, ...]:
    with pytest.raises(kind) as caught:
        write_draft(draft, database, None)
    assert type(caught.value) is kind
    return caught.value.obstacles


def test_all_records_that_point_at_a_deleted_one_are_named(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(*_HARBOUR)
    database, draft = opened(path), Draft()
    _delete(draft, database, "pontoons", 1)
    before = outside.rows(path, "SELECT count(*) FROM pontoons")
    obstacles = _refusal(draft, database, WriteRefused)
    named = {obstacle.table: obstacle for obstacle in obstacles}
    assert named[TableId("berths")].positions == ((2,), (4,), (6,), (8,))
    assert named[TableId("lamps")].positions == ((1, "end"), (1, "gate"))
    assert [obstacle.total for obstacle in obstacles] == [4, 2]
    assert named[TableId("berths")].reason == (
        "berths 2, 4, 6 and 1 more point at pontoons with id = 1, which would be gone"
    )
    assert outside.rows(path, "SELECT count(*) FROM pontoons") == before


@pytest.mark.parametrize(
    ("remedy", "berths", "lamps"),
    [
        pytest.param(Remedy.DELETE, [[5, 5]], 0, id="deleted-too"),
        pytest.param(Remedy.SET_NULL, [[9, 5]], 2, id="nulled-where-that-can-be"),
    ],
)
def test_a_remedy_is_taken_into_the_draft_as_one_edit(
    make: MakeDatabase, opened: Opened, remedy: Remedy, berths: list[list[int]], lamps: int
) -> None:
    path = make(*_HARBOUR)
    database, draft = opened(path), Draft()
    _delete(draft, database, "pontoons", 1)
    obstacles = _refusal(draft, database, WriteRefused)
    schema = database.schema()
    assert [remedies_for(obstacle, schema) for obstacle in obstacles] == [
        (Remedy.DELETE, Remedy.SET_NULL),
        (Remedy.DELETE,),  # a key cannot be NULL here
    ]
    found = [(obstacle, records_in_the_way(obstacle, database)) for obstacle in obstacles]
    count = apply_remedy(draft, found, schema, remedy)
    assert (count, len(draft)) == ((6, 7) if remedy is Remedy.DELETE else (4, 5))
    draft.undo()
    assert len(draft) == 1
    draft.redo()
    if lamps:
        _delete(draft, database, "lamps", 1, "end")
        _delete(draft, database, "lamps", 1, "gate")
    write_draft(draft, database, None)
    assert outside.rows(path, "SELECT count(*), count(pontoon) FROM berths") == berths
    assert outside.rows(path, "SELECT count(*) FROM pontoons") == [[2]]


def test_every_record_that_cannot_be_written_is_named_with_its_reason(
    make: MakeDatabase, opened: Opened
) -> None:
    database, draft = opened(make(*_HARBOUR)), Draft()
    draft.insert(TableId("pontoons"), {"name": "B"})
    draft.insert(TableId("berths"), {"size": 95, "side": "r"})
    draft.insert(TableId("berths"), {"size": 1})
    obstacles = _refusal(draft, database, WriteRefused)
    assert [(o.reason, str(o.table), o.positions) for o in obstacles] == [
        (
            "pontoons new record 1: name = 'B' must be unique, and pontoons 2 has that already",
            "pontoons",
            ((2,),),
        ),
        ("berths new record 2: the check size < 90 does not hold", "berths", ()),
        ("berths new record 3: side must not be NULL", "berths", ()),
    ]


def test_what_is_taken_alone_may_be_new_and_is_looked_at_again(
    make: MakeDatabase, opened: Opened
) -> None:
    database, draft = opened(make(*_HARBOUR)), Draft()
    draft.insert(TableId("pontoons"), {"id": 3})
    (obstacle,) = _refusal(draft, database, RecordsMovedOn)
    assert (str(obstacle.table), obstacle.positions) == ("pontoons", ((3,),))


def test_drafted_records_that_point_at_nothing_are_told_from_those_in_the_way(
    make: MakeDatabase, opened: Opened
) -> None:
    database, draft = opened(make(*_HARBOUR)), Draft()
    _delete(draft, database, "pontoons", 2)
    draft.insert(TableId("berths"), {"pontoon": 2, "side": "l"})
    draft.insert(TableId("lamps"), {"pontoon": 2, "place": "x"})
    draft.insert(TableId("berths"), {"pontoon": 77, "side": "l"})
    obstacles = _refusal(draft, database, WriteRefused)
    told = {obstacle.reason: obstacle.link is not None for obstacle in obstacles}
    assert told == {
        "berths new record 1 would point at a record of pontoons that is not there "
        "(pontoon = 2)": False,
        "berths 1, 3, 5 and 2 more point at pontoons with id = 2, which would be gone": True,
        "lamps new record 2 would point at a record of pontoons that is not there "
        "(pontoon = 2)": False,
        "berths new record 3 would point at a record of pontoons that is not there "
        "(pontoon = 77)": False,
    }


def test_many_links_are_looked_at_together_and_named_one_by_one(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(
        "CREATE TABLE a(id INTEGER PRIMARY KEY)",
        "CREATE TABLE b(id INTEGER PRIMARY KEY, a REFERENCES a)",
        "INSERT INTO a SELECT value FROM " + _numbers(150),
        "INSERT INTO b SELECT value, value % 120 + 1 FROM " + _numbers(240),
    )
    database, draft = opened(path), Draft()
    for number in range(1, 131):
        _delete(draft, database, "a", number)
    obstacles = _refusal(draft, database, WriteRefused)
    assert len(obstacles) == 100  # a person reads no further
    assert all(obstacle.total == 2 and obstacle.link is not None for obstacle in obstacles)


def test_a_transaction_that_the_database_itself_ends_is_told_at_once(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v UNIQUE ON CONFLICT ROLLBACK)",
        "INSERT INTO t VALUES (1, 'a')",
        "CREATE TABLE u(id INTEGER PRIMARY KEY, v CHECK (v > 0))",
    )
    database, draft = opened(path), Draft()
    draft.insert(TableId("u"), {"v": -1})
    draft.insert(TableId("t"), {"v": "a"})
    draft.insert(TableId("t"), {"v": "b"})
    obstacles = _refusal(draft, database, WriteRefused)
    assert len(obstacles) == 2
    assert outside.rows(path, "SELECT count(*) FROM t") == [[1]]
