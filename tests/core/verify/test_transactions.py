"""In how many transactions a step was written, held against apps that write a known number."""

from __future__ import annotations

import os
import sys
from contextlib import closing
from pathlib import Path

import psycopg
import pytest

from conftest import MakeDatabase
from jondel.core.browse.links import Link
from jondel.core.diff.compare import Scope
from jondel.core.engines.registry import open_database
from jondel.core.model.addresses import TableId
from jondel.core.trail.trail import Trail
from jondel.core.trail.transactions import changes_by_transaction, crossings
from jondel.core.verify.action_run import ActionRunner
from jondel.core.verify.actions import Action, Command
from jondel.core.verify.recording import Place, RecordedStep, record_action

_APP = """
import sqlite3, sys
c = sqlite3.connect(sys.argv[1], isolation_level=None)
if "exclusive" in sys.argv:
    c.execute("PRAGMA locking_mode=EXCLUSIVE")
for number in range(int(sys.argv[2])):
    c.execute("BEGIN")
    c.execute("INSERT INTO boats(name) VALUES (?)", (f"boat {number}",))
    c.execute("UPDATE boats SET name = name || '.' WHERE id = 1")
    c.execute("COMMIT")
    if "restart" in sys.argv and number == 1:
        c.execute("PRAGMA wal_checkpoint(TRUNCATE)")
"""
_TABLES = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO boats VALUES (1, 'Curlew')",
)


def _record(path: Path, *words: str, program: str = _APP) -> tuple[Trail, RecordedStep]:
    """What an app writes, recorded as a step."""
    command = Command((sys.executable, "-c", program, str(path), *words))
    trail = Trail(str(path))
    with (
        closing(open_database(str(path))) as database,
        closing(ActionRunner(path.parent, os.environ)) as runner,
    ):
        place = Place(trail, database, str(path))
        return trail, record_action(place, Action("write", command, settle=0.0), runner)


@pytest.mark.parametrize("journal", ["DELETE", "TRUNCATE", "PERSIST"])
@pytest.mark.parametrize("count", [1, 2, 7])
def test_the_file_counts_them_without_a_log(make: MakeDatabase, journal: str, count: int) -> None:
    trail, step = _record(make(*_TABLES, journal=journal), str(count))
    assert step.outcome.ok, step.outcome.failure
    assert step.transactions is not None
    assert (step.transactions.count, step.transactions.exact) == (count, True)
    parts = changes_by_transaction(trail, step.before, step.after, Scope())
    assert len(parts) == (1 if count == 1 else 0), "several cannot be told apart"


@pytest.mark.parametrize("count", [1, 3, 40])
def test_a_log_tells_each_by_itself(make: MakeDatabase, count: int) -> None:
    path = make(*_TABLES, journal="WAL")
    with closing(open_database(str(path))), closing(_held_open(path)):
        trail, step = _record(path, str(count))
    assert step.transactions is not None
    assert (step.transactions.count, step.transactions.exact) == (count, True)
    parts = changes_by_transaction(trail, step.before, step.after, Scope())
    assert [part.changes.counts.marked() for part in parts] == ["+1 ~1"] * count
    names = [part.changes.tables[0].records[-1].after for part in parts]
    assert names == [(number + 2, f"boat {number}") for number in range(count)]
    trail.delete([])  # which clears up what is not needed: these are
    assert changes_by_transaction(trail, step.before, step.after, Scope()) == parts


def _held_open(path: Path):  # type: ignore[no-untyped-def]
    """Another connection of the app, so that the log stays when the first one ends."""
    import sqlite3

    connection = sqlite3.connect(path)
    connection.execute("SELECT * FROM boats").fetchall()
    return connection


def test_of_a_log_that_began_anew_it_says_no_more_than_it_knows(make: MakeDatabase) -> None:
    _, step = _record(make(*_TABLES, journal="WAL"), "4", "restart")
    transactions = step.transactions
    assert transactions is not None
    assert transactions.count is None or transactions.count <= 4
    assert transactions.count in (4, None) or not transactions.exact


def test_an_app_that_does_not_count_is_not_taken_at_its_word(make: MakeDatabase) -> None:
    _, step = _record(make(*_TABLES), "3", "exclusive")
    assert step.transactions is not None
    assert step.transactions.count in (1, 3), "its first is counted, whatever comes after"


_TWO = """
import psycopg, sys
with psycopg.connect(sys.argv[1], autocommit=True) as c:
    with c.transaction():
        (boat,) = c.execute("INSERT INTO boats(name) VALUES ('Wigeon') RETURNING id").fetchone()
    with c.transaction():
        c.execute("INSERT INTO bookings(boat_id) VALUES (%s)", (boat,))
        c.execute("UPDATE boats SET name = name WHERE id = 1")
"""


def test_a_server_tells_them_by_its_rows(postgresql_database: str, tmp_path: Path) -> None:
    with psycopg.connect(postgresql_database, autocommit=True) as connection:
        connection.execute(
            "CREATE TABLE boats(id int PRIMARY KEY GENERATED ALWAYS AS IDENTITY, name text)"
        )
        connection.execute(
            "CREATE TABLE bookings(id int PRIMARY KEY GENERATED ALWAYS AS IDENTITY, boat_id int)"
        )
        connection.execute("INSERT INTO boats(name) VALUES ('Curlew')")
    command = Command((sys.executable, "-c", _TWO, postgresql_database))
    with (
        closing(open_database(postgresql_database)) as database,
        closing(ActionRunner(tmp_path, os.environ)) as runner,
    ):
        trail = Trail(database.location)
        place = Place(trail, database, postgresql_database)
        step = record_action(place, Action("write", command, settle=0.0), runner)
        assert step.outcome.ok, step.outcome
        known = trail.transactions.of_step(step.after.number)
        assert known == step.transactions
        assert known is not None
        assert (known.count, known.exact) == (2, True)
        boats, bookings = TableId("public", "boats"), TableId("public", "bookings")
        assert known.unchanged == {(boats, (1,))}
        parts = changes_by_transaction(trail, step.before, step.after, Scope())
        assert [[t.table for t in part.changes.tables] for part in parts] == [[boats], [bookings]]
        link = Link(bookings, ("boat_id",), boats, ("id",))
        (words,) = crossings(parts, [link])
        assert "came in transaction 2, and public.boats 2" in words
