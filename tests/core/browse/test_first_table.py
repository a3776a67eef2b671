"""A database opens where it was left, and the first time with a table that says something."""

from __future__ import annotations

from pathlib import Path

import pytest

from jondel.core.browse.first_table import LastTable, first_table
from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, ForeignKey, Table


def _table(name: str, *targets: str, kind: str = "table", unreadable: str | None = None) -> Table:
    keys = tuple(ForeignKey((target,), TableId(target), ()) for target in targets)
    columns = (Column("id"), *(Column(target) for target in targets))
    return Table(TableId(name), kind, columns, keys, unreadable=unreadable)  # type: ignore[arg-type]


_TABLES = (
    _table("berths", "pontoons"),
    _table("boats", "SKIPPERS"),
    _table("bookings", "boats", "berths"),
    _table("pontoons"),
    _table("skippers"),
)


@pytest.mark.parametrize(
    ("last", "changed", "opened"),
    [
        pytest.param("skippers", {"boats": 9}, "skippers", id="last-looked-at"),
        pytest.param("gone", {"pontoons": 2, "boats": 1}, "pontoons", id="most-changed"),
        pytest.param("", {}, "berths", id="most-linked-the-first-of-several"),
    ],
)
def test_what_says_most_is_opened(last: str, changed: dict[str, int], opened: str) -> None:
    counts = {TableId(name): rows for name, rows in changed.items()}
    assert first_table(_TABLES, TableId(last), counts).name == opened


def test_without_links_it_is_the_first_that_can_be_read_and_no_view() -> None:
    broken, view = _table("a", unreadable="no such module"), _table("b", kind="view")
    assert first_table([broken, view, _table("c"), _table("d")]).name == "c"
    assert first_table([broken, view]).name == "b"
    assert first_table([broken]).name == "a"


def test_the_last_table_is_kept(home: Path) -> None:
    assert LastTable("/x/app.db").read() is None
    LastTable("/x/app.db").write(TableId("boats"))
    assert LastTable("/x/app.db").read() == TableId("boats")
    assert LastTable("/x/other.db").read() is None


def test_a_table_kept_by_its_name_alone_is_found(home: Path) -> None:
    SmallFile("places", "/x/app.db").write({"table": "odd.name"})
    assert LastTable("/x/app.db").read() == TableId("odd.name")
