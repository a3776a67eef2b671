"""CHECK constraints that do not hold, as an app leaves them behind that has switched checks off."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.check_constraints import declared_checks
from jondel.core.findings.check_constraints import violations
from jondel.core.findings.scanning import key_of

_BOATS = """CREATE TABLE boats(
    id INTEGER PRIMARY KEY, "check" TEXT DEFAULT 'CHECK (', -- CHECK (none)
    length INT CHECK (length > 0 -- in centimetres
    ), kind TEXT, price TEXT CHECK (price IS NULL OR price > 100),
    CONSTRAINT kinds CHECK(kind IN ('sail', 'mo)tor') AND ("length" < 9000)))"""


def _found(path: Path, table: str = "boats", records: list[tuple[object, ...]] | None = None):  # type: ignore[no-untyped-def]
    with closing(open_database(str(path))) as database:
        declared = next(t for t in database.schema().tables if t.name == table)
        found = violations(database, declared, key_of(database, declared), records)  # type: ignore[arg-type]
        return {(violation.key, violation.column) for violation, _ in found}


def _made(path: Path, *statements: str) -> None:
    with closing(sqlite3.connect(path)) as connection:
        connection.create_function("berthed", 1, lambda value: 1, deterministic=True)
        connection.execute("PRAGMA ignore_check_constraints=ON")
        for statement in statements:
            connection.execute(statement)
        connection.commit()


def test_the_constraints_of_a_declaration_are_told_from_what_looks_like_one(tmp_path: Path) -> None:
    _made(tmp_path / "a.db", _BOATS)
    with closing(open_database(str(tmp_path / "a.db"))) as database:
        table = next(t for t in database.schema().tables if t.name == "boats")
        checks = list(declared_checks(_BOATS, table))
    assert [check.columns for check in checks] == [("length",), ("price",), ("kind", "length")]
    assert checks[2].expression == "kind IN ('sail', 'mo)tor') AND (\"length\" < 9000)"


def test_records_are_found_for_which_a_constraint_does_not_hold(tmp_path: Path) -> None:
    _made(
        tmp_path / "a.db",
        _BOATS,
        "INSERT INTO boats(id, length, kind, price) VALUES (1, 500, 'sail', '200')",
        "INSERT INTO boats(id, length, kind) VALUES (2, -5, 'mo)tor')",
        "INSERT INTO boats(id, length, kind) VALUES (3, NULL, NULL)",
        "INSERT INTO boats(id, length, kind) VALUES (4, 9500, 'sail')",
        "INSERT INTO boats(id, length, kind) VALUES (5, 10, 'rail')",
    )
    all_of_them = {((2,), "length"), ((4,), "kind"), ((5,), "kind")}
    assert _found(tmp_path / "a.db") == all_of_them
    keys: list[tuple[object, ...]] = [(number,) for number in range(3, 400)]
    assert _found(tmp_path / "a.db", records=keys) == all_of_them - {((2,), "length")}
    assert _found(tmp_path / "a.db", records=[]) == set()


@pytest.mark.parametrize(
    ("declaration", "key"),
    [
        ("CREATE TABLE boats(a INT, b TEXT COLLATE NOCASE, n INT CHECK (n>0), PRIMARY KEY(b, a)) "
         "WITHOUT ROWID", ("x", 1)),
        ("CREATE TABLE boats(a INT, b TEXT, n INT CHECK (boats.n > 0))", (1,)),
        ("CREATE TABLE boats(a INT, b TEXT, n INT CHECK (berthed(n)), CHECK (n > 0))", (1,)),
    ],
)  # fmt: skip
def test_by_whatever_its_records_are_called(
    tmp_path: Path, declaration: str, key: tuple[object, ...]
) -> None:
    _made(tmp_path / "a.db", declaration, "INSERT INTO boats VALUES (1, 'x', 0), (2, 'X', 1)")
    assert _found(tmp_path / "a.db") == {(key, "n")}
    assert _found(tmp_path / "a.db", records=[key]) == {(key, "n")}
