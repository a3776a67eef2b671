"""A record with all that it needs stands by itself in an empty database of the same schema."""

from __future__ import annotations

import json
import random
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from conftest import JondelCommand, MakeDatabase
from jondel.core.browse.links import LinkedRecord, declared_links
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of, open_database
from jondel.core.errors import ExportFailed
from jondel.core.exports.fixture import write_fixture
from jondel.core.exports.masking import masked, masks
from jondel.core.exports.record_set import RecordSet, gathered, renumbered
from seeds import seeds

SCHEMA = (
    "CREATE TABLE skippers(id INTEGER PRIMARY KEY, name TEXT, email TEXT UNIQUE, "
    "mate INTEGER REFERENCES skippers(id))",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, skipper INT NOT NULL REFERENCES skippers, "
    "length REAL, papers TEXT, built TEXT, twice REAL AS (length * 2))",
    "CREATE TABLE berths(pier TEXT, number INT, booking INT REFERENCES bookings(id), "
    "PRIMARY KEY (pier, number)) WITHOUT ROWID",
    "CREATE TABLE bookings(id INTEGER PRIMARY KEY, pier TEXT, number INT, boat INT REFERENCES "
    "boats(id), FOREIGN KEY (pier, number) REFERENCES berths(pier, number))",
)


def _rows(seed: int) -> list[str]:
    chance = random.Random(seed)
    count = 12
    statements = ["PRAGMA defer_foreign_keys=ON"]
    for n in range(1, count + 1):
        mate = chance.choice(["NULL", str(chance.randrange(1, count + 1))])
        statements.append(
            f"INSERT INTO skippers VALUES ({n}, 'name {n % 4}', 'a{n}@b.org', {mate})"
        )
        statements.append(
            f"INSERT INTO boats VALUES ({n * 10}, {chance.randrange(1, count + 1)}, {n}.5, "
            f"'{{\"a\": {n}}}', '2026-06-{n:02}')"
        )
        booking = chance.choice(["NULL", str(chance.randrange(1, count + 1))])
        statements.append(f"INSERT INTO berths VALUES ('A', {n}, {booking})")
        boat = chance.choice(["NULL", str(chance.randrange(1, count + 1) * 10)])
        statements.append(
            f"INSERT INTO bookings VALUES ({n}, 'A', {chance.randrange(1, count + 1)}, {boat})"
        )
    return statements


@pytest.fixture(params=seeds("JONDEL_SCRIPT_SEEDS", 6))
def database(request: pytest.FixtureRequest, make: MakeDatabase) -> Iterator[Database]:
    path = make(*SCHEMA)
    with closing(sqlite3.connect(path)) as connection, connection:
        for statement in _rows(request.param):
            connection.execute(statement)
    with closing(open_database(path)) as opened:
        yield opened


def _start(database: Database, table: str, key: tuple[object, ...]) -> LinkedRecord:
    found = database.schema().named(table)
    assert found is not None
    position = database.rows.find_position(found, found.primary_key, key)  # type: ignore[arg-type]
    assert position is not None
    row = database.rows.read_record(found, position, 1 << 20)
    assert row is not None
    return LinkedRecord(found, position, row)


def _loaded(found: RecordSet, database: Database, folder: Path) -> sqlite3.Connection:
    """An empty database of the same schema into which the records were put."""
    write_fixture(found, folder / "set.sql", "sql", dialect_of(database.location))
    connection = sqlite3.connect(":memory:")
    for statement in SCHEMA:
        connection.execute(statement)
    connection.execute("PRAGMA foreign_keys=ON")
    connection.executescript((folder / "set.sql").read_text())
    assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    return connection


def _shape(connection: sqlite3.Connection) -> dict[str, list[object]]:
    """What the rows are joined with, whatever their numbers."""
    return {
        "bookings": sorted(
            connection.execute(
                "SELECT k.number, b.length, s.email, m.email FROM bookings k "
                "LEFT JOIN boats b ON b.id = k.boat LEFT JOIN skippers s ON s.id = b.skipper "
                "LEFT JOIN skippers m ON m.id = s.mate"
            ),
            key=repr,
        ),
        "berths": sorted(
            connection.execute(
                "SELECT h.number, k.number, b.length FROM berths h "
                "LEFT JOIN bookings k ON k.id = h.booking LEFT JOIN boats b ON b.id = k.boat"
            ),
            key=repr,
        ),
    }


@pytest.mark.parametrize("children", [False, True], ids=["parents", "children"])
def test_all_that_is_pointed_at_is_there_whether_renumbered_or_not(
    database: Database, tmp_path: Path, children: bool
) -> None:
    links = declared_links(database.schema())
    start = _start(database, "bookings", (5,))
    below = frozenset(links) if children else frozenset()
    found = gathered(database, [start], links, below)
    with (
        closing(_loaded(found, database, tmp_path)) as as_it_was,
        closing(_loaded(renumbered(found, 1000), database, tmp_path)) as with_numbers,
    ):
        assert as_it_was.execute("SELECT count(*) FROM bookings WHERE id = 5").fetchone() == (1,)
        assert _shape(as_it_was) == _shape(with_numbers)
        assert with_numbers.execute("SELECT min(id) FROM bookings").fetchone() == (1000,)
        if children:
            expected = database.statements.execute(  # type: ignore[union-attr]
                "SELECT count(*) FROM berths WHERE booking = 5"
            ).rows[0]
            pointing = "SELECT count(*) FROM berths WHERE booking = 5"
            assert as_it_was.execute(pointing).fetchone() == expected
    assert len({(r.table.id, r.row) for r in found.records}) == len(found.records)


def test_masked_values_are_of_their_kind_unique_where_those_were_and_null_stays(
    database: Database, tmp_path: Path
) -> None:
    links = declared_links(database.schema())
    found = gathered(database, [_start(database, "bookings", (5,))], links, frozenset(links))
    columns = masks(
        ["skippers.name", "*.email", "boats.papers", "boats.built", "boats.length"],
        database.schema().tables,
    )
    with (
        closing(_loaded(found, database, tmp_path)) as plain,
        closing(_loaded(masked(found, columns), database, tmp_path)) as hidden,
    ):
        for table, column in [("skippers", "name"), ("skippers", "email"), ("boats", "papers")]:
            sql = f"SELECT count(*), count({column}), count(DISTINCT {column}) FROM {table}"
            assert plain.execute(sql).fetchone() == hidden.execute(sql).fetchone()
            seen = {value for (value,) in plain.execute(f"SELECT {column} FROM {table}")}
            now = {value for (value,) in hidden.execute(f"SELECT {column} FROM {table}")}
            assert not (seen & now) - {None, "name 1", "name 2", "name 3"}
        for papers, built, length in hidden.execute("SELECT papers, built, length FROM boats"):
            assert json.loads(papers)
            assert built.startswith("20")
            assert isinstance(length, float)
        addresses = [value for (value,) in hidden.execute("SELECT email FROM skippers")]
        assert all(value.endswith("@example.org") for value in addresses)


def test_keys_and_links_cannot_be_masked_and_too_many_records_are_refused(
    database: Database,
) -> None:
    links, tables = declared_links(database.schema()), database.schema().tables
    found = gathered(database, [_start(database, "bookings", (5,))], links, frozenset(links))
    for column in ("bookings.id", "boats.skipper", "berths.number"):
        if any(record.table.name == column.split(".")[0] for record in found.records):
            with pytest.raises(ExportFailed, match="cannot be masked"):
                masked(found, masks([column], tables))
    with pytest.raises(ExportFailed, match="there is no column"):
        masks(["boats.colour"], tables)
    with pytest.raises(ExportFailed, match="more than 1 records"):
        gathered(database, [_start(database, "boats", (10,))], links, frozenset(links), most=1)


def test_the_command_writes_a_record_with_what_it_needs(
    jondel: JondelCommand, make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(*SCHEMA)
    with closing(sqlite3.connect(path)) as connection, connection:
        for statement in _rows(1):
            connection.execute(statement)
    words = ("export", path, "--record", "boats=20", "--mask", "skippers.name")
    told = jondel(*words, "--renumber", "-o", "set.json")
    assert "records in set.json" in told.stderr
    document = json.loads((tmp_path / "set.json").read_text())
    assert document["records"][-1]["table"] == "boats"
    assert document["records"][-1]["row"]["id"] == 1
    assert all(
        record["row"]["name"].startswith("name")
        for record in document["records"]
        if record["table"] == "skippers"
    )
    for wrong, said in [
        (("--record", "boats=7"), "there is no record boats=7"),
        (("--record", "berths=A"), "give berths=PIER,NUMBER"),
        (("--record", "boats=20", "--children", "x"), "there is no such link"),
        (("--record", "boats=20", "--table", "boats"), "leave --table out"),
    ]:
        assert said in jondel("export", path, *wrong, "-o", "x.sql").stderr
    assert "written as SQL or JSON" in jondel(*words, "-o", "x.csv").stderr
