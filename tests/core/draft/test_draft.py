"""What a draft holds, how it is kept, and what typed values become."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.times import TIME_KINDS, guess_time_kind, moment
from jondel.core.draft.draft import Draft, NewRecord
from jondel.core.draft.entering import as_entered, current_time, entered
from jondel.core.draft.keeping_drafts import KeptDraft
from jondel.core.errors import ValueUnsuitable
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import InvalidText, StoredValue

_ORIGINAL = (("id", 1), ("name", "Gull"), ("berth", None))
_VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(allow_nan=False),
    st.text(),
    st.binary(),
    st.just(InvalidText(b"\xff\x00")),
)


def test_a_cell_set_back_to_what_it_was_is_no_edit() -> None:
    draft = Draft()
    draft.set_cell("boats", (1,), _ORIGINAL, "name", "Tern")
    draft.set_cell("boats", (1,), _ORIGINAL, "berth", 3)
    assert len(draft) == 1
    draft.set_cell("boats", (1,), _ORIGINAL, "name", "Gull")
    edit = draft.edit_of("boats", (1,))
    assert edit is not None
    assert edit.values == {"berth": 3}
    draft.set_cell("boats", (1,), _ORIGINAL, "berth", None)
    assert len(draft) == 0


def test_empty_text_is_an_edit_of_null_and_1_of_1_0() -> None:
    draft = Draft()
    draft.set_cell("boats", (1,), (("v", None), ("n", 1)), "v", "")
    draft.set_cell("boats", (1,), (("v", None), ("n", 1)), "n", 1.0)
    edit = draft.edit_of("boats", (1,))
    assert edit is not None
    assert edit.values == {"v": "", "n": 1.0}


def test_a_record_kept_after_all_keeps_its_other_edits() -> None:
    draft = Draft()
    draft.set_cell("boats", (1,), _ORIGINAL, "name", "Tern")
    draft.delete("boats", (1,), _ORIGINAL)
    draft.delete("boats", (2,), _ORIGINAL)
    draft.keep("boats", (1,))
    draft.keep("boats", (2,))
    edit = draft.edit_of("boats", (1,))
    assert edit is not None
    assert (edit.deleted, len(draft)) == (False, 1)


def test_new_records_have_numbers_of_their_own_and_are_counted_by_table() -> None:
    draft = Draft()
    first = draft.insert("boats", {"name": "Skua"})
    second = draft.insert("berths", {})
    draft.change_new(first, {"name": "Knot"})
    draft.drop(second)
    third = draft.insert("boats", {})
    assert third not in (first, second)
    assert draft.tables == {"boats": 2}
    assert draft.get(first) == NewRecord("boats", first, {"name": "Knot"})


@given(st.lists(st.tuples(st.sampled_from("ab"), _VALUES, _VALUES), max_size=6))
def test_a_draft_is_read_as_it_was_kept(
    tmp_path_factory: pytest.TempPathFactory, cells: list[tuple[str, StoredValue, StoredValue]]
) -> None:
    location = str(tmp_path_factory.mktemp("kept") / "app.db")
    draft = Draft()
    for table, key, value in cells:
        draft.set_cell(table, (key,), (("k", key), ("v", 17.25)), "v", value)
        draft.insert(table, {"v": value})
    if cells:
        draft.delete(cells[0][0], (cells[0][1],), ())
    kept = KeptDraft(location)
    kept.write(draft)
    assert list(kept.read()) == list(draft)
    assert kept.exists() == bool(cells)
    kept.write(Draft())
    assert not kept.exists()


def test_a_damaged_file_loses_only_what_is_damaged(home: Path) -> None:
    kept = KeptDraft("/a/b.db")
    draft = Draft()
    draft.insert("boats", {"name": "Skua"})
    draft.insert("boats", {"name": "Knot"})
    kept.write(draft)
    (file,) = (home / "drafts").iterdir()
    plain = json.loads(file.read_text())
    del plain["content"]["entries"][0]["table"]
    file.write_text(json.dumps(plain))
    assert [entry.values for entry in kept.read()] == [{"name": "Knot"}]
    file.write_text("{")
    assert len(kept.read()) == 0
    assert len(KeptDraft("/a/other.db").read()) == 0


@pytest.mark.parametrize(
    ("declared", "text", "expected"),
    [
        ("INTEGER", "12", 12),
        ("INTEGER", "12.0", 12),
        ("INTEGER", "twelve", None),
        ("INTEGER", "1.5", None),
        ("REAL", "12", 12.0),
        ("REAL", "1e3", 1000.0),
        ("REAL", "x", None),
        ("TEXT", "12", "12"),
        ("TEXT", "", ""),
        ("DECIMAL(6,2)", "4.50", 4.5),
        ("DECIMAL(6,2)", "4,50", None),
        ("DATETIME", "2026-05-01", "2026-05-01"),
        ("BOOLEAN", "yes", None),
        ("", "12", 12),
        ("", "x", "x"),
        ("BLOB", "x", "x"),
    ],
)
def test_a_typed_value_suits_its_column_or_is_refused_with_the_reason(
    declared: str, text: str, expected: StoredValue
) -> None:
    column = Column("c", declared)
    table = Table("main", "t", "table", (column,))
    if expected is None:
        with pytest.raises(ValueUnsuitable, match=r"t\.c is .* and takes"):
            entered(text, table, column)
    else:
        value = entered(text, table, column)
        assert (type(value), value) == (type(expected), expected)


@given(st.integers(-(2**63), 2**63 - 1) | st.floats(allow_nan=False, allow_infinity=False))
def test_a_number_typed_as_it_is_shown_stays_the_same(value: int | float) -> None:
    column = Column("c", "INTEGER" if isinstance(value, int) else "REAL")
    table = Table("main", "t", "table", (column,))
    assert entered(as_entered(value), table, column) == value


@pytest.mark.parametrize("kind", TIME_KINDS)
def test_the_current_time_is_counted_as_the_column_does(kind: str) -> None:
    now = datetime(2026, 5, 1, 14, 2, 11, tzinfo=UTC)
    column = Column("paid_at", "")
    value = current_time(column, kind, now)  # type: ignore[arg-type]
    found = moment(value, kind)  # type: ignore[arg-type]
    assert found is not None
    assert abs((found - now).total_seconds()) < 0.001
    if kind not in ("days since 1899-12-30",):
        assert guess_time_kind(column, [value] * 3) is not None
