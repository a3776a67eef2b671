"""Records of tables without a key are called by what no two of them share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.browse.record_title import naming_values
from jondel.core.engines.protocol import Database
from jondel.core.formats.changes_text import change_lines
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]


@pytest.mark.parametrize(
    ("declared", "unique"),
    [
        pytest.param("code TEXT UNIQUE, n", ("code",), id="column"),
        pytest.param("a, b, c, UNIQUE (c, a)", ("c", "a"), id="several"),
        pytest.param("a UNIQUE, b UNIQUE", ("a",), id="the-first"),
        pytest.param("id INTEGER PRIMARY KEY, code UNIQUE", (), id="with-a-key"),
        pytest.param("a, b", (), id="none"),
    ],
)
def test_unique_columns_are_known_where_there_is_no_key(
    make: MakeDatabase, opened: Opened, declared: str, unique: tuple[str, ...]
) -> None:
    table = opened(make(f"CREATE TABLE t({declared})")).schema().named("t")
    assert table is not None
    assert table.unique_key == unique


def test_indexes_of_some_rows_or_of_expressions_name_nothing(
    make: MakeDatabase, opened: Opened
) -> None:
    table = (
        opened(
            make(
                "CREATE TABLE t(a, b, c)",
                "CREATE UNIQUE INDEX partly ON t(a) WHERE a > 1",
                "CREATE UNIQUE INDEX reckoned ON t(lower(b))",
                "CREATE UNIQUE INDEX whole ON t(c)",
            )
        )
        .schema()
        .named("t")
    )
    assert table is not None
    assert table.unique_key == ("c",)


def test_changes_are_told_by_the_name_and_keyed_by_the_row(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(
        "CREATE TABLE rates(code TEXT UNIQUE, price)",
        "INSERT INTO rates VALUES ('night', 12), ('week', 70), (NULL, 1)",
    )
    database = opened(path)
    trail = trail_of(database)
    trail.take(database)
    app(path).run("UPDATE rates SET price = price + 1")
    app(path).run("INSERT INTO rates VALUES ('month', 250)")
    trail.take(database)
    before, after = (step.after for step in trail.steps())
    changes = trail.changes(before, after)
    told = [words.split() for words in change_lines(changes)]
    assert told[1:] == [
        ["~", "night", "price", "12", "→", "13"],
        ["~", "week", "price", "70", "→", "71"],
        ["~", "3", "price", "1", "→", "2"],
        ["+", "month", "code", "month", "·", "price", "250"],
    ]
    assert [record.key for record in changes.tables[0].records] == [(1,), (2,), (3,), (4,)]


def test_a_record_without_a_name_is_called_by_its_place() -> None:
    table = Table(TableId("t"), "table", (), row_id="rowid")
    assert naming_values(table, (7,), ()) == (7,)
