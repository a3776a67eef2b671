"""Changes as JSON: the document's form, and that it says the same as ``compare``."""

from __future__ import annotations

import io
import json
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from conftest import MakeDatabase
from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.registry import open_database
from jondel.core.formats.changes_json import write_changes
from jondel.core.formats.changes_text import change_lines
from jondel.core.model.changes import Changes

Written = Callable[..., tuple[dict[str, Any], Changes]]


@pytest.fixture
def written(make: MakeDatabase, tmp_path: Path) -> Written:
    """Makes a database, changes it, and gives the JSON document beside the changes themselves."""

    def write(before: list[str], *after: str) -> tuple[dict[str, Any], Changes]:
        path = make(*before)
        earlier = Path(shutil.copy(path, tmp_path / "earlier.db"))
        with closing(sqlite3.connect(path, isolation_level=None)) as connection:
            for statement in after:
                connection.execute(statement)
        with closing(open_database(earlier)) as one, closing(open_database(path)) as other:
            out = io.StringIO()
            unread = write_changes(out, (one, other), (one, other), Scope()).unread
            assert unread == []
            return json.loads(out.getvalue()), compare(one, other)

    return write


def test_the_document_has_the_laid_down_form(written: Written) -> None:
    document, _ = written(
        [
            "CREATE TABLE bookings(id INTEGER PRIMARY KEY, berth INT, status TEXT)",
            "CREATE TABLE boats(id INTEGER PRIMARY KEY)",
            "INSERT INTO bookings VALUES (9, 1, 'left'), (412, 2, 'held')",
        ],
        "UPDATE bookings SET status = 'paid' WHERE id = 412",
        "INSERT INTO bookings VALUES (413, 3, NULL)",
        "DELETE FROM bookings WHERE id = 9",
        "ALTER TABLE bookings ADD COLUMN paid_at TEXT",
    )
    assert set(document) == {"from", "to", "method", "tables", "schema_changes"}
    assert document["tables"] == [
        {
            "schema": "main",
            "table": "bookings",
            "key": ["id"],
            "added": [
                {
                    "key": {"id": 413},
                    "row": {"id": 413, "berth": 3, "status": None, "paid_at": None},
                }
            ],
            "removed": [{"key": {"id": 9}, "row": {"id": 9, "berth": 1, "status": "left"}}],
            "changed": [
                {"key": {"id": 412}, "cells": {"status": {"before": "held", "after": "paid"}}}
            ],
        }
    ]
    assert document["schema_changes"] == [
        {"kind": "column added", "object": "bookings.paid_at", "after": "TEXT"}
    ]


def test_values_json_cannot_carry_say_what_they_are(written: Written) -> None:
    document, _ = written(
        ["CREATE TABLE t(id INTEGER PRIMARY KEY, v)"],
        "INSERT INTO t(v) VALUES (NULL), (''), (X''), (X'00ff'), (9e999), (-9e999), (1), (1.0), "
        "('1'), (CAST(X'66ff' AS TEXT)), ('a' || char(0)), (9223372036854775807)",
    )
    (table,) = document["tables"]
    assert [entry["row"]["v"] for entry in table["added"]] == [
        None,
        "",
        {"base64": ""},
        {"base64": "AP8="},
        {"real": "Infinity"},
        {"real": "-Infinity"},
        1,
        1.0,
        "1",
        {"text_base64": "Zv8="},
        "a\x00",
        9223372036854775807,
    ]
    assert isinstance(table["added"][7]["row"]["v"], float)


def test_a_table_without_a_declared_key_goes_by_rowid(written: Written) -> None:
    document, _ = written(["CREATE TABLE t(v)"], "INSERT INTO t VALUES ('a')")
    (table,) = document["tables"]
    assert table["key"] == ["rowid"]
    assert table["added"] == [{"key": {"rowid": 1}, "row": {"v": "a"}}]


def test_a_value_in_a_new_column_other_than_its_default_has_after_alone(written: Written) -> None:
    document, _ = written(
        ["CREATE TABLE t(id INTEGER PRIMARY KEY)", "INSERT INTO t VALUES (1), (2)"],
        "ALTER TABLE t ADD COLUMN v DEFAULT 5",
        "UPDATE t SET v = 6 WHERE id = 2",
    )
    assert document["tables"][0]["changed"] == [{"key": {"id": 2}, "cells": {"v": {"after": 6}}}]


def test_many_changes_are_written_whole(written: Written) -> None:
    document, changes = written(
        ["CREATE TABLE t(id INTEGER PRIMARY KEY, v)"],
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000) "
        "INSERT INTO t SELECT i, 'some text ' || i FROM n",
    )
    assert len(document["tables"][0]["added"]) == changes.counts.added == 30_000
    assert document["tables"][0]["added"][-1]["row"] == {"id": 30_000, "v": "some text 30000"}


def test_no_changes_are_an_empty_list(written: Written) -> None:
    document, _ = written(["CREATE TABLE t(id)"])
    assert (document["tables"], document["schema_changes"]) == ([], [])


def test_changes_as_text_have_a_line_a_record_and_a_line_a_cell(written: Written) -> None:
    _, changes = written(
        [
            "CREATE TABLE t(id INTEGER PRIMARY KEY, v, w)",
            "INSERT INTO t VALUES (1, NULL, 'x'), (2, '', 'y')",
        ],
        "UPDATE t SET v = '', w = X'00' WHERE id = 1",
        "DELETE FROM t WHERE id = 2",
        "CREATE TABLE u(id)",
    )
    assert list(change_lines(changes)) == [
        "schema  table added: u",
        "t  ~1 -1",
        '  ~ 1  v  ∅ → ""',
        "       w  x → ‹blob 1 B›",
        '  - 2  v "" · w y',
    ]


def test_no_changes_are_said_to_be_none() -> None:
    assert list(change_lines(Changes())) == ["no changes"]
