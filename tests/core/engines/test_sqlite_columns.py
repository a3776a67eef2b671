"""What is known of columns: their types, what numbers them, what no two rows share."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import MakeDatabase
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.column_types import affinity_name, column_type
from jondel.core.model.column_types import ValueKind

_WORDS = (
    "INT INTEGER TINYINT POINT CHAR VARCHAR CLOB TEXT BLOB REAL FLOAT DOUBLE PRECISION NUMERIC "
    "DECIMAL BOOLEAN DATE DATETIME TIMESTAMP JSON JSONB UUID STRING ANY interval text Int"
)
_DECLARED = st.lists(st.sampled_from(re.findall(r"\w+", _WORDS)), max_size=3).map(" ".join)


def _made_of(declared: str, strict: str = "") -> tuple[str, ...]:
    """What SQLite's own table of such a column makes of some values."""
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.execute(f"CREATE TABLE t(c {declared}){strict}")
        classes = []
        for value in ("12", "1.5", "x", 3, 2.0, b"x"):
            try:
                connection.execute("INSERT INTO t VALUES (?)", (value,))
            except sqlite3.IntegrityError:
                classes.append("refused")
            else:
                (stored,) = connection.execute("SELECT typeof(c) FROM t").fetchone()
                classes.append(stored)
            connection.execute("DELETE FROM t")
        return tuple(classes)


@given(_DECLARED)
def test_a_kind_is_what_sqlite_makes_of_values(declared: str) -> None:
    kind = column_type(declared).kind
    assert _made_of(declared) == _made_of(affinity_name(kind))
    if kind in ("integer", "numeric"):  # which differ in CAST alone
        assert ("INT" in declared.upper()) == (kind == "integer")


@pytest.mark.parametrize(
    ("declared", "kind"),
    [
        ("INT", "integer"),
        ("INTEGER", "integer"),
        ("REAL", "real"),
        ("TEXT", "text"),
        ("BLOB", "blob"),
        ("ANY", "any"),
    ],
)
def test_strict_tables_have_kinds_of_their_own(declared: str, kind: ValueKind) -> None:
    assert column_type(declared, strict=True).kind == kind
    takes_all = "refused" not in _made_of(declared, " STRICT")
    assert takes_all == (kind == "any")


@pytest.mark.parametrize(
    ("declared", "kind", "use"),
    [
        ("DATETIME", "numeric", "timestamp"),
        ("TEXT DATE", "text", "date"),
        ("INTEGER TIME", "integer", "time"),
        ("JSON", "numeric", "json"),
        ("JSONB", "numeric", "blob"),
        ("boolean", "numeric", "boolean"),
        ("DECIMAL(6,2)", "numeric", "numeric"),
        ("", "any", "any"),
    ],
)
def test_what_people_mean_is_told_beside_it(declared: str, kind: ValueKind, use: ValueKind) -> None:
    told = column_type(declared)
    assert (told.name, told.kind, told.use) == (declared, kind, use)


def test_numbers_of_its_own_and_unique_columns(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    schema = opened(
        make(
            "CREATE TABLE numbered(id INTEGER PRIMARY KEY, code TEXT UNIQUE, a, b, UNIQUE(a, b))",
            "CREATE TABLE keyed(id INT PRIMARY KEY, code TEXT) WITHOUT ROWID",
            "CREATE UNIQUE INDEX part ON keyed(code) WHERE code > ''",
            "CREATE TABLE named(id TEXT PRIMARY KEY, code TEXT)",
            "CREATE UNIQUE INDEX expression ON named(lower(code))",
            "CREATE TABLE bare(a, b)",
            "CREATE TABLE unkeyed(code TEXT UNIQUE, a, b, UNIQUE(a, b))",
        )
    ).schema()
    tables = {table.name: table for table in schema.tables if not table.internal}
    assert {t.name: t.addressing for t in tables.values()} == {
        "numbered": "row number",
        "keyed": "key",
        "named": "row number",
        "bare": "row number",
        "unkeyed": "row number",
    }
    assert set(tables["unkeyed"].unique_keys) == {("code",), ("a", "b")}
    assert not any(tables[name].unique_keys for name in ("keyed", "named", "bare"))
    firsts = {name: table.columns[0] for name, table in tables.items()}
    assert {name: column.numbered for name, column in firsts.items()} == {
        "numbered": True,
        "keyed": False,
        "named": False,
        "bare": False,
        "unkeyed": False,
    }
    assert firsts["keyed"].not_null
    assert not firsts["named"].not_null
