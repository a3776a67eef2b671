"""Fixing records: what is edited, shown, kept, written, refused and taken back."""

from __future__ import annotations

import asyncio
import sqlite3
import threading
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest
from driving import SMALL, WIDE, Driver, driven
from textual.widgets import TextArea

import outside
from conftest import MakeDatabase, OpenApp
from jondel.core.engines.protocol import CommitMark
from jondel.core.engines.sqlite.database import LiveSqliteDatabase
from jondel.core.model.addresses import TableId
from jondel.core.model.writes import WritePlan

_HARBOUR = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
    "INSERT INTO berths VALUES (1, 'north'), (2, 'south')",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL, "
    "length REAL DEFAULT 7.5 CHECK (length <> 900), "
    "berth INTEGER REFERENCES berths(id), note TEXT, paid_at INTEGER)",
    "INSERT INTO boats VALUES (1, 'Gull', 8.0, 1, '{\"a\": 1}', 1780000000), "
    "(2, 'Tern', 6.5, 2, NULL, NULL), (3, '', 6.0, NULL, 'leaks', 1780086400)",
    "CREATE TABLE crews(boat INTEGER REFERENCES boats(id) ON DELETE CASCADE, seat INTEGER, "
    "who TEXT, PRIMARY KEY (boat, seat)) WITHOUT ROWID",
    "INSERT INTO crews VALUES (1, 1, 'Ada'), (1, 2, 'Ben')",
    "CREATE VIEW named AS SELECT name FROM boats",
)


async def _at(driver: Driver, table: str, column: str, row: int = 0) -> None:
    await driver.open_table(table, column, row)


async def _begin(driver: Driver) -> None:
    """Begin to edit the current cell."""
    await driver.press("e")
    await driver.until(lambda: driver.editor is not None and driver.editor.has_focus)


async def _edit(driver: Driver, text: str) -> None:
    """Type another value into the current cell."""
    await _begin(driver)
    await driver.press(*text, "enter")


async def _begin_to_write(driver: Driver) -> None:
    """Confirm that a draft of one statement is written."""
    await driver.press("W")
    await driver.sees("Write 1 record")
    await driver.press("enter")


async def _write(driver: Driver) -> None:
    """Write a draft of one statement."""
    await _begin_to_write(driver)
    await driver.sees("1 row written")


def _boats(path: Path) -> list[list[object]]:
    return outside.rows(path, "SELECT * FROM boats")


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_a_cell_is_edited_in_place_and_written_only_when_asked(
    make: MakeDatabase, size: tuple[int, int]
) -> None:
    path = make(*_HARBOUR)
    before = _boats(path)
    async with driven(path, size) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Great Auk")
        await driver.sees("Great Auk", "* 1 not written", "*1")
        assert _boats(path) == before
        await driver.press("W")
        await driver.sees("Write 1 record", "boats  ~1", "~ 1  name  Gull → Great Auk")
        await driver.press("s")
        await driver.sees('UPDATE "boats"', "SET \"name\" = 'Great Auk'", 'WHERE "rowid" = 1')
        await driver.sees("and the record is still as shown")
        await driver.press("x")
        await driver.sees("typeof(")
        await driver.press("enter")
        await driver.sees("1 row written, as step s2")
        assert _boats(path)[0][1] == "Great Auk"
        assert "not written" not in driver.lines[0]
        await driver.press("ctrl+z")
        await driver.sees("Take back the last write, step s2?")
        await driver.press("y")
        await driver.sees("step s2 is taken back")
        assert _boats(path) == before


async def test_null_empty_default_and_now_have_keys(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        for column, key in (("note", "ctrl+y"), ("berth", "ctrl+n"), ("length", "ctrl+l")):
            await _at(driver, "boats", column)
            await _begin(driver)
            await driver.press(key)
            await driver.until(lambda: driver.editor is None)
        await _at(driver, "boats", "paid_at")
        await _begin(driver)
        await driver.press("ctrl+t")
        await driver.until(lambda: driver.editor is None)
        await _write(driver)
        row = _boats(path)[0]
        assert row[2:5] == [7.5, None, ""]
        assert isinstance(row[5], int)
        assert row[5] > 1_780_000_000


async def test_a_value_of_another_type_is_refused_or_kept_on_purpose(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "length")
        await _edit(driver, "long")
        await driver.sees("boats.length is REAL and takes a number", "Ctrl+R")
        assert driver.editor is not None
        assert driver.editor.value == "long"
        await driver.press("ctrl+r")
        await driver.sees("* 1 not written")
        await _write(driver)
        assert _boats(path)[0][2] == "long"


async def test_escape_leaves_the_cell_and_an_unchanged_value_is_no_edit(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _at(driver, "boats", "name")
        await _begin(driver)
        await driver.press(*"other", "escape")
        await driver.until(lambda: driver.editor is None)
        await _edit(driver, "Gull")
        await driver.pilot.pause(0.2)
        assert "not written" not in driver.text
        assert driver.sheet.has_focus


async def test_json_is_edited_in_a_full_editor_and_checked(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "note")
        await driver.press("E")
        await driver.sees("boats.note", "Ctrl+J")
        area = driver.app.screen.query_one(TextArea)
        area.text = '{"a": 2'
        await driver.sees("not JSON")
        await driver.press("ctrl+s")
        area.text = '{"a": 2}'
        await driver.press("ctrl+s")
        await driver.sees("* 1 not written")
        await _write(driver)
        assert _boats(path)[0][4] == '{"a": 2}'


async def test_a_linked_record_is_picked_by_searching_its_table(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "berth")
        await _begin(driver)
        await driver.press("ctrl+g")
        await driver.sees("Pick a record of berths", "1  north", "2  south")
        await driver.press(*"sou")
        await driver.press("enter")
        await driver.sees("* 1 not written")
        await _write(driver)
        assert _boats(path)[0][3] == 2


async def test_a_blob_is_taken_from_a_file(make: MakeDatabase, tmp_path: Path) -> None:
    path = make(*_HARBOUR)
    (tmp_path / "chart").write_bytes(b"\x00\xff")
    async with driven(path) as driver:
        await _at(driver, "boats", "note")
        await _begin(driver)
        await driver.press("ctrl+o")
        await driver.press(*str(tmp_path / "chart"), "enter")
        await driver.sees("* 1 not written", "‹blob 2 B›")


async def test_a_record_is_inserted_duplicated_and_deleted(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await driver.press("I")
        await driver.sees("A new record of boats", "required", "default 7.5", "auto-numbered")
        await driver.press("ctrl+s")
        await driver.sees("name: a value is required")
        await driver.press("enter")  # it is the current one now
        await driver.press(*"Skua", "enter")
        await driver.sees("Skua")
        await driver.press("ctrl+s")
        await driver.sees("a new record", "* 1 not written")
        await _at(driver, "boats", "name", 1)
        await driver.press("P")
        await driver.sees("A new record of boats", "Tern")
        await driver.press("ctrl+s")
        await driver.sees("* 2 not written")
        await _at(driver, "boats", "name", 2)
        await driver.press("delete")
        await driver.sees("* 3 not written")
        await driver.press("W")
        await driver.sees("Write 3 records", "boats  +2 -1")
        await driver.press("enter")
        await driver.sees("3 rows written")
        assert [row[:4] for row in _boats(path)] == [
            [1, "Gull", 8.0, 1],
            [2, "Tern", 6.5, 2],
            [3, "Skua", 7.5, None],
            [4, "Tern", 6.5, 2],
        ]


async def test_deleting_says_what_a_cascade_takes(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await driver.press("delete")
        await driver.sees("1 record of boats deleted with 2 more?", "crews  -2", "boats  -1")
        await driver.press("y")
        await driver.sees("* 1 not written")
        await driver.press("W")
        await driver.sees("Write 3 records", "2 of them go with what is deleted")
        await driver.press("enter")
        await driver.sees("3 rows written")
        assert outside.rows(path, "SELECT count(*) FROM crews") == [[0]]


async def test_a_column_is_set_in_all_filtered_rows_after_counting(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "berth", 2)
        await driver.press("exclamation_mark")
        await driver.sees("berth is not NULL", "2 of 3 rows")
        driver.sheet.go_to(0, "note")
        await driver.press("A")
        await driver.sees("Set note in 2 filtered rows")
        await driver.press(*"dry", "enter")
        await driver.sees("* 2 not written")
        await driver.press("W")
        await driver.sees("Write 2 records")
        await driver.press("enter")
        await driver.sees("2 rows written")
        assert [row[4] for row in _boats(path)] == ["dry", "dry", "leaks"]


async def test_a_conflict_shows_theirs_mine_and_the_original_to_choose_from(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await driver.sees("* 1 not written")
        app(path).run("UPDATE boats SET name = 'Skua', length = 9 WHERE id = 1")
        await _begin_to_write(driver)
        await driver.sees("the app has changed these records", "Gull", "Skua", "Auk", "8.0", "9.0")
        assert _boats(path)[0][1] == "Skua"
        await driver.press("enter")
        await driver.sees("choose m or t")
        await driver.press("m", "enter")
        await driver.sees("Write 1 record")
        await driver.press("enter")
        await driver.sees("1 row written")
        assert _boats(path)[0][1:3] == ["Auk", 9.0]


async def test_a_constraint_names_the_record_and_leaves_the_draft(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    before = _boats(path)
    async with driven(path) as driver:
        await _at(driver, "boats", "length")
        await _edit(driver, "900")
        await driver.sees("* 1 not written")
        await _begin_to_write(driver)
        await driver.sees("boats 1: the check length <> 900 does not hold", "nothing was written")
        assert "* 1 not written" in driver.text
        assert _boats(path) == before


async def test_the_draft_is_listed_gone_to_and_dropped_singly_or_whole(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await _at(driver, "berths", "name", 1)
        await _edit(driver, "east")
        await driver.sees("* 2 not written")
        await driver.press("d")
        await driver.sees("boats 1: name Gull → Auk", "berths 2: name south → east")
        await driver.press("enter")
        await driver.sees("boats  3 rows", "row 1 of 3")
        await driver.press("d", "delete")
        await driver.sees("The draft: 1 record,", "berths 2: name south → east")
        await driver.press("D")
        await driver.sees("would be lost")
        await driver.press("y")
        await driver.sees("the draft was discarded")
        assert "not written" not in driver.lines[0]


async def test_a_draft_survives_and_is_offered_again(make: MakeDatabase, home: Path) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await driver.sees("* 1 not written")
        await driver.until(lambda: bool(_kept_drafts(home)))
    await _ended(home)
    async with driven(path) as driver:
        await driver.sees("a draft of 1 record was kept from last time", "* 1 not written")
        await _at(driver, "boats", "name")
        await driver.sees("Auk", "now")
        await _write(driver)
        assert _boats(path)[0][1] == "Auk"
        await driver.until(lambda: not _kept_drafts(home))


def _kept_drafts(home: Path) -> list[Path]:
    return list((home / "drafts").glob("*.json"))


async def _ended(home: Path) -> None:
    """Wait until no interface claims a draft any more."""
    for _ in range(1000):
        if not list((home / "drafts").glob("*.lock")):
            return
        await asyncio.sleep(0.02)


class _SlowWrite:
    """Has the database be written to no sooner than it is let go."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.begun, self.let_go = threading.Event(), threading.Event()
        apply = LiveSqliteDatabase.apply

        def slow(
            database: LiveSqliteDatabase, plan: WritePlan, since: CommitMark | None = None
        ) -> Sequence[int | None]:
            self.begun.set()
            assert self.let_go.wait(20)
            return apply(database, plan, since)

        monkeypatch.setattr(LiveSqliteDatabase, "apply", slow)


async def test_what_is_edited_while_a_draft_is_written_stays_drafted(
    make: MakeDatabase, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make(*_HARBOUR)
    slow = _SlowWrite(monkeypatch)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await _begin_to_write(driver)
        await driver.until(slow.begun.is_set)
        await _edit(driver, "Great Auk")
        await driver.press("down")
        await _edit(driver, "Knot")
        await driver.sees("* 2 not written")
        await driver.press("W")
        await driver.sees("the draft is being written; press W again in a moment")
        slow.let_go.set()
        await driver.sees("1 row written", "* 2 not written")
        assert [row[1] for row in _boats(path)] == ["Auk", "Tern", ""]
    await _ended(home)
    async with driven(path) as driver:
        await driver.sees("a draft of 2 records was kept from last time, not written")
        await driver.press("W")
        await driver.sees("Write 2 records", "Great Auk", "Knot")
        await driver.press("enter")
        await driver.sees("2 rows written")
    assert [row[1] for row in _boats(path)] == ["Great Auk", "Knot", ""]


async def test_a_new_record_changed_while_it_is_written_is_not_added_twice(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make(*_HARBOUR)
    slow = _SlowWrite(monkeypatch)
    async with driven(path) as driver:
        await _at(driver, "berths", "name")
        number = driver.workspace.drafts.draft.insert(TableId("berths"), {"name": "west"})
        await _begin_to_write(driver)
        await driver.until(slow.begun.is_set)
        driver.workspace.drafts.draft.change_new(number, {"name": "far west"})
        slow.let_go.set()
        await driver.sees("1 row written", "* 1 not written")
        await _begin_to_write(driver)  # that a row was written is still said of the one before
        await driver.until(lambda: not driver.workspace.drafts.entries())
        assert [row[1] for row in outside.rows(path, "SELECT * FROM berths")] == [
            *("north", "south", "far west")
        ]


async def test_a_write_that_is_stopped_midway_is_spoken_of_at_the_next_start(
    make: MakeDatabase, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make(*_HARBOUR)
    slow = _SlowWrite(monkeypatch)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await _begin_to_write(driver)
        await driver.until(slow.begun.is_set)
        (kept,) = _kept_drafts(home)
        as_killed = kept.read_bytes()
        slow.let_go.set()
        await driver.sees("1 row written")
        await driver.until(lambda: not _kept_drafts(home))
    await _ended(home)
    kept.write_bytes(as_killed)
    async with driven(path) as driver:
        await driver.sees("it was just being written, and may be in the database: d lists it")


async def test_two_interfaces_on_one_database_have_a_draft_each(
    make: MakeDatabase, home: Path
) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as one, driven(path) as other:
        await _at(one, "boats", "name")
        await _edit(one, "Auk")
        await one.sees("* 1 not written")
        await _at(other, "boats", "name", 1)
        await _edit(other, "Knot")
        await other.sees("* 1 not written")
        await _write(other)
        assert "not written" not in other.text
        assert [row[1] for row in _boats(path)] == ["Gull", "Knot", ""]
        await _write(one)
        assert [row[1] for row in _boats(path)] == ["Auk", "Knot", ""]


async def test_what_cannot_be_edited_says_why(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "named", "name")
        await driver.press("e")
        await driver.sees("no editing: it is a view")
        await _at(driver, "boats", "name")
        await driver.press("ctrl+r")
        await driver.sees("live · read-only")
        await driver.press("e")
        await driver.sees("read-only: Ctrl+R allows editing")
        await driver.press("ctrl+r", "s")
        await driver.sees("s1 taken")
        await driver.press("left_square_bracket")
        await driver.sees("as of s1")
        await driver.press("e")
        await driver.sees("only now can be edited")


async def test_started_read_only_nothing_can_be_written(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_HARBOUR)
    async with driven(path, read_only=True) as driver:
        await driver.sees("live · read-only")
        await _at(driver, "boats", "name")
        assert "e edit" not in driver.lines[-1]
        await driver.press("question_mark")
        why = "edit the cell in place  (read-only: Jondel was started with --"
        for _ in range(6):  # wherever it is in the list
            if why not in driver.text:
                await driver.press("pagedown")
        await driver.sees(why)
        await driver.press("escape")
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE boats SET name = 'Skua' WHERE id = 1")
        await driver.press("ctrl+r")
        await driver.sees("stays read-only")
        await driver.press("e", "I", "delete", "A", "W", "ctrl+z")
        await driver.press("left_square_bracket", "R")
        await driver.pilot.pause(0.5)
        await driver.press("y")
        await driver.pilot.pause(0.5)
    assert _boats(path)[0][1] == "Skua"


async def test_the_draft_stays_when_the_app_writes(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await driver.sees("* 1 not written")
        app(path).run("INSERT INTO boats(name) VALUES ('Knot')")
        await driver.sees("Knot", "Auk", "* 1 not written")


async def test_a_cell_that_is_entered_untouched_stays_what_it_is(make: MakeDatabase) -> None:
    """A NULL, a blob, a number in a column of text: none of them becomes what is typed for it."""
    path = make(
        "CREATE TABLE kept(id INTEGER PRIMARY KEY, gone TEXT, blob BLOB, number, word INTEGER)",
        "INSERT INTO kept VALUES (1, NULL, x'00ff', '5', 'five')",
    )
    async with driven(path) as driver:
        for column in ("gone", "blob", "number", "word"):
            await _at(driver, "kept", column)
            await _begin(driver)
            await driver.press("enter")
            await driver.until(lambda: driver.editor is None)
        assert "not written" not in driver.text
        await driver.press("P")
        await driver.sees("A new record of kept")
        await driver.press("down", "down", "enter")
        await driver.sees("it holds a blob")
        await driver.press("enter", "ctrl+s")
        await driver.sees("* 1 not written")
        await _write(driver)
        with closing(sqlite3.connect(path)) as connection:
            rows = connection.execute("SELECT gone, blob, number, word FROM kept").fetchall()
        assert rows == [(None, b"\x00\xff", "5", "five")] * 2


async def test_a_long_text_that_does_not_suit_is_not_lost(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "length")
        await driver.press("e", *"12 m", "f2")
        await driver.sees("boats.length is REAL", "Ctrl+R accepts it although it does not fit")
        area = driver.app.screen.query_one(TextArea)
        assert area.text == "12 m"
        await driver.press("ctrl+s")
        assert driver.app.screen.query_one(TextArea) is area
        await driver.press("ctrl+r")
        await driver.sees("* 1 not written")
        await _write(driver)
        assert _boats(path)[0][2] == "12 m"


async def test_what_a_strict_table_refuses_is_refused_at_once(make: MakeDatabase) -> None:
    path = make(
        "CREATE TABLE gauges(id INTEGER PRIMARY KEY, level REAL NOT NULL) STRICT",
        "INSERT INTO gauges VALUES (1, 2.5)",
    )
    async with driven(path) as driver:
        await _at(driver, "gauges", "level")
        await _begin(driver)
        await driver.press("ctrl+y")
        await driver.sees("gauges.level is REAL, and the table is STRICT")
        await driver.press("ctrl+n")
        await driver.sees("gauges.level is NOT NULL")
        assert driver.editor is not None
        await driver.press("ctrl+u", *"3", "enter")
        await driver.sees("* 1 not written")


async def test_the_line_is_edited_as_in_a_shell(make: MakeDatabase) -> None:
    path = make(*_HARBOUR)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await _begin(driver)
        await driver.press("end", "ctrl+u", *"Skua", "ctrl+a", *"Old ", "ctrl+e", *"!", "enter")
        await driver.sees("* 1 not written", "Old Skua!")


@pytest.mark.parametrize("sort", [(), ("o",)])
async def test_one_stays_with_a_new_record_once_it_is_written(
    make: MakeDatabase, sort: tuple[str, ...]
) -> None:
    path = make(
        "CREATE TABLE stays(id INTEGER PRIMARY KEY, boat TEXT)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900) "
        "INSERT INTO stays SELECT i * 2, printf('boat %03d', i) FROM n",
    )
    async with driven(path) as driver:
        await _at(driver, "stays", "boat", 300)
        await driver.press(*sort)
        await driver.pilot.pause(0.5)
        for number, boat in ((501, "boat 250 b"), (701, "boat 350 b")):
            await driver.press("P")
            await driver.sees("A new record of stays")
            await driver.press("enter", "ctrl+u", *str(number), "enter")
            await driver.press("enter", "ctrl+u", *boat, "enter", "ctrl+s")
            await driver.sees("a new record", boat)
        driver.sheet.go_to_new(driver.sheet.draft.added[0][0])
        await driver.pilot.pause()
        await driver.press("W")
        await driver.sees("Write 2 records")
        await driver.press("enter")
        await driver.sees("2 rows written")
        await driver.until(lambda: driver.sheet.current_position == (501,))
        await driver.sees("row 251 of 902")


async def test_the_time_beside_a_drafted_value_is_that_of_the_draft(make: MakeDatabase) -> None:
    path = make(
        "CREATE TABLE visits(id INTEGER PRIMARY KEY, created_at INTEGER)",
        "INSERT INTO visits VALUES (1, 1700000000), (2, 1710000000)",
    )
    async with driven(path) as driver:
        await _at(driver, "visits", "created_at")
        await driver.sees("2023-11-14")
        await _edit(driver, "1600000000")
        await driver.sees("1600000000", "2020-09-13")
        assert "2023-11-14" not in driver.text


async def test_a_write_is_stopped_by_escape_and_nothing_is_written(make: MakeDatabase) -> None:
    path = make(
        *_HARBOUR,
        "CREATE TRIGGER slow BEFORE UPDATE ON berths BEGIN SELECT count(*) FROM (WITH RECURSIVE "
        "n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT * FROM n); END",
    )
    async with driven(path) as driver:
        await _at(driver, "berths", "name")
        await _edit(driver, "east")
        await _begin_to_write(driver)
        await driver.sees("writing … Esc stops it")
        await driver.press("escape")
        await driver.until(lambda: "writing …" not in driver.text)
        await driver.sees("* 1 not written")
        assert outside.rows(path, "SELECT name FROM berths WHERE id = 1") == [["north"]]
        outside_writer = sqlite3.connect(path, timeout=0)
        with closing(outside_writer):  # no lock is left
            outside_writer.execute("DROP TRIGGER slow")
            outside_writer.commit()
        await _write(driver)
        assert outside.rows(path, "SELECT name FROM berths WHERE id = 1") == [["east"]]


async def test_a_new_record_says_why_nothing_is_filtered_by_its_values(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _at(driver, "berths", "name")
        await driver.press("P")
        await driver.sees("A new record of berths")
        await driver.press("ctrl+s")
        await driver.sees("* 1 not written", "a new record")
        await driver.press("equals_sign")
        await driver.sees("this record is not in the table; filter by the value of one that is")


_FLEET = (
    "CREATE TABLE pontoons(id INTEGER PRIMARY KEY, name TEXT UNIQUE)",
    "INSERT INTO pontoons VALUES (1, 'A'), (2, 'B')",
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, pontoon INTEGER REFERENCES pontoons)",
    "INSERT INTO berths VALUES (1, 1), (2, 2), (3, 1)",
)


@pytest.mark.parametrize(
    ("key", "left"),
    [
        pytest.param("x", [[2, 2]], id="deleted-too"),
        pytest.param("n", [[1, None], [2, 2], [3, None]], id="set-to-null"),
    ],
)
async def test_records_in_the_way_are_named_and_taken_into_the_draft(
    make: MakeDatabase, key: str, left: list[list[object]]
) -> None:
    path = make(*_FLEET)
    async with driven(path) as driver:
        await _at(driver, "pontoons", "name")
        await driver.press("delete")
        await driver.sees("* 1 not written")
        await _begin_to_write(driver)
        await driver.sees(
            "Nothing was written: 2 records are in the way",
            "berths 1, 3 point at pontoons with id = 1, which would be gone",
            "x deletes them too · n sets their links to NULL, in the draft",
        )
        await driver.press(key)
        await driver.sees("Write 3 records", "berths")
        await driver.press("enter")
        await driver.sees("3 rows written")
    assert outside.rows(path, "SELECT * FROM berths") == left


async def test_all_records_that_do_not_fit_are_named_at_once(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        for row in (0, 1):
            await _at(driver, "boats", "length", row)
            await _edit(driver, "900")
        await driver.sees("* 2 not written")
        await driver.press("W")
        await driver.sees("Write 2 records")
        await driver.press("enter")
        await driver.sees(
            "Nothing was written: 2 records do not fit",
            "boats 1: the check length <> 900 does not hold",
            "boats 2: the check length <> 900 does not hold",
        )
        await driver.press("x", "n")  # nothing is offered
        await driver.press("escape")
        await driver.sees("* 2 not written")


async def test_one_goes_to_a_record_that_is_in_the_way(make: MakeDatabase) -> None:
    async with driven(make(*_FLEET)) as driver:
        await _at(driver, "pontoons", "name", 1)
        await _edit(driver, "A")
        await _begin_to_write(driver)
        await driver.sees("1 record is in the way", "must be unique, and pontoons 1 has that")
        await driver.press("enter")
        await driver.sees("pontoons 1", "row 1 of 2", "* 1 not written")


async def test_edits_are_undone_one_by_one_before_they_are_written(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await _at(driver, "berths", "name", 1)
        await _edit(driver, "east")
        await driver.sees("* 2 not written")
        await driver.press("ctrl+z")
        await driver.sees("undone: berths 2: name south → east", "* 1 not written")
        await driver.press("ctrl+z")
        await driver.sees("undone: boats 1: name Gull → Auk")
        assert "not written" not in driver.lines[0]
        await driver.press("ctrl+y")
        await driver.sees("done again: boats 1: name Gull → Auk", "* 1 not written")
        await driver.press("d", "ctrl+z")
        await driver.until(lambda: not driver.desk.workspace.drafts.entries())
        await driver.press("ctrl+z")
        await driver.sees("nothing was edited or written here that could be undone")


async def test_a_discarded_draft_can_be_had_again(make: MakeDatabase) -> None:
    async with driven(make(*_HARBOUR)) as driver:
        await _at(driver, "boats", "name")
        await _edit(driver, "Auk")
        await driver.press("d", "D")
        await driver.sees("would be lost")
        await driver.press("enter")
        await driver.sees("the draft was discarded")
        await driver.press("ctrl+z")
        await driver.sees("* 1 not written")
