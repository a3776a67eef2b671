"""Tables and changes in files: another program reads from them what was there."""

from __future__ import annotations

import csv
import json
import random
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import openpyxl
import psycopg
import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.diff.compare import Scope, compare
from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of, open_database
from jondel.core.errors import Cancelled, ExportFailed
from jondel.core.exports.changes import export_changes
from jondel.core.exports.tables import TableExport, export_tables, parents_first
from jondel.core.formats.row_writers import RowForm
from jondel.core.model.filters import Arrangement, OrderKey
from jondel.core.sql.conditions import condition_of
from jondel.core.trail.trail import Trail
from seeds import seeds

HARBOUR = (
    "CREATE TABLE berths(pier TEXT, number INT, boat INT REFERENCES boats, label TEXT "
    "GENERATED ALWAYS AS (pier || number) STORED, PRIMARY KEY (pier, number)) WITHOUT ROWID",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT UNIQUE, photo BLOB, length REAL)",
    "CREATE TABLE log(what, at)",
    "CREATE INDEX by_boat ON berths(boat)",
    "CREATE TRIGGER no AFTER DELETE ON log BEGIN SELECT 1; END",
    "CREATE VIEW long_boats AS SELECT * FROM boats WHERE length > 8",
    "INSERT INTO boats VALUES (1, 'Gull', x'00ff', 7.5), (2, '', NULL, 9.25), "
    "(3, NULL, x'', 1e300)",
    "INSERT INTO berths(pier, number, boat) VALUES ('A', 1, 1), ('A', 2, NULL), ('B', 1, 3)",
    "INSERT INTO log VALUES ('x''y\n\"', 1), (1.5, NULL), (CAST(x'ff' AS TEXT), 2)",
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR)


@pytest.fixture
def database(path: Path) -> Iterator[Database]:
    with closing(open_database(path)) as opened:
        yield opened


def _export(database: Database, names: list[str], path: Path, form: RowForm, **options: Any) -> Any:
    schema = database.schema()
    tables = [table for name in names if (table := schema.named(name)) is not None]
    assert len(tables) == len(names)
    exports = [TableExport.whole(table) for table in tables]
    return export_tables(database, exports, path, form, dialect_of(database.location), **options)


def test_sql_with_the_tables_makes_the_same_database_again(
    database: Database, path: Path, tmp_path: Path
) -> None:
    done = _export(
        database, ["berths", "boats", "log"], tmp_path / "all.sql", "sql", with_table=True
    )
    assert done.rows == 9
    copy = tmp_path / "copy.db"
    with closing(sqlite3.connect(copy)) as connection:
        connection.execute("PRAGMA foreign_keys=ON")
        text = (tmp_path / "all.sql").read_text("utf-8", "surrogateescape")
        connection.executescript(text.replace("\udcff", "?"))
    with closing(open_database(copy)) as other:
        changes = compare(database, other)
    assert {change.object for change in changes.schema_changes} == {"long_boats"}
    assert changes.counts.total == 0


def test_several_tables_are_a_folder_of_files_or_one_file_that_holds_them(
    database: Database, tmp_path: Path
) -> None:
    names = ["boats", "berths"]
    done = _export(database, names, tmp_path / "tables", "csv")
    assert sorted(p.name for p in done.paths) == ["berths.csv", "boats.csv"]
    with (tmp_path / "tables" / "boats.csv").open(newline="") as file:
        assert list(csv.reader(file))[1] == ["1", "Gull", "0x00ff", "7.5"]
    done = _export(database, names, tmp_path / "both.xlsx", "xlsx")
    book = openpyxl.load_workbook(tmp_path / "both.xlsx")
    assert book.sheetnames == ["boats", "berths"]
    assert [cell.value for cell in book["berths"][2]] == ["A", 1, 1, "A1"]


def test_a_sheet_is_written_as_it_is_filtered_and_sorted_with_the_columns_it_shows(
    database: Database, tmp_path: Path
) -> None:
    boats = database.schema().named("boats")
    assert boats is not None
    condition = condition_of("id < 3", boats)
    arrangement = Arrangement(condition, (OrderKey("length", descending=True),))
    export = TableExport(boats, ("name", "id"), arrangement)
    file = tmp_path / "boats.jsonl"
    done = export_tables(database, [export], file, "jsonl", dialect_of(database.location))
    assert done.rows == 2
    rows = [json.loads(line) for line in file.read_text().splitlines()]
    assert rows == [{"name": "", "id": 2}, {"name": "Gull", "id": 1}]


def test_large_values_are_whole_and_views_can_be_written(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)",
        "INSERT INTO t VALUES (1, printf('%.*c', 3000000, 'x')), (2, 'y')",
        "CREATE VIEW w AS SELECT v, id FROM t WHERE id = 2",
    )
    with closing(open_database(path)) as database:
        table = database.schema().named("t")
        assert table is not None
        sorted_ = Arrangement(None, (OrderKey("id", descending=True),))
        for arrangement in (Arrangement(), sorted_):
            export = TableExport(table, ("v",), arrangement)
            dialect = dialect_of(database.location)
            export_tables(database, [export], tmp_path / "t.jsonl", "jsonl", dialect)
            lines = (tmp_path / "t.jsonl").read_text().splitlines()
            texts = [json.loads(line)["v"] for line in lines]
            assert sorted(map(len, texts)) == [1, 3_000_000]
        _export(database, ["w"], tmp_path / "w.csv", "csv")
    assert (tmp_path / "w.csv").read_text() == "v,id\ny,2\n"


def test_a_file_that_cannot_be_finished_leaves_what_was_there(
    database: Database, tmp_path: Path
) -> None:
    file = tmp_path / "boats.csv"
    file.write_text("mine")

    def stop(rows: int) -> None:
        raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        _export(database, ["boats"], file, "csv", progress=stop)
    with pytest.raises(Cancelled):
        _export(database, ["boats", "log"], tmp_path / "new", "csv", progress=stop)
    assert file.read_text() == "mine"
    left = [p.name for p in tmp_path.rglob("*") if p.suffix in (".csv", ".unfinished")]
    assert left == ["boats.csv"]
    with pytest.raises(ExportFailed, match="cannot be written"):
        _export(database, ["boats"], tmp_path / "no" / "x.csv", "csv")


def test_tables_come_before_those_that_point_at_them_whatever_circles_there_are(
    make: MakeDatabase,
) -> None:
    path = make(
        "CREATE TABLE a(id INTEGER PRIMARY KEY, b REFERENCES b)",
        "CREATE TABLE b(id INTEGER PRIMARY KEY, a REFERENCES a, b REFERENCES b)",
        "CREATE TABLE c(id INTEGER PRIMARY KEY, d REFERENCES d)",
        "CREATE TABLE d(id INTEGER PRIMARY KEY)",
    )
    with closing(open_database(path)) as database:
        tables = [table for table in database.schema().tables if not table.internal]
        exports = parents_first([TableExport.whole(table) for table in tables])
    names = [export.table.name for export in exports]
    assert names.index("d") < names.index("c")
    assert sorted(names) == ["a", "b", "c", "d"]


def _work(seed: int) -> list[str]:
    chance = random.Random(seed)
    statements = []
    for _ in range(12):
        number = chance.randrange(1, 30)
        statements.append(
            chance.choice([
                f"INSERT OR IGNORE INTO boats VALUES ({number}, 'boat {number}', x'0{number % 9}', "
                f"{number}.5)",
                f"UPDATE boats SET length = {number} WHERE id % 3 = {number % 3}",
                f"UPDATE OR IGNORE boats SET name = 'new {number}' WHERE id = {number % 4}",
                f"INSERT OR IGNORE INTO berths(pier, number, boat) "
                f"SELECT 'C', {number}, id FROM boats LIMIT 1",
                f"DELETE FROM berths WHERE number = {number % 4}",
                "DELETE FROM berths WHERE boat = 3",
                "DELETE FROM boats WHERE id NOT IN (SELECT boat FROM berths WHERE boat > 0)",
                f"UPDATE OR IGNORE berths SET number = number + 1 WHERE {number} > 9",
            ])
        )  # fmt: skip
    return statements


@pytest.mark.parametrize("seed", seeds("JONDEL_SCRIPT_SEEDS", 8))
def test_changes_as_sql_make_the_later_state_of_the_earlier_one(
    seed: int, make: MakeDatabase, app: OpenApp, tmp_path: Path
) -> None:
    path = make(*HARBOUR[:-1])
    before = tmp_path / "before.db"
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        one = trail.take(database)
        before.write_bytes(path.read_bytes())
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("PRAGMA foreign_keys=ON")
            for statement in _work(seed):
                connection.execute(statement)
        two = trail.take(database)
        with trail.opened(one) as earlier, trail.opened(two) as later:
            sides, dialect = (earlier, later), dialect_of(database.location)
            file = tmp_path / "changes.sql"
            done = export_changes((one, two), sides, Scope(), file, "sql", dialect)
            total = compare(earlier, later).counts.total
            as_rows = tmp_path / "changes.jsonl"
            export_changes((one, two), sides, Scope(), as_rows, "jsonl", dialect)
        assert done.rows == total
        with closing(sqlite3.connect(before)) as connection:
            connection.execute("PRAGMA foreign_keys=ON")
            connection.executescript(file.read_text())
        with closing(open_database(before)) as made:
            assert compare(made, database).counts.total == 0
    rows = [json.loads(line) for line in as_rows.read_text().splitlines()]
    assert len({(row["table"], str(row["key"])) for row in rows}) == total


@pytest.mark.parametrize("form", ["csv", "json", "markdown", "html", "xlsx", "table"])
def test_changes_are_written_in_every_format(
    form: RowForm, path: Path, database: Database, tmp_path: Path, home: Path
) -> None:
    with closing(Trail(database.location)) as trail:
        one = trail.take(database)
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("UPDATE boats SET name = 'Tern' WHERE id = 1")
        two = trail.take(database)
        with trail.opened(one) as earlier, trail.opened(two) as later:
            done = export_changes(
                (one, two), (earlier, later), Scope(), tmp_path / "c.xlsx", form,
                dialect_of(database.location),
            )  # fmt: skip
    assert done.rows == 1
    raw = (tmp_path / "c.xlsx").read_bytes()
    if form == "xlsx":
        rows = openpyxl.load_workbook(tmp_path / "c.xlsx")["changes"].values
        assert list(rows)[1] == ("~", "boats", 1, "name", "Gull", "Tern")
    else:
        assert b"Gull" in raw
        assert b"Tern" in raw


def test_a_servers_tables_are_written_with_exact_values_and_made_again(
    postgresql_database: str, tmp_path: Path
) -> None:
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        app.execute(
            "CREATE TABLE boats(id serial PRIMARY KEY, name varchar(20) NOT NULL DEFAULT 'none', "
            "price numeric(20,9), at timestamptz, tags text[], doc jsonb, raw bytea);"
            "CREATE TABLE berths(pier int, number int, boat int REFERENCES boats(id), "
            "PRIMARY KEY (pier, number));"
            "INSERT INTO boats(name, price, at, tags, doc, raw) VALUES "
            "('a''b\\c', 12345678901.123456789, '2026-06-14 14:02:11+02', '{x,\"y z\"}', "
            "'{\"a\": 1.50}', '\\x00ff'), ('', NULL, 'infinity', NULL, NULL, NULL);"
            "INSERT INTO berths VALUES (1, 2, 1)"
        )
        with (
            closing(open_database(postgresql_database)) as database,
            closing(Trail(database.location)) as trail,
        ):
            file = tmp_path / "all.sql"
            with trail.opened(database) as image:
                exports = [TableExport.whole(t) for t in image.schema().tables]
                dialect = dialect_of(database.location)
                export_tables(image, exports, file, "sql", dialect, with_table=True)
            app.execute("ALTER SCHEMA public RENAME TO was; CREATE SCHEMA public")
            app.execute(file.read_text())  # type: ignore[arg-type, call-overload]
        for table in ("boats", "berths"):
            for one, other in (("was", "public"), ("public", "was")):
                sql = f"SELECT * FROM {one}.{table} EXCEPT SELECT * FROM {other}.{table}"
                assert app.execute(sql).fetchall() == []  # type: ignore[arg-type, call-overload]


@pytest.mark.parametrize("form", ["jsonl", "sql", "json"])
def test_what_noise_rules_hide_is_not_in_exported_changes(
    form: RowForm, path: Path, database: Database, tmp_path: Path
) -> None:
    rules = NoiseRules(tables=("log",), columns=("boats.length",))
    with closing(Trail(database.location)) as trail:
        one = trail.take(database)
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("DELETE FROM log")
            connection.execute("UPDATE boats SET name = 'Tern', length = 1 WHERE id = 1")
        two = trail.take(database)
        with trail.opened(one) as earlier, trail.opened(two) as later:
            done = export_changes(
                (one, two), (earlier, later), Scope(noise=rules), tmp_path / "c", form,
                dialect_of(database.location),
            )  # fmt: skip
    told = (tmp_path / "c").read_text()
    assert done.rows == 1
    assert "Tern" in told
    assert "length" not in told.partition('"hidden"')[0]
    assert '"log"' not in told.partition('"hidden"')[0]
    assert "FROM log" not in told
