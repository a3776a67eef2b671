"""A value is found wherever the app put it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from conftest import MakeDatabase, OpenApp
from jondel.core.browse.value_search import (
    FoundCell,
    Searched,
    find_everywhere,
    find_in_changes,
)
from jondel.core.engines.protocol import Database
from jondel.core.trail.trail import Trail

_STATEMENTS = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO boats VALUES (1, 'Gull'), (14, 'Tern')",
    "CREATE TABLE notes(boat INTEGER, text TEXT, PRIMARY KEY (boat, text)) WITHOUT ROWID",
    "INSERT INTO notes VALUES (14, 'the gull leaks'), (2, 'paid 14.50')",
    "CREATE VIEW broken AS SELECT nosuch FROM boats",
)


def test_every_column_of_every_table_is_searched_and_what_cannot_be_is_told(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    database = opened(make(*_STATEMENTS))
    tables = [table for table in database.schema().tables if not table.internal]
    found = list(find_everywhere(database, tables, "gull", whole=False))
    cells = [entry for entry in found if isinstance(entry, FoundCell)]
    assert [(c.table.name, c.hit.position, c.hit.column) for c in cells] == [
        ("boats", (1,), "name"),
        ("notes", (14, "the gull leaks"), "text"),
    ]
    searched = [entry for entry in found if isinstance(entry, Searched)]
    assert [(s.table.name, bool(s.problem)) for s in searched] == [
        ("boats", False),
        ("notes", False),
        ("broken", True),
    ]
    whole = list(find_everywhere(database, tables, "14", whole=True))
    columns = [e.hit.column for e in whole if isinstance(e, FoundCell)]
    assert columns == ["id", "boat"]


def test_only_what_a_step_changed_is_searched(
    make: MakeDatabase,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
    app: OpenApp,
) -> None:
    path = make(*_STATEMENTS)
    database = opened(path)
    trail = trail_of(database)
    before = trail.take(database)
    process = app(path)
    process.run("UPDATE boats SET name = 'Gull II' WHERE id = 1")
    process.run("UPDATE boats SET name = 'Skua' WHERE id = 14")
    process.run("DELETE FROM notes WHERE boat = 14")
    changes = trail.changes(before, database)
    found = [
        (str(f.table.table), f.record.kind, f.column, f.value, f.earlier)
        for f in find_in_changes(changes, "gull", whole=False)
    ]
    assert found == [
        ("boats", "changed", "name", "Gull II", False),
        ("notes", "removed", "text", "the gull leaks", True),
    ]
    earlier = [f.earlier for f in find_in_changes(changes, "TERN", whole=True)]
    assert earlier == [True]
