"""What a draft holds, how it is kept, and what typed values become."""

from __future__ import annotations

import json
import os
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jondel.core.browse.times import TIME_KINDS, guess_time_kind, moment
from jondel.core.draft.draft import Draft, DraftEntries, NewRecord, key_of
from jondel.core.draft.draft_file import DraftFile
from jondel.core.draft.value_entry import as_entered, current_time, entered
from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.errors import ValueUnsuitable
from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import StoredValue
from value_strategies import STORED_VALUES

_ORIGINAL = (("id", 1), ("name", "Gull"), ("berth", None))


def test_a_cell_set_back_to_what_it_was_is_no_edit() -> None:
    draft = Draft()
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", "Tern")
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "berth", 3)
    assert len(draft) == 1
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", "Gull")
    edit = draft.edit_of(TableId("boats"), (1,))
    assert edit is not None
    assert edit.values == {"berth": 3}
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "berth", None)
    assert len(draft) == 0


def test_empty_text_is_an_edit_of_null_and_1_of_1_0() -> None:
    draft = Draft()
    draft.set_cell(TableId("boats"), (1,), (("v", None), ("n", 1)), "v", "")
    draft.set_cell(TableId("boats"), (1,), (("v", None), ("n", 1)), "n", 1.0)
    edit = draft.edit_of(TableId("boats"), (1,))
    assert edit is not None
    assert edit.values == {"v": "", "n": 1.0}


def test_a_record_kept_after_all_keeps_its_other_edits() -> None:
    draft = Draft()
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", "Tern")
    draft.delete(TableId("boats"), (1,), _ORIGINAL)
    draft.delete(TableId("boats"), (2,), _ORIGINAL)
    draft.keep(TableId("boats"), (1,))
    draft.keep(TableId("boats"), (2,))
    edit = draft.edit_of(TableId("boats"), (1,))
    assert edit is not None
    assert (edit.deleted, len(draft)) == (False, 1)


def test_new_records_have_numbers_of_their_own_and_are_counted_by_table() -> None:
    draft = Draft()
    first = draft.insert(TableId("boats"), {"name": "Skua"})
    second = draft.insert(TableId("berths"), {})
    draft.change_new(first, {"name": "Knot"})
    draft.drop(second)
    third = draft.insert(TableId("boats"), {})
    assert third not in (first, second)
    assert draft.tables == {TableId("boats"): 2}
    assert draft.get(first) == NewRecord(TableId("boats"), first, {"name": "Knot"})


_EDITS = st.lists(
    st.tuples(
        st.sampled_from(["set", "set", "delete", "keep", "insert", "change", "drop", "all", "two"]),
        st.integers(0, 2),
        st.sampled_from([1, 1.0, "1", None]),
    ),
    max_size=12,
)


def _make(draft: Draft, what: str, number: int, value: StoredValue) -> None:
    row, new = (number,), [e.number for e in draft if isinstance(e, NewRecord)]
    match what:
        case "set":
            draft.set_cell(TableId("boats"), row, (("id", number), ("v", 1)), "v", value)
        case "delete":
            draft.delete(TableId("boats"), row, (("id", number), ("v", 1)))
        case "keep":
            draft.keep(TableId("boats"), row)
        case "insert":
            draft.insert(TableId("boats"), {"v": value})
        case "change" if new:
            draft.change_new(new[number % len(new)], {"v": value})
        case "drop" if len(draft):
            draft.drop(key_of(list(draft)[number % len(draft)]))
        case "all":
            draft.drop_all()
        case "two":
            with draft.one_edit():
                _make(draft, "set", 0, value)
                _make(draft, "delete", 1, value)


def _told(draft: Draft) -> list[str]:
    return sorted(map(repr, draft))


@given(_EDITS)
def test_edits_are_undone_one_by_one_and_done_again(
    edits: list[tuple[str, int, StoredValue]],
) -> None:
    draft = Draft()
    states = [_told(draft)]
    for edit in edits:
        _make(draft, *edit)
        if _told(draft) != states[-1]:
            states.append(_told(draft))
    for state in reversed(states[:-1]):
        assert draft.can_undo
        assert draft.undo()
        assert _told(draft) == state
    assert not draft.can_undo
    for state in states[1:]:
        assert draft.can_redo
        assert draft.redo()
        assert _told(draft) == state
    assert not draft.can_redo


def test_another_edit_or_a_write_leaves_nothing_to_do_again() -> None:
    draft = Draft()
    draft.insert(TableId("boats"), {})
    draft.undo()
    draft.insert(TableId("berths"), {})
    assert not draft.can_redo
    draft.take_out(draft.frozen(), {})
    assert (draft.can_undo, len(draft)) == (False, 0)


@given(st.lists(st.tuples(st.sampled_from("ab"), STORED_VALUES, STORED_VALUES), max_size=6))
def test_a_draft_is_read_as_it_was_kept(
    tmp_path_factory: pytest.TempPathFactory, cells: list[tuple[str, StoredValue, StoredValue]]
) -> None:
    location = str(tmp_path_factory.mktemp("kept") / "app.db")
    draft = Draft()
    for table, key, value in cells:
        draft.set_cell(TableId(table), (key,), (("k", key), ("v", 17.25)), "v", value)
        draft.insert(TableId(table), {"v": value})
    if cells:
        draft.delete(TableId(cells[0][0]), (cells[0][1],), ())
    assert list(_kept_after(location, draft)) == list(draft)
    assert not _kept_after(location, Draft())


def test_a_damaged_file_loses_only_what_is_damaged(home: Path) -> None:
    draft = Draft()
    draft.insert(TableId("boats"), {"name": "Skua"})
    draft.insert(TableId("boats"), {"name": "Knot"})
    _kept_after("/a/b.db", draft)
    (file,) = (home / "drafts").iterdir()
    plain = json.loads(file.read_text())
    del plain["content"]["entries"][0]["table"]
    file.write_text(json.dumps(plain))
    assert [entry.values for entry in _kept("/a/b.db")] == [{"name": "Knot"}]
    file.write_text("{")
    assert len(_kept("/a/b.db")) == 0
    assert len(_kept("/a/other.db")) == 0


def _kept(location: str) -> DraftEntries:
    file = DraftFile(location)
    with closing(file):
        return file.open().entries


def _kept_after(location: str, draft: DraftEntries) -> DraftEntries:
    """What is read after an interface has kept a draft and ended."""
    file = DraftFile(location)
    with closing(file):
        file.open()
        file.write(draft)
    return _kept(location)


def test_a_draft_kept_under_a_name_alone_is_found(home: Path) -> None:
    entry = {"table": "odd.name", "new": 1, "values": {"id": 7}}
    SmallFile("drafts", "/a/b.db").write({"entries": [entry]})
    with closing(DraftFile("/a/b.db")) as file:
        assert list(file.open().entries) == [NewRecord(TableId("odd.name"), 1, {"id": 7})]


def _with(*names: str) -> Draft:
    draft = Draft()
    for name in names:
        draft.insert(TableId("boats"), {"name": name})
    return draft


def _names(entries: DraftEntries) -> list[StoredValue]:
    return [entry.values["name"] for entry in entries]


def test_interfaces_that_are_open_at_once_have_a_draft_each(home: Path) -> None:
    one, other = DraftFile("/a/b.db"), DraftFile("/a/b.db")
    one.open()
    one.write(_with("Skua"))
    assert not other.open().entries
    other.write(_with("Knot"))
    one.write(_with("Skua", "Tern"))
    other.close()
    one.close()
    with closing(DraftFile("/a/b.db")) as third:
        assert sorted(map(str, _names(third.open().entries))) == ["Knot", "Skua", "Tern"]
        assert len(list((home / "drafts").glob("*.json"))) == 1
    assert _names(_kept("/a/b.db")) == _names(_kept("/a/b.db"))


def test_what_two_killed_interfaces_drafted_for_one_record_is_not_mixed(home: Path) -> None:
    drafts = []
    for name in ("Auk", "Knot"):
        draft = Draft()
        draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", name)
        drafts.append(draft)
    one, other = DraftFile("/a/b.db"), DraftFile("/a/b.db")
    for file, draft in zip((one, other), drafts, strict=True):
        file.open()
        file.write(draft)
    one.close()
    other.close()
    with closing(DraftFile("/a/b.db")) as third:
        assert _names(third.open().entries) == ["Auk"]
        third.write(Draft())  # it was written, or discarded
    assert _names(_kept("/a/b.db")) == ["Knot"]


def test_a_draft_stopped_while_it_was_written_says_so_afterwards(home: Path) -> None:
    with closing(DraftFile("/a/b.db")) as file:
        file.open()
        file.write(_with("Skua"), being_written=True)
    with closing(DraftFile("/a/b.db")) as file:
        kept = file.open()
        assert (_names(kept.entries), kept.was_being_written) == (["Skua"], True)


def test_unfinished_files_of_killed_processes_do_not_pile_up(home: Path) -> None:
    _kept_after("/a/b.db", _with("Skua"))
    (file,) = (home / "drafts").iterdir()
    left = [file.with_name(f".{file.name}.{number}-1.unfinished") for number in (11, 12)]
    for path in left:
        path.write_text("half")
    os.utime(left[0], (1, 1))
    _kept_after("/a/b.db", _with("Skua", "Knot"))
    assert not left[0].exists()
    assert left[1].exists()  # somebody may be writing it in this moment


def test_entries_handed_to_a_thread_do_not_change_with_the_draft() -> None:
    draft = _with("Skua")
    entries = draft.frozen()
    walk = iter(entries)
    next(walk)
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", "Auk")
    draft.drop(1)
    assert list(walk) == []
    assert _names(entries) == ["Skua"]


def test_what_was_edited_while_a_draft_was_written_stays() -> None:
    draft = _with("Skua", "Knot")
    for record in (1, 2, 3, 4):
        draft.set_cell(TableId("boats"), (record,), (("id", record), *_ORIGINAL[1:]), "name", "Auk")
    draft.set_cell(TableId("boats"), (1,), (), "id", 10)
    written = draft.frozen()
    draft.set_cell(TableId("boats"), (1,), (), "berth", 7)  # another cell of a record that moves
    draft.set_cell(TableId("boats"), (2,), (), "name", "Tern")  # the same cell
    draft.set_cell(TableId("boats"), (3,), (), "berth", 7)
    draft.set_cell(TableId("boats"), (3,), (), "name", "Gull")  # back to what was there before
    draft.delete(TableId("boats"), (4,), ())
    draft.set_cell(TableId("boats"), (5,), (("id", 5), *_ORIGINAL[1:]), "name", "Rail")
    draft.change_new(1, {"name": "Great Skua"})
    draft.take_out(written, {(TableId("boats"), (1,)): (10,), 1: (20,), 2: (21,)})
    edits = {edit.position: edit for edit in draft.of_table(TableId("boats"))[0]}
    assert {position: edit.values for position, edit in edits.items()} == {
        (10,): {"berth": 7},
        (2,): {"name": "Tern"},
        (3,): {"berth": 7, "name": "Gull"},
        (4,): {},
        (5,): {"name": "Rail"},
        (20,): {"name": "Great Skua"},
    }
    assert edits[4,].deleted
    assert dict(edits[10,].original) == {"id": 10, "name": "Auk", "berth": None}
    assert dict(edits[2,].original)["name"] == "Auk"
    assert draft.of_table(TableId("boats"))[1] == []


def test_nothing_is_left_of_a_draft_that_was_written_as_it_is() -> None:
    draft = _with("Skua")
    draft.set_cell(TableId("boats"), (1,), _ORIGINAL, "name", "Auk")
    draft.delete(TableId("boats"), (2,), _ORIGINAL)
    draft.take_out(draft.frozen(), {})
    assert not draft


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
    column = Column("c", column_type(declared))
    table = Table(TableId("t"), "table", (column,))
    if expected is None:
        with pytest.raises(ValueUnsuitable, match=r"t\.c is .* and takes"):
            entered(text, table, column)
    else:
        value = entered(text, table, column)
        assert (type(value), value) == (type(expected), expected)


@given(st.integers(-(2**63), 2**63 - 1) | st.floats(allow_nan=False, allow_infinity=False))
def test_a_number_typed_as_it_is_shown_stays_the_same(value: int | float) -> None:
    column = Column("c", column_type("INTEGER" if isinstance(value, int) else "REAL"))
    table = Table(TableId("t"), "table", (column,))
    assert entered(as_entered(value), table, column) == value


@pytest.mark.parametrize("kind", TIME_KINDS)
def test_the_current_time_is_counted_as_the_column_does(kind: str) -> None:
    now = datetime(2026, 5, 1, 14, 2, 11, tzinfo=UTC)
    column = Column("paid_at")
    value = current_time(column, kind, now)  # type: ignore[arg-type]
    found = moment(value, kind)  # type: ignore[arg-type]
    assert found is not None
    assert abs((found - now).total_seconds()) < 0.001
    if kind not in ("days since 1899-12-30",):
        assert guess_time_kind(column, [value] * 3) is not None
