"""What a rehearsal would change is the same tomorrow, whatever values there are."""

from __future__ import annotations

import tempfile
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    NO_VALUE,
    CellChange,
    ChangeCounts,
    Changes,
    RecordChange,
    SchemaChange,
    TableChanges,
    Unread,
)
from jondel.core.model.values import Clipped
from jondel.core.query.kept_changes import keep_changes, kept_changes
from value_strategies import STORED_VALUES

SHOWN = st.one_of(STORED_VALUES, st.builds(Clipped, st.just("text"), st.just(9), st.binary()))
CELLS = st.builds(
    CellChange, st.text(max_size=3), st.one_of(SHOWN, st.just(NO_VALUE)), SHOWN, st.none()
)  # fmt: skip
RECORDS = st.builds(
    RecordChange,
    st.sampled_from(["added", "changed", "removed"]),
    st.tuples(STORED_VALUES),
    st.one_of(st.none(), st.tuples(SHOWN, SHOWN)),
    st.one_of(st.none(), st.tuples(SHOWN, SHOWN)),
    st.lists(CELLS, max_size=2).map(tuple),
    st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1)),
)
TABLES = st.builds(
    TableChanges,
    st.text(max_size=2),
    st.sampled_from([TableId("boats"), TableId("office", "boats")]),
    st.just(("id",)),
    st.booleans(),
    st.just(("id", "name")),
    st.just(("id", "name")),
    st.lists(RECORDS, max_size=3).map(tuple),
    st.builds(ChangeCounts, st.integers(0, 9), st.integers(0, 9), st.integers(0, 9)),
    hidden=st.integers(0, 3),
    named_by=st.just(("name",)),
)
CHANGES = st.builds(
    Changes,
    st.lists(TABLES, max_size=2).map(tuple),
    st.lists(
        st.builds(SchemaChange, st.text(), st.text(), st.none(), st.text(),
                  st.one_of(st.none(), st.just(TableId("boats")))),
        max_size=2,
    ).map(tuple),
    st.lists(st.builds(Unread, st.just(TableId("x")), st.text()), max_size=1).map(tuple),
    st.sampled_from(["pages", "rows"]),
)  # fmt: skip


def _without_insides(changes: Changes) -> Changes:
    tables = []
    for table in changes.tables:
        records = tuple(
            record._replace(cells=tuple(cell._replace(inside=None) for cell in record.cells))
            for record in table.records
        )
        tables.append(table._replace(records=records))
    return changes._replace(tables=tuple(tables))


@given(changes=CHANGES)
def test_changes_are_kept_as_they_are(changes: Changes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "1.json")
        keep_changes(path, changes)
        found = kept_changes(path)
    assert found is not None
    assert repr(_without_insides(found)) == repr(changes)


@given(text=st.one_of(st.text(), st.sampled_from(["{}", "[]", '{"format": 1}', '{"format": 2}'])))
def test_a_file_that_is_something_else_keeps_nothing(text: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "1.json")
        path.write_text(text, "utf-8", "surrogatepass")
        assert kept_changes(path) is None
        assert kept_changes(Path(folder, "2.json")) is None
