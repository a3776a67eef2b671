"""What an import puts into a database: each row that it takes, and none of the others."""

from __future__ import annotations

import csv
import json
import random
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import psycopg
import pytest

from conftest import MakeDatabase
from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of, open_database
from jondel.core.errors import Cancelled, ImportFailed, RecordsMovedOn
from jondel.core.imports.destination import (
    new_table_id,
    plan_for_new,
    plan_for_table,
    require_writable,
    table_like,
)
from jondel.core.imports.plan import ImportPlan, import_statements
from jondel.core.imports.preview import sample_of
from jondel.core.imports.rejects import Rejected, Rejects, rejects_beside
from jondel.core.model.changes import Changes
from jondel.core.model.outcomes import ScriptOutcome
from jondel.core.query.rehearsal import rehearsed
from jondel.core.query.writing import write_script
from jondel.core.trail.trail import Trail
from seeds import seeds

HARBOUR = (
    "CREATE TABLE piers(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, "
    "within INTEGER REFERENCES piers(id), depth REAL CHECK (depth > 0))",
    "INSERT INTO piers VALUES (1, 'north', NULL, 3)",
)
_INSERT = "INSERT INTO piers(id, name, within, depth) VALUES (?, ?, ?, ?)"


def _plan(database: Database, path: Path) -> ImportPlan:
    sample, schema = sample_of(path), database.schema()
    dialect = dialect_of(database.location)
    table = table_like(path.stem, schema)
    if table is None:
        return plan_for_new(sample, new_table_id(path.stem, schema, dialect), dialect)
    require_writable(database, table)
    return plan_for_table(sample, table)


def _rehearse(
    trail: Trail, database: Database, plan: ImportPlan
) -> tuple[ScriptOutcome, Changes, Rejected]:
    rejects = Rejects()
    statements = import_statements(plan, dialect_of(database.location), rejects)
    with rehearsed(trail, database, statements, lambda _: None) as rehearsal:
        changes = compare(rehearsal.before, rehearsal.after)
        return rehearsal.outcome, changes, rejects.result()


def _write(trail: Trail, database: Database, plan: ImportPlan) -> tuple[int | None, Rejected]:
    with rejects_beside(plan.path) as kept:
        statements = import_statements(plan, dialect_of(database.location), kept.rejects)
        done = write_script(trail, database, statements, lambda _: None)
        assert done.outcome.error is None, done.outcome
        return done.step, kept.keep()


def _random_rows(seed: int) -> list[list[str]]:
    chance = random.Random(seed)
    numbers = list(range(1, 60))
    chance.shuffle(numbers)
    return [
        [
            chance.choice([str(number), str(number), str(number), "1", "x", ""]),
            chance.choice([f"pier {number}", f"pier {number}", "north", ""]),
            chance.choice(["", "1", "", str(chance.choice(numbers)), "999"]),
            chance.choice(["2.5", "3", "0", "-1", "", "deep"]),
        ]
        for number in numbers
    ]


def _naive(rows: Sequence[Sequence[str]]) -> list[tuple[Any, ...]]:
    """Row by row in the order of the file; those that point at nothing again, while that helps."""
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.execute("PRAGMA foreign_keys=ON")
        for statement in HARBOUR:
            connection.execute(statement)
        waiting: list[Sequence[Any]] = []
        for row in rows:
            cells = [cell or None for cell in row]
            try:
                given = [
                    int(cells[0]) if cells[0] else None, cells[1],
                    int(cells[2]) if cells[2] else None, float(cells[3]) if cells[3] else None,
                ]  # fmt: skip
            except ValueError:
                continue
            try:
                connection.execute(_INSERT, given)
            except sqlite3.IntegrityError as error:
                if "FOREIGN" in str(error):
                    waiting.append(given)
        helped = True
        while helped:
            helped = False
            for given in list(waiting):
                try:
                    connection.execute(_INSERT, given)
                except sqlite3.IntegrityError as error:
                    if "FOREIGN" not in str(error):
                        waiting.remove(given)
                else:
                    waiting.remove(given)
                    helped = True
        return connection.execute("SELECT * FROM piers ORDER BY id").fetchall()


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


def _rows_of(path: Path, sql: str = "SELECT * FROM piers ORDER BY id") -> list[Any]:
    with closing(sqlite3.connect(path)) as connection:
        return connection.execute(sql).fetchall()


@pytest.mark.parametrize("form", ["csv", "jsonl"])
@pytest.mark.parametrize("seed", seeds("JONDEL_SCRIPT_SEEDS", 6))
def test_all_rows_that_can_go_in_do_and_the_others_are_kept(
    seed: int, form: str, path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    rows = _random_rows(seed)
    file = tmp_path / f"piers.{form}"
    names = ["id", "name", "within", "depth"]
    with file.open("w", newline="") as out:
        if form == "csv":
            csv.writer(out).writerows([names, *rows])
        else:
            for row in rows:
                members = {name: cell or None for name, cell in zip(names, row, strict=True)}
                out.write(json.dumps(members) + "\n")
    plan = _plan(database, file)
    before = path.read_bytes()
    outcome, changes, would_reject = _rehearse(trail, database, plan)
    assert path.read_bytes() == before
    step, rejected = _write(trail, database, plan)
    found = _rows_of(path)
    assert found == _naive(rows)
    assert (outcome.outcomes[0].affected or 0) + rejected.rows == len(rows)
    assert would_reject._replace(path=rejected.path) == rejected
    made = next(s for s in trail.steps() if s.number == step)
    assert trail.step_changes(made, Scope()).tables == changes.tables
    assert made.after.trigger.text == f"import piers.{form} into piers"
    assert rejected.path is not None
    kept = rejected.path.read_text().splitlines()
    assert len(kept) == rejected.rows + (form == "csv")


def test_triggers_that_leave_a_row_out_or_raise_are_told(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(
        "CREATE TABLE log(what)",
        "CREATE TABLE fuel(id INTEGER PRIMARY KEY, litres REAL)",
        "CREATE TRIGGER little BEFORE INSERT ON fuel WHEN new.litres < 1 "
        "BEGIN SELECT RAISE(IGNORE); END",
        "CREATE TRIGGER much BEFORE INSERT ON fuel WHEN new.litres > 900 "
        "BEGIN SELECT RAISE(ABORT, 'the tank is too small'); END",
        "CREATE TRIGGER noted AFTER INSERT ON fuel BEGIN INSERT INTO log VALUES (new.id); END",
    )
    file = tmp_path / "fuel.csv"
    file.write_text("id,litres\n1,5\n2,0.5\n3,1000\n4,7\n")
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        _, rejected = _write(trail, database, _plan(database, file))
    assert [(row.number, row.reason) for row in rejected.first] == [
        (3, "the database left it out (a trigger or ON CONFLICT)"), (4, "the tank is too small"),
    ]  # fmt: skip
    assert _rows_of(path, "SELECT what FROM log") == [(1,), (4,)]


def test_a_trigger_that_rolls_everything_back_ends_the_import(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(
        "CREATE TABLE fuel(id INTEGER PRIMARY KEY)",
        "CREATE TRIGGER no BEFORE INSERT ON fuel WHEN new.id = 2 "
        "BEGIN SELECT RAISE(ROLLBACK, 'closed'); END",
    )
    file = tmp_path / "fuel.csv"
    file.write_text("id\n1\n2\n3\n")
    with (
        closing(open_database(path)) as database,
        closing(Trail(database.location)) as trail,
        rejects_beside(file) as kept,
    ):
        plan = _plan(database, file)
        statements = import_statements(plan, dialect_of(database.location), kept.rejects)
        done = write_script(trail, database, statements, lambda _: None)
    assert done.outcome.error is not None
    assert _rows_of(path, "SELECT * FROM fuel") == []
    assert sorted(p.name for p in tmp_path.iterdir() if "reject" in p.name) == []


def test_a_new_table_is_made_with_its_rows_or_not_at_all(
    path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    file = tmp_path / "sales.json"
    file.write_text('[{"id": 1, "at": "2026-05-01", "litres": 2.5, "paid": true}, {"id": 2}]')
    plan = _plan(database, file)
    _, changes, _ = _rehearse(trail, database, plan)
    assert [change.kind for change in changes.schema_changes] == ["table added"]
    _write(trail, database, plan)
    assert _rows_of(path, "SELECT * FROM sales") == [
        (1, "2026-05-01", 2.5, 1), (2, None, None, None),
    ]  # fmt: skip
    broken = tmp_path / "more.json"
    broken.write_text('[{"id": 1}, {"id": 2}')
    with pytest.raises(ImportFailed):
        _plan(database, broken)
    lines = tmp_path / "late.json"
    lines.write_text("[" + ",".join(f'{{"id": {n}}}' for n in range(20_000)) + ",")
    plan = _plan(database, lines)
    with pytest.raises(ImportFailed, match="after record 20000"):
        _write(trail, database, plan)
    tables = _rows_of(path, "SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name")
    assert tables == [("piers",), ("sales",)]


def test_a_file_that_was_changed_is_not_imported_as_it_was_looked_at(
    database: Database, trail: Trail, tmp_path: Path
) -> None:
    file = tmp_path / "piers.csv"
    file.write_text("id,name\n2,south\n")
    plan = _plan(database, file)
    file.write_text("name,id\n2,south\n4,east\n")
    with pytest.raises(ImportFailed, match="has changed since"):
        _write(trail, database, plan)


def test_an_import_is_stopped_and_nothing_of_it_is_left(
    path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    file = tmp_path / "piers.csv"
    with file.open("w") as out:
        out.write("id,name\n")
        out.writelines(f"{n},pier {n}\n" for n in range(2, 200_000))
    plan = _plan(database, file)
    begun = threading.Event()

    def stop() -> None:
        begun.wait()
        database.interrupt()

    stopper = threading.Thread(target=stop)
    stopper.start()
    with rejects_beside(file) as kept, pytest.raises(Cancelled):
        write_script(
            trail, database,
            import_statements(
                plan, dialect_of(database.location), kept.rejects, lambda rows: begun.set()
            ),
            lambda _: None,
        )  # fmt: skip
    stopper.join()
    database.resume()
    assert len(_rows_of(path)) == 1


def test_strictly_the_first_row_that_cannot_go_in_ends_it(
    path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    file = tmp_path / "piers.csv"
    file.write_text("id,name\n2,south\n3,north\n")
    plan = _plan(database, file)
    rejects = Rejects(any_allowed=False)
    statements = import_statements(plan, dialect_of(database.location), rejects)
    with pytest.raises(ImportFailed, match="line 3: UNIQUE constraint failed"):
        write_script(trail, database, statements, lambda _: None)
    assert len(_rows_of(path)) == 1


def test_what_was_written_since_it_was_tried_out_keeps_it_from_being_written(
    path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    from jondel.core.engines.needed import commits_of

    file = tmp_path / "piers.csv"
    file.write_text("id,name\n2,south\n")
    since = commits_of(database).mark()
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute("INSERT INTO piers(id, name) VALUES (9, 'west')")
    statements = import_statements(_plan(database, file), dialect_of(database.location), Rejects())
    with pytest.raises(RecordsMovedOn):
        write_script(trail, database, statements, lambda _: None, since=since)


def test_views_and_names_that_are_taken_are_refused(make: MakeDatabase) -> None:
    path = make("CREATE TABLE t(a)", "CREATE VIEW v AS SELECT * FROM t")
    with closing(open_database(path)) as database:
        view = database.schema().named("v")
        assert view is not None
        with pytest.raises(ImportFailed, match="import into the table behind it"):
            require_writable(database, view)
        with pytest.raises(ImportFailed, match="already"):
            new_table_id("T", database.schema(), dialect_of(database.location))


SERVER = """
CREATE TABLE piers(id int GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, name text NOT NULL UNIQUE,
    within int REFERENCES piers(id), depth numeric(6,2) CHECK (depth > 0));
INSERT INTO piers(name, depth) VALUES ('north', 3);
"""


@pytest.mark.parametrize("seed", seeds("JONDEL_SERVER_SEEDS", 3))
def test_a_server_takes_the_same_rows_and_goes_on_numbering_after_them(
    seed: int, postgresql_database: str, tmp_path: Path
) -> None:
    rows = _random_rows(seed)
    file = tmp_path / "piers.csv"
    with file.open("w", newline="") as out:
        csv.writer(out).writerows([["id", "name", "within", "depth"], *rows])
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        app.execute(SERVER)
        with (
            closing(open_database(postgresql_database)) as database,
            closing(Trail(database.location)) as trail,
        ):
            plan = _plan(database, file)
            _, changes, would_reject = _rehearse(trail, database, plan)
            assert app.execute("SELECT count(*) FROM piers").fetchone() == (1,)
            step, rejected = _write(trail, database, plan)
            made = next(s for s in trail.steps() if s.number == step)
            assert trail.step_changes(made, Scope()).tables == changes.tables
        assert would_reject._replace(path=rejected.path) == rejected
        found = app.execute("SELECT id, name, within, depth::float FROM piers ORDER BY id")
        # There NULL is no number that the engine chooses, as it is for SQLite.
        assert found.fetchall() == _naive([row for row in rows if row[0]])
        app.execute("INSERT INTO piers(name) VALUES ('after')")


def test_exact_values_and_new_tables_on_a_server(postgresql_database: str, tmp_path: Path) -> None:
    file = tmp_path / "sales.jsonl"
    file.write_text(
        '{"id": 1, "price": 0.10, "at": "2026-05-01 10:00:00+02", "note": "a\\tb\\\\c\\nd"}\n'
        '{"id": 2, "price": 123456789012345678.123456789, "more": {"a": [1]}}\n'
        '{"id": 3, "note": "nul\\u0000"}\n'
    )
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        with (
            closing(open_database(postgresql_database)) as database,
            closing(Trail(database.location)) as trail,
        ):
            plan = _plan(database, file)
            _, rejected = _write(trail, database, plan)
        found = app.execute("SELECT id, price::text, note, more::text FROM public.sales ORDER BY 1")
        assert found.fetchall() == [
            (1, "0.10", "a\tb\\c\nd", None),
            (2, "123456789012345678.123456789", None, '{"a": [1]}'),
        ]  # fmt: skip
    assert [row.reason for row in rejected.first] == [
        "a text holds a NUL character, which the server keeps in none"
    ]


def test_text_that_is_no_text_goes_in_byte_for_byte_and_ends_nothing(
    path: Path, database: Database, trail: Trail, tmp_path: Path
) -> None:
    lines = tmp_path / "piers.jsonl"
    lines.write_text('{"id": 2, "name": "\\ud83d"}\n{"id": 3, "name": "\\ud83d\\ude00"}\n')
    _write(trail, database, _plan(database, lines))
    file = tmp_path / "piers.csv"
    file.write_bytes(b"id,name\n4,J\xe4rvi\n5,plain\n")
    _write(trail, database, _plan(database, file))
    lines.write_text('{"id": "\\udead", "name": "\\ud83d"}\n{"id": 1, "name": "\\udc80"}\n')
    _, rejected = _write(trail, database, _plan(database, lines))
    assert rejected.path is not None
    kept = [json.loads(line) for line in rejected.path.read_text().splitlines()]
    assert [entry["id"] for entry in kept] == ["\udead", 1]
    assert _rows_of(path, "SELECT id, hex(name) FROM piers WHERE id > 1 ORDER BY id") == [
        (2, "EDA0BD"), (3, "F09F9880"), (4, "4AE4727669"), (5, "706C61696E"),
    ]  # fmt: skip


def test_a_table_that_settles_conflicts_itself_takes_row_by_row_and_a_virtual_one_none(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(
        "CREATE TABLE marks(id INTEGER PRIMARY KEY ON CONFLICT IGNORE, name TEXT UNIQUE ON "
        "CONFLICT REPLACE)",
        "CREATE VIRTUAL TABLE notes USING fts5(title, body)",
    )
    (tmp_path / "marks.csv").write_text("id,name\n1,a\n1,b\n2,a\n")
    (tmp_path / "notes.csv").write_text("title,body\nfirst,tide\n")
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        _, marks = _write(trail, database, _plan(database, tmp_path / "marks.csv"))
        with pytest.raises(ImportFailed, match="only its module knows how to write it"):
            _plan(database, tmp_path / "notes.csv")
    assert [row.number for row in marks.first] == [3]
    assert _rows_of(path, "SELECT * FROM marks") == [(2, "a")]
