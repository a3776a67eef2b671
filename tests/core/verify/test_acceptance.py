"""A step always meets what was accepted from it, and no other step does."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import tomlkit
from hypothesis import assume, event, given
from hypothesis import strategies as st
from step_strategies import (
    COLUMNS,
    KNOWLEDGE,
    NOW,
    SETTING,
    TABLES,
    VALUES,
    changed,
    steps,
    table_of,
    with_records,
)

from jondel.core.files.toml_entries import TomlFile
from jondel.core.model.changes import RecordChange
from jondel.core.model.values import Exact, kind_of
from jondel.core.trail.project import Project
from jondel.core.verify.acceptance import Seen, accept, varies
from jondel.core.verify.expectation import Expectation, ExpectedRecord
from jondel.core.verify.expectation_file import expectations_in
from jondel.core.verify.matchers import NearNow, Pattern, SameAs, Whatever
from jondel.core.verify.matching import hold_against
from jondel.core.verify.plan_file import PlanFile


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("project") / "jondel.toml"


def _read_back(expectation: Expectation, file: Path) -> Expectation:
    """What the project's file says after the expectation was written into it."""
    file.unlink(missing_ok=True)
    PlanFile(Project(str(file.parent / "app.db"), file=file)).keep_expectation(expectation)
    return expectations_in(TomlFile(file))[expectation.name]


def _met(expectation: Expectation, seen: Seen) -> bool:
    return hold_against(expectation, seen.changes, seen.setting).met


@given(steps())
def test_a_step_meets_what_was_accepted_from_it(file: Path, seen: Seen) -> None:
    expectation = accept("do it", seen, KNOWLEDGE).expectation
    assert hold_against(expectation, seen.changes, seen.setting).summary == "met"
    assert hold_against(_read_back(expectation, file), seen.changes, seen.setting).summary == "met"


@given(steps(most=30))
def test_so_does_a_step_of_many_records(file: Path, seen: Seen) -> None:
    expectation = _read_back(accept("do it", seen, KNOWLEDGE).expectation, file)
    assert hold_against(expectation, seen.changes, seen.setting).summary == "met"


def _another(value: Any, drawn: Any) -> Any:
    """A value that is none of the kind: nothing that varies is met by it."""
    return drawn if kind_of(drawn) != kind_of(value) else None if value is not None else 77


@given(steps(), st.data())
def test_no_single_change_of_a_step_meets_it(file: Path, seen: Seen, data: st.DataObject) -> None:
    expectation = accept("do it", seen, KNOWLEDGE).expectation
    way = data.draw(st.sampled_from(("cell", "left out", "twice", "kind", "another table")))
    mutated = _mutated(seen, way, data)
    event(way)
    assert not _met(expectation, mutated), way
    assert not _met(_read_back(expectation, file), mutated), way


def _mutated(seen: Seen, way: str, data: st.DataObject) -> Seen:
    if way == "another table":
        new = table_of(data.draw(st.sampled_from(TABLES)), [_added(77, "x")])
        tables = {table.table for table in seen.changes.tables}
        assume(new.table not in tables)
        return replace(seen, changes=seen.changes._replace(tables=(*seen.changes.tables, new)))
    assume(seen.changes.tables)
    at = data.draw(st.integers(0, len(seen.changes.tables) - 1))
    records = list(seen.changes.tables[at].records)
    place = data.draw(st.integers(0, len(records) - 1))
    record = records[place]
    match way:
        case "left out":
            del records[place]
        case "twice":
            records.append(record)
        case "kind":
            row = record.after or record.before
            removed = record.kind != "removed"
            records[place] = RecordChange(
                *(
                    ("removed", record.key, row, None)
                    if removed
                    else ("added", record.key, None, row)
                )
            )
        case "cell":
            records[place] = _with_other_cell(record, data)
    return with_records(seen, at, records)


def _with_other_cell(record: RecordChange, data: st.DataObject) -> RecordChange:
    place = data.draw(st.integers(1, len(COLUMNS) - 1))
    row = list(record.after or record.before or ())
    was, drawn = row[place], data.draw(VALUES)
    now = _another(was, drawn)
    # Read from a file, a text may also mean the engine's own kinds that are written so.
    assume(not isinstance(now, Exact) and not isinstance(was, Exact))
    row[place] = now
    if record.kind == "added":
        return record._replace(after=tuple(row))
    if record.kind == "removed":
        return record._replace(before=tuple(row))
    assert record.before is not None
    return changed(int(str(record.key[0])), tuple(record.before), tuple(row))


def _added(number: int, note: object, other: object = None, at: object = None) -> RecordChange:
    return RecordChange("added", (number,), None, (number, other, at, note))


def _one(expectation: Expectation, table: int = 0) -> ExpectedRecord:
    (record,) = expectation.tables[table].records
    return record


def test_what_varies_is_told_by_what_it_is() -> None:
    seen = Seen(
        _changes(
            (0, [_added(5, "9f86d081884c7d659a2feaa0c55ad015", at="2026-06-14 10:30:00")]),
            (1, [_added(8, "calm", other=5)]),
        ),
        SETTING,
    )
    expectation = accept("do it", seen, KNOWLEDGE).expectation
    cells = dict(_one(expectation).cells)
    assert cells["id"] == Whatever("integer")
    assert isinstance(cells["seen_at"], NearNow)
    assert isinstance(cells["note"], Pattern)
    assert dict(_one(expectation, 1).cells)["other"] == SameAs("boats", "id")
    later = NOW + timedelta(days=3)
    again = Seen(
        _changes(
            (0, [_added(9, "aa86d081884c7d659a2feaa0c55ad0ff", at="2026-06-17 10:30:00")]),
            (1, [_added(3, "calm", other=9)]),
        ),
        replace(SETTING, began=later, ended=later),
    )
    assert _met(expectation, again)
    wrong = _changes((0, list(again.changes.tables[0].records)), (1, [_added(3, "calm", other=8)]))
    verdict = hold_against(expectation, wrong, again.setting)
    ((cell,),) = [differing.cells for differing in verdict.differing]
    assert (cell.column, cell.wanted, cell.found) == ("other", "the same as boats.id", 8)


def test_what_the_action_says_itself_does_not_vary() -> None:
    token, time = "9f86d081884c7d659a2feaa0c55ad015", "2026-06-14 10:30:00"
    seen = Seen(_changes((0, [_added(5, token, at=time)])), SETTING)
    knowledge = replace(KNOWLEDGE, given=f"seed --id 5 --token {token} --at '{time}'")
    cells = _one(accept("do it", seen, knowledge).expectation).cells
    assert not any(varies(matcher) for _, matcher in cells)


def test_repeating_it_shows_what_varies() -> None:
    seen = Seen(_changes((0, [_added(5, "first"), _added(6, "same")])), SETTING)
    again = Seen(_changes((0, [_added(5, "second"), _added(6, "same")])), SETTING)
    made = accept("do it", seen, KNOWLEDGE, [again])
    assert not made.restless
    assert _met(made.expectation, seen)
    assert _met(made.expectation, again)
    other = Seen(_changes((0, [_added(5, "third"), _added(6, "other")])), SETTING)
    assert not _met(made.expectation, other)


def test_an_action_that_writes_more_each_time_is_told() -> None:
    seen = Seen(_changes((0, [_added(5, "x")])), SETTING)
    again = Seen(_changes((0, [_added(5, "x"), _added(6, "x")])), SETTING)
    made = accept("do it", seen, KNOWLEDGE, [again])
    assert made.restless == ("another run of it wrote something else: 1 unexpected",)
    assert _met(made.expectation, seen)


def test_a_column_that_a_person_says_varies_does() -> None:
    seen = Seen(_changes((0, [_added(5, "x")])), SETTING)
    knowledge = replace(KNOWLEDGE, varying=[(TABLES[0], "note")])
    expectation = accept("do it", seen, knowledge).expectation
    assert _met(expectation, Seen(_changes((0, [_added(5, "y")])), SETTING))
    assert not _met(expectation, Seen(_changes((0, [_added(5, None)])), SETTING))


def test_many_records_that_point_at_each_other_are_told_apart() -> None:
    """Ten that are alike, each pointed at by one that is not: which is which is found out."""
    boats = [_added(n, "alike") for n in range(1, 11)]
    bookings = [_added(n, f"note {n}", other=n) for n in range(1, 11)]
    expectation = accept("do it", Seen(_changes((0, boats), (1, bookings)), SETTING), KNOWLEDGE)
    turned = [_added(n, f"note {11 - n}", other=n) for n in range(1, 11)]
    assert _met(expectation.expectation, Seen(_changes((0, boats), (1, turned)), SETTING))
    two_at_one = [*turned[:-1], _added(10, "note 1", other=9)]
    assert not _met(expectation.expectation, Seen(_changes((0, boats), (1, two_at_one)), SETTING))


def test_accepting_anew_leaves_the_rest_of_the_file_as_it_is(file: Path) -> None:
    file.write_text(
        "# ours\n[verify]\ndatabase = 'a.db'  # here\n\n[[actions]]\nname = 'other'\n"
        "command = 'true'\n# the end\n"
    )
    plan = PlanFile(Project(str(file.parent / "app.db"), file=file))
    seen = Seen(_changes((0, [_added(5, "x")])), SETTING)
    before = file.read_text()
    plan.keep_expectation(accept("do it", seen, KNOWLEDGE).expectation)
    assert file.read_text().startswith(before)
    other = Seen(_changes((0, [_added(5, "y")])), SETTING)
    plan.keep_expectation(accept("do it", other, KNOWLEDGE).expectation)
    assert file.read_text().startswith(before)
    assert len(tomlkit.parse(file.read_text())["expectations"]) == 1  # type: ignore[arg-type]
    assert _met(plan.read().expectations["do it"], other)


def _changes(*tables: tuple[int, list[RecordChange]]) -> Any:
    from jondel.core.model.changes import Changes

    return Changes(tuple(table_of(TABLES[number], records) for number, records in tables))
