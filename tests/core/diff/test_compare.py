"""What changed between two databases: known traps one by one, and random work against an oracle."""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from oracle import as_found, expected
from stored import stored

from conftest import MakeDatabase
from jondel.core.diff.compare import Scope, compare
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import NO_VALUE, CellChange, Changes, TableChanges
from jondel.core.model.values import Clipped, InvalidText

Write = Callable[..., None]


def _changes(before: Path, after: Path, scope: Scope = Scope()) -> Changes:  # noqa: B008
    """What changed, found by pages, after making sure that reading every row gives the same."""
    with tempfile.TemporaryDirectory() as folder, stored(Path(folder), before, after) as sides:
        by_pages = compare(*sides, scope)
        by_rows = compare(*sides, replace(scope, by_pages=False))
    assert by_pages._replace(method="rows") == by_rows._replace(method="rows")
    assert by_rows.method in ("rows", "same")
    return by_pages


def _write(path: Path, *statements: str) -> None:
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        for statement in statements:
            connection.execute(statement)


@pytest.fixture
def changed(make: MakeDatabase, tmp_path: Path) -> Callable[..., Changes]:
    """Makes a database, changes it, and finds what changed."""

    def find(before: list[str], *after: str, scope: Scope = Scope()) -> Changes:  # noqa: B008
        path = make(*before)
        earlier = Path(shutil.copy(path, tmp_path / "earlier.db"))
        _write(path, *after)
        found = _changes(earlier, path, scope)
        assert found.unread == ()
        return found

    return find


def _kinds(table: TableChanges | None) -> list[tuple[str, tuple[Any, ...]]]:
    return [(record.kind, record.key) for record in table.records] if table else []


_T = "CREATE TABLE t(id INTEGER PRIMARY KEY, v, w TEXT)"


def test_added_changed_and_removed_records_come_with_their_cells(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        [_T, "INSERT INTO t VALUES (1, 'a', 'x'), (2, 'b', 'x'), (3, 'c', 'x')"],
        "UPDATE t SET v = 'B' WHERE id = 2",
        "DELETE FROM t WHERE id = 1",
        "INSERT INTO t VALUES (9, NULL, '')",
    )
    table = found.table(TableId("t"))
    assert table is not None
    assert _kinds(table) == [("removed", (1,)), ("changed", (2,)), ("added", (9,))]
    removed, updated, added = table.records
    assert removed.before == (1, "a", "x")
    assert updated.cells == (CellChange("v", "b", "B"),)
    assert added.after == (9, None, "")
    assert table.counts.marked() == "+1 ~1 -1"


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("1", "1.0"), ("1", "'1'"), ("NULL", "''"), ("''", "X''"), ("NULL", "X''"), ("0", "NULL"),
        ("'a'", "'a '"), ("'a'", "'A'"), ("X'61'", "'a'"), ("9e999", "'Inf'"), ("0.0", "0"),
        ("'a' || char(0)", "'a'"), ("CAST(X'ff' AS TEXT)", "CAST(X'fe' AS TEXT)"),
        ("CAST(X'ff' AS TEXT)", "X'ff'"), ("9007199254740993", "9007199254740992"),
    ],
)  # fmt: skip
def test_cells_differ_by_value_or_kind_of(
    changed: Callable[..., Changes], before: str, after: str
) -> None:
    found = changed(
        ["CREATE TABLE t(id INTEGER PRIMARY KEY, v)", f"INSERT INTO t VALUES (1, {before})"],
        f"UPDATE t SET v = {after}",
    )
    assert _kinds(found.table(TableId("t"))) == [("changed", (1,))]


@pytest.mark.parametrize(
    "statements",
    [
        pytest.param(["UPDATE t SET v = v"], id="set-to-the-same"),
        pytest.param(["UPDATE t SET v = 'x'", "UPDATE t SET v = 'a'"], id="set-and-set-back"),
        pytest.param(["BEGIN", "DELETE FROM t", "ROLLBACK"], id="rolled-back"),
        pytest.param(["VACUUM"], id="vacuum"),
        pytest.param(["REINDEX", "ANALYZE"], id="reindex-and-statistics"),
        pytest.param(["PRAGMA journal_mode=WAL"], id="journal-mode"),
    ],
)
def test_what_leaves_the_records_alone_leaves_no_trace(
    changed: Callable[..., Changes], statements: list[str]
) -> None:
    found = changed([_T, "INSERT INTO t VALUES (1, 'a', 'x'), (2, 'a', 'y')"], *statements)
    assert found.empty


def test_a_changed_primary_key_is_a_removal_and_an_addition(
    changed: Callable[..., Changes],
) -> None:
    found = changed([_T, "INSERT INTO t VALUES (1, 'a', 'x')"], "UPDATE t SET id = 5")
    assert _kinds(found.table(TableId("t"))) == [("removed", (1,)), ("added", (5,))]


def test_a_primary_key_with_null_in_several_rows_gives_way_to_the_row_number(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        ["CREATE TABLE t(k TEXT PRIMARY KEY, v)", "INSERT INTO t VALUES (NULL, 1), (NULL, 2)"],
        "UPDATE t SET v = 3 WHERE v = 2",
    )
    table = found.table(TableId("t"))
    assert table is not None
    assert (table.key_columns, table.key_is_row_id) == (("rowid",), True)
    assert _kinds(table) == [("changed", (2,))]


def test_one_null_in_a_primary_key_still_tells_records_apart(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        ["CREATE TABLE t(k TEXT PRIMARY KEY, v)", "INSERT INTO t VALUES (NULL, 1), ('a', 2)"],
        "UPDATE t SET v = 3 WHERE k IS NULL",
    )
    assert _kinds(found.table(TableId("t"))) == [("changed", (None,))]


def test_keys_equal_under_their_collation_are_different_keys(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        [
            "CREATE TABLE t(k TEXT COLLATE NOCASE PRIMARY KEY, v) WITHOUT ROWID",
            "INSERT INTO t VALUES ('Greeting', 1), ('b', 1)",
        ],
        "UPDATE t SET k = 'greeting' WHERE k = 'Greeting'",
    )
    assert _kinds(found.table(TableId("t"))) == [
        ("removed", ("Greeting",)),
        ("added", ("greeting",)),
    ]


def test_a_table_without_a_key_or_row_number_is_compared_as_a_multiset(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        ["CREATE TABLE t(rowid, oid, _rowid_)", "INSERT INTO t VALUES (1,1,1), (1,1,1), (2,2,2)"],
        "INSERT INTO t VALUES (1, 1, 1)",
        "UPDATE t SET oid = 3 WHERE rowid = 2",
    )
    assert sorted(_kinds(found.table(TableId("t")))) == [
        ("added", (1, 1, 1)),
        ("added", (2, 3, 2)),
        ("removed", (2, 2, 2)),
    ]


def test_a_unique_column_is_no_key_so_replace_is_a_removal_and_an_addition(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        ["CREATE TABLE t(k TEXT UNIQUE, v)", "INSERT INTO t VALUES ('a', 1), ('b', 1)"],
        "REPLACE INTO t VALUES ('a', 2)",
    )
    assert _kinds(found.table(TableId("t"))) == [("removed", (1,)), ("added", (3,))]


def test_an_added_column_is_a_schema_change_and_its_filled_in_default_no_change(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        [_T, "INSERT INTO t VALUES (1, 'a', 'x'), (2, 'b', 'y')"],
        "ALTER TABLE t ADD COLUMN paid_at TEXT DEFAULT 'no'",
        "UPDATE t SET paid_at = 'yes' WHERE id = 2",
    )
    assert [(c.kind, c.object) for c in found.schema_changes] == [("column added", "t.paid_at")]
    table = found.table(TableId("t"))
    assert table is not None
    (record,) = table.records
    assert record.cells == (CellChange("paid_at", NO_VALUE, "yes"),)


def test_a_removed_column_by_itself_changes_no_record(changed: Callable[..., Changes]) -> None:
    found = changed([_T, "INSERT INTO t VALUES (1, 'a', 'x')"], "ALTER TABLE t DROP COLUMN w")
    assert found.tables == ()
    assert [(c.kind, c.object) for c in found.schema_changes] == [("column removed", "t.w")]


def test_rows_of_a_table_on_one_side_only_are_listed(changed: Callable[..., Changes]) -> None:
    found = changed(
        [_T, "INSERT INTO t VALUES (1, 'a', 'x')"],
        "DROP TABLE t",
        "CREATE TABLE u(id INTEGER PRIMARY KEY)",
        "INSERT INTO u VALUES (4)",
    )
    assert _kinds(found.table(TableId("t"))) == [("removed", (1,))]
    assert _kinds(found.table(TableId("u"))) == [("added", (4,))]
    assert [(c.kind, c.object) for c in found.schema_changes] == [
        ("table removed", "t"),
        ("table added", "u"),
    ]


def test_a_table_made_anew_under_its_old_name_is_compared_by_its_records(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        [_T, "INSERT INTO t VALUES (1, 'a', 'x'), (2, 'b', 'x')"],
        "DROP TABLE t",
        _T,
        "INSERT INTO t VALUES (1, 'a', 'x'), (2, 'B', 'x')",
    )
    assert found.schema_changes == ()
    assert _kinds(found.table(TableId("t"))) == [("changed", (2,))]


def test_other_schema_changes_are_told_in_words(changed: Callable[..., Changes]) -> None:
    found = changed(
        [_T, "CREATE INDEX by_v ON t(v)", "CREATE VIEW s AS SELECT v FROM t"],
        "DROP INDEX by_v",
        "CREATE INDEX by_w ON t(w)",
        "DROP VIEW s",
        "CREATE VIEW s AS SELECT v || 'x' AS v FROM t",
        "CREATE TRIGGER g AFTER INSERT ON t BEGIN DELETE FROM t; END",
    )
    assert sorted((c.kind, c.object) for c in found.schema_changes) == [
        ("index added", "by_w"),
        ("index removed", "by_v"),
        ("trigger added", "g"),
        ("view altered", "s"),
    ]


def test_engine_internal_tables_are_left_out_unless_asked_for(
    changed: Callable[..., Changes],
) -> None:
    before = ["CREATE TABLE t(id INTEGER PRIMARY KEY AUTOINCREMENT, v)"]
    assert (
        _kinds(changed(before, "INSERT INTO t(v) VALUES (1)").table(TableId("sqlite_sequence")))
        == []
    )


def test_internal_tables_are_compared_when_asked_for(changed: Callable[..., Changes]) -> None:
    found = changed(
        ["CREATE TABLE t(id INTEGER PRIMARY KEY AUTOINCREMENT, v)"],
        "INSERT INTO t(v) VALUES (1)",
        scope=Scope(internal=True),
    )
    assert found.table(TableId("sqlite_sequence")) is not None


def test_a_virtual_table_is_compared_by_its_rows_and_without_its_shadows(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        ["CREATE VIRTUAL TABLE notes USING fts5(body)", "INSERT INTO notes VALUES ('low tide')"],
        "UPDATE notes SET body = 'high tide'",
    )
    assert [str(table.table) for table in found.tables] == ["notes"]
    assert _kinds(found.table(TableId("notes"))) == [("changed", (1,))]


def test_generated_columns_are_compared_as_they_are_read(changed: Callable[..., Changes]) -> None:
    found = changed(
        [
            "CREATE TABLE t(id INTEGER PRIMARY KEY, v, d AS (v * 2) VIRTUAL, s AS (v + 1) STORED)",
            "INSERT INTO t(id, v) VALUES (1, 3)",
        ],
        "UPDATE t SET v = 4",
    )
    table = found.table(TableId("t"))
    assert table is not None
    assert table.records[0].cells == (
        CellChange("v", 3, 4),
        CellChange("d", 6, 8),
        CellChange("s", 4, 5),
    )


def test_what_cannot_be_read_is_named_and_the_rest_compared(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(_T, "CREATE TABLE u(id INTEGER PRIMARY KEY)", "INSERT INTO t VALUES (1, 1, 1)")
    earlier = Path(shutil.copy(path, tmp_path / "earlier.db"))
    _write(
        path,
        "UPDATE t SET v = 2",
        "PRAGMA writable_schema=ON",
        "UPDATE sqlite_schema SET sql = 'CREATE VIRTUAL TABLE u USING tides()', rootpage = 0 "
        "WHERE name = 'u'",
    )
    found = _changes(earlier, path)
    assert _kinds(found.table(TableId("t"))) == [("changed", (1,))]
    assert [str(entry.table) for entry in found.unread] == ["u"]
    assert "tides" in found.unread[0].reason


def test_kept_records_and_values_are_bounded_while_all_are_counted(
    changed: Callable[..., Changes],
) -> None:
    found = changed(
        [_T],
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 500) "
        "INSERT INTO t SELECT i, zeroblob(5000), i FROM n",
        scope=Scope(keep_records=3, keep_value_bytes=100),
    )
    table = found.table(TableId("t"))
    assert table is not None
    assert (len(table.records), table.counts.added) == (3, 500)
    assert table.records[0].after == (1, Clipped("blob", 5000, bytes(100)), "1")


def test_only_the_wanted_tables_are_compared(changed: Callable[..., Changes]) -> None:
    found = changed(
        [_T, "CREATE TABLE u(id INTEGER PRIMARY KEY)"],
        "INSERT INTO t VALUES (1, 1, 1)",
        "INSERT INTO u VALUES (1)",
        scope=Scope(tables=frozenset({TableId("u")})),
    )
    assert [str(table.table) for table in found.tables] == ["u"]


# Random work

_TABLES = {
    "by_id": "CREATE TABLE by_id(k INTEGER PRIMARY KEY, v, w TEXT, x REAL)",
    "by_text": "CREATE TABLE by_text(k TEXT PRIMARY KEY, v, w TEXT, x REAL)",
    "by_two": "CREATE TABLE by_two(k TEXT COLLATE NOCASE, v, w TEXT, x REAL, "
    "PRIMARY KEY(v, k)) WITHOUT ROWID",
    "no_key": "CREATE TABLE no_key(k, v, w TEXT, x REAL)",
    "blob_key": "CREATE TABLE blob_key(k BLOB PRIMARY KEY, v UNIQUE, w TEXT, x REAL)",
}
_values = st.one_of(
    st.none(),
    st.integers(-3, 3),
    st.sampled_from([2**63 - 1, -(2**63), 2**53 + 1]),
    st.sampled_from([0.0, 1.0, -2.5, 1e300, float("inf")]),
    st.sampled_from(["", "a", "A", "ä", "a ", "a\x00b", "1", "\U0001f6a2", "\uffee"]),
    st.sampled_from([b"", b"a", b"\xff\x00", b"1"]),
    st.just(InvalidText(b"a\xff")),
)
_texts = st.sampled_from(["insert", "update", "delete", "replace", "rekey", "delete all"])
_operations = st.lists(
    st.tuples(_texts, st.sampled_from(list(_TABLES)), _values, _values, _values), max_size=25
)
_alterations = st.lists(
    st.sampled_from(
        [
            "VACUUM",
            "ALTER TABLE by_id RENAME COLUMN w TO renamed",
            "DROP TABLE no_key",
            "CREATE TABLE fresh AS SELECT 1 AS a, 'x' AS b UNION ALL SELECT 2, NULL",
            "CREATE INDEX more ON by_text(w)",
        ]
    ),
    max_size=2,
    unique=True,
)


def _operate(connection: sqlite3.Connection, operation: tuple[Any, ...]) -> None:
    kind, table, *values = operation
    # Invalid text can only be made by SQLite itself, from its bytes.
    marks, parameters = [], []
    for value in values:
        invalid = isinstance(value, InvalidText)
        marks.append("CAST(? AS TEXT)" if invalid else "?")
        parameters.append(value.raw if invalid else value)
    one, two, three = marks
    statement = {
        "insert": f"INSERT OR IGNORE INTO {table}(k, v, w, x) VALUES ({one}, {two}, {three}, 1)",
        "replace": f"REPLACE INTO {table}(k, v, w, x) VALUES ({one}, {two}, {three}, 2)",
        "update": f"UPDATE OR IGNORE {table} SET v = {one}, w = {two} WHERE k IS {three}",
        "rekey": f"UPDATE OR IGNORE {table} SET k = {one}, x = {two} WHERE v IS {three}",
        "delete": f"DELETE FROM {table} WHERE k IS {one} AND v IS NOT {two} OR w IS {three}",
        "delete all": f"DELETE FROM {table} WHERE {one} IS {two} OR w > {three}",
    }[kind]
    with suppress(sqlite3.Error):  # a mismatched type or a broken constraint writes nothing
        connection.execute(statement, parameters)


@given(
    st.sampled_from(["UTF-8", "UTF-16le"]),
    st.sampled_from([512, 4096]),
    _operations,
    _operations,
    _alterations,
)
def test_random_work_is_found_as_the_oracle_expects_it(
    encoding: str,
    page_size: int,
    first: list[tuple[Any, ...]],
    second: list[tuple[Any, ...]],
    alterations: list[str],
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        before, after = Path(folder, "before.db"), Path(folder, "after.db")
        with closing(sqlite3.connect(before, isolation_level=None)) as connection:
            connection.execute(f"PRAGMA encoding='{encoding}'")
            connection.execute(f"PRAGMA page_size={page_size}")
            for statement in _TABLES.values():
                connection.execute(statement)
            for operation in first:
                _operate(connection, operation)
        shutil.copy(before, after)
        with closing(sqlite3.connect(after, isolation_level=None)) as connection:
            for operation in second:
                _operate(connection, operation)
            for statement in alterations:
                connection.execute(statement)
        renamed = any("RENAME" in statement for statement in alterations)
        found, wanted = as_found_shared(_changes(before, after)), expected(before, after)
        assert found == wanted, f"renamed: {renamed}"


def as_found_shared(changes: Changes) -> Any:
    """What was found, without the cells of columns that only the newer side has."""
    tables = []
    for table in changes.tables:
        records = []
        for record in table.records:
            shared = tuple(cell for cell in record.cells if cell.before is not NO_VALUE)
            if record.kind != "changed" or shared:
                records.append(
                    type(record)(
                        record.kind, record.key, record.before, record.after, shared, record.row_id
                    )
                )
        tables.append(
            TableChanges(
                table.schema,
                table.table,
                table.key_columns,
                table.key_is_row_id,
                table.columns_before,
                table.columns_after,
                tuple(records),
                table.counts,
            )
        )
    return as_found(Changes(tuple(tables), changes.schema_changes, changes.unread))
