"""What is typed becomes a value that suits its column, or is refused with the reason."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from jondel.core.draft.value_entry import as_entered, entered, require_storable, untouched
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import InvalidText, StoredValue


def _column(declared: str, *, not_null: bool = False, strict: bool = False) -> Column:
    return Column("c", column_type(declared, strict=strict), not_null)


def _table(column: Column, *, strict: bool = False) -> Table:
    return Table(TableId("t"), "table", (column,), row_id="rowid", strict=strict)


@pytest.mark.parametrize(
    ("declared", "text", "value"),
    [
        ("INTEGER", "12", 12),
        ("INTEGER", "12.0", 12),
        ("REAL", "12", 12.0),
        ("VARCHAR(9)", "012", "012"),
        ("TEXT", "", ""),
        ("DECIMAL(10,2)", "0.1", 0.1),
        ("DATETIME", "2026-01-01", "2026-01-01"),
        ("", "7", 7),
        ("", "seven", "seven"),
        ("BOOLEAN", "1", 1),
    ],
)
def test_typed_text_becomes_what_the_column_wants(
    declared: str, text: str, value: StoredValue
) -> None:
    column = _column(declared)
    found = entered(text, _table(column), column)
    assert (found, type(found)) == (value, type(value))


@pytest.mark.parametrize(
    ("declared", "text"),
    [("INTEGER", "x"), ("INTEGER", "1.5"), ("REAL", "x"), ("BOOLEAN", "yes"), ("DECIMAL", "1,5")],
)
def test_what_does_not_suit_is_refused_by_name(declared: str, text: str) -> None:
    column = _column(declared)
    with pytest.raises(ValueUnsuitable, match=rf"t\.c is {declared}"):
        entered(text, _table(column), column)


@pytest.mark.parametrize(
    "value", [None, 5, 1.0, "5", "a\nb", "", b"\x00\xff", InvalidText(b"\xff"), 10**18]
)
def test_what_was_not_touched_is_known(value: StoredValue) -> None:
    assert untouched(as_entered(value), value)
    assert not untouched(as_entered(value) + "x", value)


@pytest.mark.parametrize("declared", ["INT", "INTEGER", "REAL", "TEXT", "BLOB", "ANY"])
@pytest.mark.parametrize("value", [None, 1, -(2**63), 1.0, 1.5, "", "x", "12", "1.5", b"", b"1"])
@pytest.mark.parametrize("not_null", [True, False])
def test_a_strict_table_refuses_early_just_what_the_engine_refuses(
    declared: str, value: StoredValue, not_null: bool
) -> None:
    column = _column(declared, not_null=not_null, strict=True)
    with closing(sqlite3.connect(":memory:")) as connection:
        rule = " NOT NULL" if not_null else ""
        connection.execute(f"CREATE TABLE t(c {declared}{rule}) STRICT")
        try:
            connection.execute("INSERT INTO t VALUES (?)", (value,))
        except sqlite3.IntegrityError:
            with pytest.raises(ValueUnsuitable, match=r"t\.c is"):
                require_storable(value, _table(column, strict=True), column)
        else:
            require_storable(value, _table(column, strict=True), column)
