"""Time in the interface: watching, comparing any two, ghosts, history, noise, putting back."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import pytest
from driving import SMALL, WIDE, Driver, driven

from app_process import AppProcess
from conftest import MakeDatabase, OpenApp
from jondel.tui.frame.trail_strip import TrailStrip
from outside import rows

_T = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, state TEXT, seen_at)",
    "CREATE TABLE boats(name TEXT PRIMARY KEY, length) WITHOUT ROWID",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 300) "
    "INSERT INTO berths SELECT i, 'free', 1 FROM n",
    "INSERT INTO boats VALUES ('Curlew', 7), ('Marram', 9), ('Teal', 5)",
)
_SIZES = pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])


@asynccontextmanager
async def _three_steps(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int] = WIDE
) -> AsyncIterator[tuple[Driver, AppProcess, Path]]:
    """A trail of three snapshots: s2 changed a berth and removed two, s3 added a boat."""
    path = make(*_T, journal="WAL")
    writer = app(path)
    async with driven(path, size) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        writer.run("UPDATE berths SET state = 'held', seen_at = 2 WHERE id = 7")
        writer.run("DELETE FROM berths WHERE id IN (20, 21)")
        await driver.press("s")
        await driver.sees("changes of s2", "free → held")
        writer.run("INSERT INTO boats VALUES ('Knot', 4)")
        await driver.press("s")
        await driver.sees("changes of s3", "+ Knot")
        yield driver, writer, path


@_SIZES
async def test_while_watching_each_action_becomes_a_step_by_itself(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int]
) -> None:
    path = make(*_T, journal="WAL")
    writer = app(path)
    async with driven(path, size) as driver:
        await driver.press("w")
        await driver.sees("watching: use the app", " watching ")
        writer.run("UPDATE berths SET state = 'held' WHERE id = 7")
        writer.run("INSERT INTO boats VALUES ('Knot', 4)")
        await driver.sees("s2 recorded; n leads there")
        await driver.press("n", "c")
        await driver.sees("changes of s2", "free → held", "+ Knot")
        writer.run("DELETE FROM boats WHERE name = 'Knot'")
        await driver.sees("s3 recorded; ] leads there", "changes of s2")
        await driver.press("right_square_bracket")
        await driver.sees("changes of s3", "- Knot")
        await driver.press("left_square_bracket", "left_square_bracket")
        await driver.sees("as of s1")
        writer.run("UPDATE boats SET length = 1")
        await driver.sees("s4 recorded", "as of s1")
        await driver.press("w")
        await driver.sees("stopped watching")
        assert not driver.lines[0].rstrip().endswith("watching")
    assert len(driver.steps) == 4


async def test_a_removed_record_is_shown_struck_where_it_was(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, _, _):
        await driver.press("left_square_bracket", "r", "t", "home", "down")
        await driver.press("enter")
        await driver.sees("boats")
        await driver.press("t", "up", "enter")
        await driver.sees("berths  298 rows", "not live")
        await driver.until(lambda: any("-      20" in line for line in driver.lines))
        ids = [line[22:34].strip(" -~") for line in driver.lines if " free " in line]
        assert ids.index("20") == ids.index("19") + 1
        assert ids.index("22") == ids.index("21") + 1
        y = next(n for n, line in enumerate(driver.lines) if "-      20" in line)
        strip = driver.app.screen._compositor.render_strips()[y]
        struck = [s.text.strip() for s in strip if s.style and s.style.strike]
        assert "20" in struck
        assert "free" in struck
        await driver.press(*["down"] * 19)
        await driver.sees("a removed record", "- removed")
        await driver.press("end")
        await driver.sees("row 298 of 298")


async def test_a_removed_change_leads_to_its_place_among_the_others(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, _, _):
        await driver.press("left_square_bracket")
        await driver.sees("changes of s2")
        await driver.press("end", "enter")
        await driver.sees("a removed record", "berths 21", "as of s2")
        await driver.press("backspace")
        await driver.sees("changes of s2")
        assert driver.changes.current is not None
        assert driver.changes.current.record.key == (21,)


async def test_any_two_steps_are_compared(make: MakeDatabase, app: OpenApp) -> None:
    async with _three_steps(make, app) as (driver, writer, _):
        await driver.press("left_square_bracket", "left_square_bracket", "m")
        await driver.sees("compare from", "changes from s1 to now", "+ Knot", "free → held")
        writer.run("UPDATE boats SET length = 8 WHERE name = 'Teal'")
        await driver.sees("5 → 8")
        await driver.press("left_square_bracket", "left_square_bracket")
        await driver.sees("changes from s1 to s2", "free → held")
        assert "Knot" not in "\n".join(line[22:110] for line in driver.lines)
        await driver.press("m")
        await driver.sees("changes of s2")


@_SIZES
async def test_the_trail_panel_tends_steps_and_leads_to_them(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int]
) -> None:
    async with _three_steps(make, app, size) as (driver, _, _):
        await driver.press("g")
        await driver.sees("The trail: 3 snapshots in ", " kB, latest first", "trail starts")
        await driver.press("down", "l")
        await driver.sees("Label of s2")
        await driver.press(*"mooring", "enter")
        await driver.until(lambda: driver.steps[1].after.label == "mooring")
        await driver.sees("mooring")
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("down", "e")
        await driver.sees("Note on s2")
        await driver.press(*"odd", "ctrl+s")
        await driver.until(lambda: driver.steps[1].after.note == "odd")
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("down", "p")
        await driver.sees("s2 is pinned: it is never deleted to make room")
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("down", "down", "enter")
        await driver.sees("as of s1")
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("up", "up", "down", "d")
        await driver.sees("Delete mooring?", "It is pinned")
        await driver.press("escape")
        assert len(driver.steps) == 3
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("home", "down", "d", "y")
        await driver.until(lambda: [s.number for s in driver.steps] == [1, 3])
        await driver.press("right_square_bracket")
        await driver.sees("as of s3")
        await driver.press("c")
        await driver.sees("+ Knot", "free → held")


async def test_a_records_history_leads_to_the_step_that_wrote_it(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, writer, _):
        writer.run("UPDATE berths SET state = 'taken' WHERE id = 7")
        await driver.press("left_square_bracket")
        await driver.sees("changes of s2")
        await driver.press("h")
        await driver.sees(
            "berths 7: history, latest first", "held → taken", "free → held", "trail began"
        )
        await driver.press("end", "enter")
        await driver.sees("as of s1")


async def test_noise_is_hidden_with_one_key_and_counted(make: MakeDatabase, app: OpenApp) -> None:
    async with _three_steps(make, app) as (driver, writer, path):
        writer.run("UPDATE berths SET seen_at = 9 WHERE id < 4")
        writer.run("UPDATE boats SET length = 8 WHERE name = 'Teal'")
        await driver.press("s")
        await driver.sees("changes of s4", "~4")
        await driver.press("x")
        await driver.sees("Noise rules", "hide  column berths.seen_at")
        await driver.press("enter")
        await driver.sees("3 hidden, X shows", "5 → 8", "~1")
        assert (path.parent / "jondel.toml").exists()
        await driver.press("X")
        await driver.sees("hidden changes are shown", "1 → 9")
        await driver.press("X", "x", "end")
        await driver.sees("show again  berths.seen_at")
        await driver.press("enter")
        await driver.sees("1 → 9")


async def test_a_broken_file_of_rules_is_named_and_the_trail_works(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T, journal="WAL")
    (path.parent / "jondel.toml").write_text("[noise\n", "utf-8")
    async with driven(path) as driver:
        await driver.sees("jondel.toml: not valid TOML")
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("DELETE FROM boats")
        await driver.press("s")
        await driver.sees("changes of s2", "-3")
        await driver.press("x")
        await driver.sees("fix the file")


async def test_a_record_under_another_key_is_shown_as_such(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, writer, _):
        writer.run("UPDATE boats SET name = 'Tern' WHERE name = 'Marram'")
        await driver.press("s")
        await driver.sees("changes of s4", "~ Tern", "only the key changed; it was Marram")
        assert "- Marram" not in driver.text


@_SIZES
async def test_a_restore_says_what_is_lost_and_can_be_undone(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int]
) -> None:
    async with _three_steps(make, app, size) as (driver, writer, path):
        writer.run("UPDATE boats SET length = 8 WHERE name = 'Teal'")
        await driver.press("left_square_bracket", "left_square_bracket")
        await driver.sees("as of s1")
        await driver.press("R")
        await driver.sees("This will be undone:", "5 → 8", "Enter restores")
        await driver.press("escape")
        assert rows(path, "SELECT count(*) FROM berths") == [[298]]
        await driver.press("R")
        await driver.sees("Enter restores")
        await driver.press("y")
        await driver.sees("done: restored s1. Restore s4")
        assert rows(path, "SELECT count(*) FROM berths") == [[300]]
        assert writer.run("SELECT length FROM boats WHERE name = 'Teal'") == [[5]]
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("down", "R")
        await driver.sees("Enter restores")
        await driver.press("y")
        await driver.sees("done: restored s4")
        assert rows(path, "SELECT length FROM boats WHERE name = 'Teal'") == [[8]]
        assert rows(path, "SELECT count(*) FROM berths") == [[298]]


async def test_only_one_table_is_restored_when_that_is_wanted(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, _, path):
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("end", "R")
        await driver.sees("Enter restores · t restores only boats")
        await driver.press("t")
        await driver.sees("done: restored boats of s1")
        assert rows(path, "SELECT count(*) FROM boats") == [[3]]
        assert rows(path, "SELECT count(*) FROM berths") == [[298]]


async def test_a_records_change_or_a_whole_step_is_taken_back(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with _three_steps(make, app) as (driver, writer, path):
        await driver.press("left_square_bracket")
        await driver.sees("changes of s2")
        await driver.press("u")
        await driver.sees("Take back the change of this record?", "free → held")
        await driver.press("y")
        await driver.sees("done: took back a record of berths")
        assert rows(path, "SELECT state, seen_at FROM berths WHERE id = 7") == [["free", 1]]
        await driver.press("left_square_bracket", "left_square_bracket")
        await driver.sees("as of s3")
        await driver.press("U")
        await driver.sees("Take back s3?")
        await driver.press("y")
        await driver.sees("done: took back s3")
        assert rows(path, "SELECT count(*) FROM boats") == [[3]]
        writer.run("INSERT INTO berths VALUES (20, 'other', 1)")
        await driver.press("g")
        await driver.sees("The trail:")
        await driver.press("end", "up", "U")
        await driver.sees("Take back s2?")
        await driver.press("y")
        await driver.sees("nothing was written")
        assert rows(path, "SELECT state FROM berths WHERE id = 20") == [["other"]]


async def test_a_long_trail_scrolls_and_stays_readable(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_T, journal="WAL")
    writer = app(path)
    async with driven(path, SMALL) as driver:
        for number in range(1, 9):
            writer.run("UPDATE berths SET seen_at = ? WHERE id <= ?", number + 1, number * 3)
            await driver.press("s")
            await driver.until(lambda n=number: len(driver.steps) == n)  # type: ignore[misc]
        await driver.sees("s8", "~24", "‹")
        await driver.press(*["left_square_bracket"] * 7)
        await driver.sees("as of s1", "trail starts", "›")
        driver.screen.query_one(TrailStrip).scroll_steps(5)
        await driver.sees("s6")
        assert all(len(line) <= 80 for line in driver.lines)


async def test_what_keeps_a_step_from_being_taken_back_is_named_whole(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(
        "CREATE TABLE berths(id INTEGER PRIMARY KEY)",
        "CREATE TABLE boats(id INTEGER PRIMARY KEY, berth REFERENCES berths)",
    )
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("INSERT INTO berths VALUES (1), (2)")
        await driver.press("s")
        await driver.sees("as of s2")
        app(path).run("INSERT INTO boats VALUES (7, 1), (8, 1), (9, 2)")
        await driver.press("U")
        await driver.sees("Take back s2? This will be undone:", "berths  +2")
        await driver.press("enter")
        await driver.sees(
            "Nothing was written: 3 records are in the way",
            "boats 7, 8 point at berths with id = 1, which would be gone",
            "boats 9 points at berths with id = 2, which would be gone",
        )
        await driver.press("end", "enter")
        await driver.sees("boats  3 rows", "row 3 of 3", "live")
