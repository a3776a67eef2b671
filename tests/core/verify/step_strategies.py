"""Random steps: changes of a few tables that point at each other."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import strategies as st

from jondel.core.browse.links import Link
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    CellChange,
    ChangeCounts,
    Changes,
    RecordChange,
    TableChanges,
)
from jondel.core.model.column_types import ColumnType
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import identical
from jondel.core.verify.acceptance import Knowledge, Seen
from jondel.core.verify.matchers import Setting
from value_strategies import STORED_VALUES

NOW = datetime(2026, 6, 14, 10, 30, tzinfo=UTC)
SETTING = Setting(NOW, NOW + timedelta(seconds=1))
TABLES = tuple(map(TableId, ("boats", "bookings", "log")))
COLUMNS = ("id", "other", "seen_at", "note")
LINKS = (
    Link(TABLES[1], ("other",), TABLES[0], ("id",)),
    Link(TABLES[2], ("other",), TABLES[1], ("id",)),
)
_TYPES = (
    Column("id", ColumnType("INTEGER", "integer"), key_position=1),
    Column("other"),
    Column("seen_at", ColumnType("TEXT", "text")),
    Column("note"),
)
SCHEMA = Schema(tuple(Table(table, "table", _TYPES) for table in TABLES))
KNOWLEDGE = Knowledge(SCHEMA, LINKS, "say something")

_TIMES = st.sampled_from(
    ("2026-06-14 10:30:00", "2026-06-14T10:30:01Z", "2026-06-20", "14/06/2026 10:30", "1999-01-01")
)
_TOKENS = st.sampled_from(("9f86d081884c7d659a2feaa0c55ad015", '{"at": "2026-06-14T10:30:00Z"}'))
VALUES = st.one_of(st.integers(0, 3), STORED_VALUES, _TIMES, _TOKENS)


@st.composite
def steps(draw: st.DrawFn, most: int = 4) -> Seen:
    """What a step changed."""
    tables = []
    for table in draw(st.lists(st.sampled_from(TABLES), unique=True, max_size=3)):
        numbers = draw(st.lists(st.integers(1, 9), unique=True, min_size=1, max_size=most))
        records = [draw(_record(number)) for number in numbers]
        tables.append(table_of(table, records))
    return Seen(Changes(tuple(tables)), SETTING)


@st.composite
def _record(draw: st.DrawFn, number: int) -> RecordChange:
    kind = draw(st.sampled_from(("added", "changed", "removed")))
    row = (number, *(draw(VALUES) for _ in COLUMNS[1:]))
    if kind == "added":
        return RecordChange("added", (number,), None, row)
    if kind == "removed":
        return RecordChange("removed", (number,), row, None)
    after = list(row)
    places = draw(st.sets(st.integers(1, 3), min_size=1))
    for place in places:
        after[place] = draw(VALUES.filter(lambda v, was=row[place]: not identical(v, was)))
    return changed(number, row, tuple(after))


def changed(number: int, before: tuple[Any, ...], after: tuple[Any, ...]) -> RecordChange:
    """A changed record with its cells."""
    cells = tuple(
        CellChange(name, was, now)
        for name, was, now in zip(COLUMNS, before, after, strict=True)
        if not identical(was, now)
    )
    return RecordChange("changed", (number,), before, after, cells)


def table_of(table: TableId, records: list[RecordChange]) -> TableChanges:
    """A table's changes, counted."""
    counts = ChangeCounts()
    for record in records:
        counts = counts.counted(record.kind)
    return TableChanges("", table, ("id",), False, COLUMNS, COLUMNS, tuple(records), counts)


def with_records(seen: Seen, place: int, records: list[RecordChange]) -> Seen:
    """The same step with other records in one of its tables."""
    tables = list(seen.changes.tables)
    tables[place] = table_of(tables[place].table, records)
    kept = tuple(table for table in tables if table.records)
    return replace(seen, changes=seen.changes._replace(tables=kept))
