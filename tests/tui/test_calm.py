"""Nothing that the app does moves a person from where they are."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable

import pytest
from driving import Driver, driven
from textual import events

from conftest import JondelCommand, MakeDatabase, OpenApp
from jondel.core.draft.draft import NewRecord
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.tui.frame.table_list import TableList
from jondel.tui.services.moments import Moment
from jondel.tui.services.rows import RowService
from jondel.tui.widgets.sheet.sheet import Sheet

_READINGS = (
    "CREATE TABLE readings(id INTEGER PRIMARY KEY, height INT)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) "
    "INSERT INTO readings SELECT i * 10, i % 97 FROM n",
)
_NAMED = (
    "CREATE TABLE named(name TEXT PRIMARY KEY, height INT) WITHOUT ROWID",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) "
    "INSERT INTO named SELECT printf('n%05d', i * 10), i % 97 FROM n",
)


def _line_of_cursor(driver: Driver) -> int:
    return driver.sheet.cursor_row - int(driver.sheet.scroll_target_y)


@pytest.mark.parametrize(
    ("made", "sql"),
    [
        pytest.param(_READINGS, "INSERT INTO readings VALUES (-5, 1), (5, 2), (15, 3)", id="few"),
        pytest.param(
            _READINGS, "INSERT INTO readings SELECT -id, 1 FROM readings LIMIT 2000", id="many"
        ),
        pytest.param(_READINGS, "DELETE FROM readings WHERE id <= 500", id="fewer"),
        pytest.param(_NAMED, "INSERT INTO named VALUES ('a', 1), ('b', 2)", id="without numbers"),
    ],
)
@pytest.mark.parametrize("keys", [[], ["end"], ["down"] * 3], ids=["scrolled", "last", "first"])
async def test_the_cursor_stays_on_its_record_when_rows_come_or_go_before_it(
    make: MakeDatabase, app: OpenApp, made: tuple[str, ...], sql: str, keys: list[str]
) -> None:
    path = make(*made)
    async with driven(path) as driver:
        await driver.sees("3 000 rows")
        if keys:
            await driver.press(*keys)
        else:
            driver.sheet.go_to(1000)
            await driver.press("down", "down", "up")
        await driver.until(lambda: bool(driver.sheet.current_position))
        if keys and keys[0] == "down" and "DELETE" in sql:
            pytest.skip("the record itself goes")
        position, line = driver.sheet.current_position, _line_of_cursor(driver)
        rows = driver.sheet.rows
        app(path).run(sql)
        await driver.until(lambda: driver.sheet.rows != rows)
        await driver.until(lambda: driver.sheet.current_record is not None)
        assert driver.sheet.current_position == position
        if len(keys) != 3:  # at the top there may be no room to scroll
            assert abs(_line_of_cursor(driver) - line) <= (1 if keys else 0)


async def test_rows_that_are_looked_at_do_not_slide_where_the_cursor_is_elsewhere(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_READINGS)
    async with driven(path) as driver:
        await driver.sees("3 000 rows")
        driver.sheet.scroll_to(None, 700, animate=False, force=True)
        await driver.until(lambda: driver.sheet.record_at(700) is not None)
        await driver.pilot.pause(0.1)
        seen = driver.sheet.record_at(int(driver.sheet.scroll_target_y))
        app(path).run("INSERT INTO readings SELECT -id, 1 FROM readings LIMIT 40")
        await driver.until(lambda: driver.sheet.rows == 3040)
        await driver.until(
            lambda: driver.sheet.record_at(int(driver.sheet.scroll_target_y)) == seen
        )
        assert driver.sheet.current_position == (10,)


_LOG = ("CREATE TABLE log(id INTEGER PRIMARY KEY, what)", "INSERT INTO log VALUES (1, 'began')")


async def test_new_steps_are_counted_and_leave_the_view_where_it_is(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_LOG, *_READINGS)
    writer = app(path)
    async with driven(path) as driver:
        await driver.open_table("readings")
        await driver.press("w")
        await driver.sees("watching: use the app")
        for number in (1, 2):
            writer.run("INSERT INTO log(what) VALUES ('done')")
            await driver.sees(f"{number} new", f"s{number + 1} recorded; n leads there")
        assert driver.desk.is_at_now
        assert driver.desk.navigator.view == "records"
        assert driver.table is not None
        assert driver.table.name == "readings"
        await driver.press("n")
        await driver.sees("as of s2", "1 new")
        await driver.press("right_square_bracket")
        await driver.sees("as of s3")
        await driver.until(lambda: " new " not in driver.text)
        await driver.press("n")
        await driver.until(lambda: driver.desk.is_at_now)
        await driver.press("n")
        await driver.pilot.pause(0.2)
        assert driver.desk.is_at_now, "there is nothing new to go to"


async def test_following_new_steps_is_a_switch_that_is_kept(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_LOG)
    writer = app(path)
    async with driven(path) as driver:
        await driver.press("N", "w")
        await driver.sees("watching: use the app")
        writer.run("INSERT INTO log(what) VALUES ('done')")
        await driver.sees("changes of s2", "as of s2")
    async with driven(path) as driver:
        await driver.press("w")
        await driver.sees("watching: use the app")
        writer.run("INSERT INTO log(what) VALUES ('more')")
        await driver.sees("changes of s3", "as of s3")
        await driver.press("N", "n")
        await driver.until(lambda: driver.desk.is_at_now)
        writer.run("INSERT INTO log(what) VALUES ('and more')")
        await driver.sees("s4 recorded", "1 new")
        assert driver.desk.is_at_now


async def test_steps_that_another_jondel_records_are_new_too(
    make: MakeDatabase, app: OpenApp, jondel: JondelCommand
) -> None:
    path = make(*_LOG)
    jondel("snapshot", path)
    async with driven(path) as driver:
        await driver.sees("s1")
        assert " new " not in driver.text
        app(path).run("INSERT INTO log(what) VALUES ('done')")
        jondel("snapshot", path)
        await driver.sees("1 new", "new s2")
        await driver.press("n")
        await driver.sees("as of s2")
        jondel("trail", path, "delete", "s2")
        await driver.sees("s2: deleted; this is now")


async def test_what_is_all_noise_makes_no_step_and_no_message(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_LOG, *_READINGS)
    path.with_name("jondel.toml").write_text('[noise]\ntables = ["log"]\n', "utf-8")
    writer = app(path)
    async with driven(path) as driver:
        await driver.press("w")
        await driver.sees("watching: use the app")
        writer.run("INSERT INTO log(what) VALUES ('beat')")
        await driver.until(lambda: driver.desk.follower.busy)
        await driver.until(lambda: not driver.desk.follower.busy)
        await driver.pilot.pause(0.5)
        assert [step.number for step in driver.steps] == [1]
        assert "recorded" not in driver.text
        writer.run("INSERT INTO readings VALUES (5, 5)")
        await driver.sees("s2 recorded; n leads there")


async def test_an_app_that_never_pauses_gives_steps(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_LOG, journal="WAL")
    writer = app(path)
    async with driven(path) as driver:
        await driver.press("w")
        await driver.sees("watching: use the app")

        def beaten() -> bool:
            writer.run("INSERT INTO log(what) VALUES ('beat')")
            return len(driver.steps) > 2

        await driver.until(beaten)


_BOATS = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO berths VALUES (1, 'north'), (2, 'south')",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, length INT NOT NULL)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 200) "
    "INSERT INTO boats SELECT i * 10, 'boat ' || i, i FROM n",
)


async def _edit_name(driver: Driver, row: int = 2) -> None:
    """Begin to edit a boat's name, and type something else."""
    await driver.open_table("boats", "name", row)
    await driver.press("e")
    await driver.until(lambda: driver.editor is not None and driver.editor.has_focus)
    await driver.press(*"Knot")


def _drafted(driver: Driver) -> dict[str, object]:
    drafts = driver.workspace.drafts_if_used
    assert drafts is not None
    found: dict[str, object] = {}
    for table in driver.desk.state.tables:
        marks = drafts.marks(table)
        for position, cells in marks.edited.items() if marks is not None else ():
            found.update({f"{table.name}{position}.{name}": v for name, v in cells.items()})
    return found


async def _by_clicking_another_cell(driver: Driver) -> None:
    await driver.click(Sheet, (12, 12))


async def _by_the_list_of_tables(driver: Driver) -> None:
    await driver.click(TableList, (3, 0))


async def _by_the_wheel(driver: Driver) -> None:
    driver.sheet.scroll_to(None, 100, animate=False, force=True)


async def _by_the_palette(driver: Driver) -> None:
    await driver.press("ctrl+p")
    await driver.until(lambda: driver.dialog_is_open)
    await driver.press(*"berths")
    await driver.sees("berths")
    await driver.pilot.pause(0.5)
    await driver.press("enter")
    await driver.pilot.pause(0.2)
    await driver.press("enter")


async def _by_going_to_a_step(driver: Driver) -> None:
    await driver.click_on("s1")


async def _by_going_to_the_card(driver: Driver) -> None:
    driver.desk.focus_card()


_WAYS = [
    _by_clicking_another_cell,
    _by_the_list_of_tables,
    _by_the_wheel,
    _by_the_palette,
    _by_going_to_a_step,
    _by_going_to_the_card,
]


@pytest.mark.parametrize("leave", _WAYS, ids=lambda way: way.__name__.removeprefix("_by_"))
@pytest.mark.parametrize("setting", ["accepts", "cancels"])
async def test_what_is_typed_in_a_cell_is_accepted_or_cancelled_however_it_is_left(
    make: MakeDatabase,
    jondel: JondelCommand,
    leave: Callable[[Driver], Awaitable[None]],
    setting: str,
) -> None:
    path = make(*_BOATS)
    path.with_name("jondel.toml").write_text(f'[edit]\nleaving = "{setting}"\n', "utf-8")
    jondel("snapshot", path)
    async with driven(path) as driver:
        await driver.sees("s1")
        await _edit_name(driver)
        await leave(driver)
        await driver.until(lambda: driver.editor is None)
        await driver.comes_to_rest()
        assert "Knot" not in "\n".join(driver.lines) or setting == "accepts"
        expected = {"boats(30,).name": "Knot"} if setting == "accepts" else {}
        assert _drafted(driver) == expected


@pytest.mark.parametrize("leave", _WAYS, ids=lambda way: way.__name__.removeprefix("_by_"))
async def test_what_a_cell_cannot_take_stays_in_its_field_however_it_is_left(
    make: MakeDatabase, jondel: JondelCommand, leave: Callable[[Driver], Awaitable[None]]
) -> None:
    path = make(*_BOATS)
    jondel("snapshot", path)
    async with driven(path) as driver:
        await driver.sees("s1")
        await driver.open_table("boats", "length", 2)
        await driver.press("e")
        await driver.until(lambda: driver.editor is not None and driver.editor.has_focus)
        await driver.press(*"long")
        await leave(driver)
        await driver.sees("takes a whole number, not 'long'")
        await driver.comes_to_rest()
        assert driver.editor is not None
        assert driver.editor.entered == "long"
        assert driver.editor.has_focus
        assert driver.sheet.current_position == (30,)
        assert driver.sheet.sees_cursor
        await driver.press("home", "shift+end", "7", "enter")
        await driver.until(lambda: driver.editor is None)
        assert _drafted(driver) == {"boats(30,).length": 7}


def _under_the_editor(driver: Driver) -> str:
    """The key of the record on whose line the field lies."""
    editor = driver.editor
    assert editor is not None
    assert editor.region.height == 1
    line = driver.lines[editor.region.y]
    return line[driver.sheet.region.x : editor.region.x].split()[-1]


async def test_the_field_goes_with_its_record_when_rows_arrive(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    writer = app(path)
    async with driven(path) as driver:
        await _edit_name(driver, 20)
        await driver.comes_to_rest()
        assert _under_the_editor(driver) == "210"
        for number in range(1, 4):
            writer.run(
                "INSERT INTO boats SELECT -id - ?, name, 1 FROM boats WHERE id > 0 LIMIT ?",
                number,
                7 * number,
            )
            rows = 200 + sum(7 * n for n in range(1, number + 1))
            await driver.until(lambda rows=rows: driver.sheet.rows == rows)  # type: ignore[misc]
            await driver.comes_to_rest()
            assert driver.editor is not None
            assert driver.editor.entered == "Knot"
            assert driver.editor.has_focus
            assert _under_the_editor(driver) == "210"
        await driver.press("!", "enter")
        await driver.until(lambda: driver.editor is None)
        assert _drafted(driver) == {"boats(210,).name": "Knot!"}


async def test_a_record_that_the_app_removes_while_it_is_edited_keeps_what_was_typed(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _edit_name(driver, 20)
        app(path).run("DELETE FROM boats WHERE id = 210")
        await driver.sees("boats: the record that was edited was removed; what was typed is in")
        assert driver.editor is None
        drafts = driver.workspace.drafts_if_used
        assert drafts is not None
        assert len(drafts.draft) == 1


async def test_another_window_and_an_open_dialog_leave_the_field_as_it_is(
    make: MakeDatabase,
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _edit_name(driver)
        driver.app.app_focus = False
        await driver.pilot.pause(0.1)
        driver.app.app_focus = True
        await driver.pilot.pause(0.1)
        await driver.press("ctrl+p")
        await driver.until(lambda: driver.dialog_is_open)
        await driver.press("escape")
        await driver.until(lambda: not driver.dialog_is_open)
        assert driver.editor is not None
        assert driver.editor.entered == "Knot"
        await driver.press("!", "escape")
        await driver.until(lambda: driver.editor is None)
        assert _drafted(driver) == {}


async def test_what_a_new_record_cannot_take_stays_where_it_was_typed(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.open_table("boats")
        await driver.press("I", "down", "down", "enter")
        await driver.sees("length, ")
        await driver.press(*"long", "enter")
        await driver.sees("takes a whole number, not 'long'")
        assert "long" in driver.text.split("length, ")[1][:400]
        await driver.press("home", "shift+end", "7", "enter", "ctrl+s")
        await driver.sees("* 1 not written")
        drafts = driver.workspace.drafts_if_used
        assert drafts is not None
        (new,) = drafts.draft
        assert isinstance(new, NewRecord)
        assert dict(new.values) == {"length": 7}


_VISITS = (
    "CREATE TABLE visits(id INTEGER PRIMARY KEY, at TEXT, note JSON, paid BOOLEAN)",
    "INSERT INTO visits VALUES (1, '20260102030405.250000', '{\"a\": 1}', 1), "
    "(2, '20260103030405.000001', '[]', 0), (3, '20260104030405.5', '{}', 1)",
)


async def test_a_cell_takes_what_its_column_holds(make: MakeDatabase) -> None:
    async with driven(make(*_VISITS)) as driver:
        for column, wrong, words, right in (
            ("at", "2026-01-02", "such as 20260102030405.250000", "20260301000000"),
            ("note", "{a: 1}", "not JSON", '{"a": 2}'),
            ("paid", "perhaps", "1 for true and 0 for false", "no"),
        ):
            await driver.open_table("visits", column)
            await driver.press("e")
            await driver.until(lambda: driver.editor is not None and driver.editor.has_focus)
            await driver.press(*wrong, "enter")
            await driver.sees(words)
            assert driver.editor is not None
            assert driver.editor.entered == wrong
            await driver.press("home", "shift+end", *right, "enter")
            await driver.until(lambda: driver.editor is None)
        assert _drafted(driver) == {
            "visits(1,).at": "20260301000000",
            "visits(1,).note": '{"a": 2}',
            "visits(1,).paid": 0,
        }
        await driver.open_table("visits", "at", 1)
        await driver.press("e")
        await driver.until(lambda: driver.editor is not None and driver.editor.has_focus)
        await driver.press("ctrl+t")
        await driver.until(lambda: driver.editor is None)
        assert re.fullmatch(r"20\d{12}\.\d{6}", str(_drafted(driver)["visits(2,).at"]))


async def test_what_jondel_itself_writes_is_not_announced_as_the_apps(
    make: MakeDatabase, app: OpenApp
) -> None:
    async with driven(make(*_BOATS)) as driver:
        seen: set[str] = set()
        paint = driver.screen.desk.show_surroundings

        def watched() -> None:
            paint()
            seen.add(driver.lines[0])

        driver.screen.desk.show_surroundings = watched
        await driver.press("w")
        await driver.sees("watching: use the app")
        await driver.press("r")
        await _edit_name(driver)
        await driver.press("enter", "W")
        await driver.sees("Write 1 record")
        await driver.press("enter")
        await driver.sees("1 row written, as step s2")
        for _ in range(12):
            await driver.pilot.pause(0.1)
            seen.add(driver.lines[0])
        assert not [line for line in seen if "the app is writing" in line]
        assert "recorded" not in driver.text
        assert " new" not in driver.text
        app(driver.workspace.location).run("DELETE FROM boats WHERE id = 100")  # type: ignore[arg-type]
        await driver.sees("s3 recorded; n leads there", "1 new")


async def test_numbers_lead_to_open_tables_from_every_view(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.open_table("boats")
        await driver.press("1")
        await driver.until(lambda: driver.desk.place.table == TableId("berths"))
        await driver.press("c")
        await driver.until(lambda: driver.desk.navigator.view == "changes")
        await driver.press("2")
        await driver.until(lambda: driver.desk.navigator.view == "records")
        assert driver.desk.place.table == TableId("boats")
        await driver.press("9")
        await driver.sees("there is no open table 9")


async def test_a_filter_that_comes_back_says_so_and_how_to_drop_it(make: MakeDatabase) -> None:
    path = make(*_BOATS)
    words = "as you left it; F turns the filter off"
    async with driven(path) as driver:
        await driver.open_table("berths", "name")
        await driver.press("equals_sign")
        await driver.sees("1 of 2 rows", "where ")
        assert words not in driver.text
    async with driven(path) as driver:
        await driver.open_table("berths")
        await driver.sees("1 of 2 rows", words)
        await driver.press("F")
        await driver.sees("2 rows")
        await driver.until(lambda: words not in driver.text)
        await driver.press("F")
        await driver.sees("1 of 2 rows")
        assert words not in driver.text


async def test_a_filtered_sheet_learns_of_how_many_rows_it_shows_some(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is the first thing shown, and the tables are counted only after it."""
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.open_table("berths", "name")
        await driver.press("equals_sign")
        await driver.sees("1 of 2 rows")
    counted, count = asyncio.Event(), RowService.count

    async def late(self: RowService, moment: Moment, table: Table) -> int:
        await counted.wait()
        return await count(self, moment, table)

    monkeypatch.setattr(RowService, "count", late)
    async with driven(path) as driver:
        await driver.sees("berths  1 row", "as you left it")
        counted.set()
        await driver.sees("berths  1 of 2 rows")


async def test_pasted_text_is_never_taken_for_keys(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.sees("berths")
        driver.app.post_message(events.Paste("SELECT count(*) FROM boats"))
        await driver.sees("count")
        assert not driver.dialog_is_open
        driver.app.post_message(events.Paste("SELECT * FROM boats WHERE id = 30;"))
        await driver.sees("the pasted SELECT, as a sheet of boats", "1 of 200 rows")
        driver.app.post_message(events.Paste("sswq"))
        await driver.sees("pasted text has no place here")
        assert not driver.steps
        assert not driver.dialog_is_open
        await _edit_name(driver)
        driver.app.post_message(events.Paste(" of Wrack"))
        await driver.until(lambda: driver.editor is not None and "Wrack" in driver.editor.entered)
        await driver.press("enter")
        await driver.until(lambda: driver.editor is None)
        assert _drafted(driver) == {"boats(30,).name": "Knot of Wrack"}


async def test_added_and_removed_records_take_the_room_there_is(
    make: MakeDatabase, app: OpenApp
) -> None:
    columns = [f"column_{number}" for number in range(24)]
    path = make(f"CREATE TABLE wide(id INTEGER PRIMARY KEY, {', '.join(columns)})")
    values = [f"'value {number} of many'" for number in range(24)]
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run(f"INSERT INTO wide VALUES (1, {', '.join(values)}), (2, {', '.join(values)})")
        await driver.press("c")
        await driver.sees("+ 1 ", "+ 2 ", *columns, "value 23 of many")
        assert driver.text.count("value 11 of many") in (2, 3)  # the card has it too
        await driver.press("down")
        assert driver.changes.current is not None
        assert driver.changes.current.record.key == (2,)
        await driver.pilot.resize_terminal(80, 24)
        await driver.comes_to_rest()
        assert driver.changes.current.record.key == (2,)
        await driver.sees("+ 1 ", "+ 2 ", "column_8", "…")
        writer = app(path)
        writer.run(
            "WITH RECURSIVE n(i) AS (SELECT 3 UNION ALL SELECT i + 1 FROM n WHERE i < 40) "
            f"INSERT INTO wide SELECT i, {', '.join(values)} FROM n"
        )
        await driver.sees("+40", "…")
        lines = [line for line in driver.lines if "column_0" in line]
        assert len(lines) > 15  # a line each, where there are more records than lines


async def test_an_arrival_does_not_take_back_where_one_has_just_gone_in_the_list(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.press("t", "home")
        await driver.until(lambda: driver.desk.place.table == TableId("berths"))
        listed = driver.app.screen.query_one(TableList)
        listed.action_cursor_down()
        driver.desk.highlight_table("berths")  # as an arrival does, before the key is followed
        await driver.until(lambda: driver.desk.place.table == TableId("boats"))
        assert listed.current is not None
        assert listed.current.name == "boats"


async def test_steps_taken_here_are_never_new_however_the_trail_is_read(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.sees("berths")
        trail = driver.workspace.trail
        for number in range(3):
            app(path).run("UPDATE boats SET length = ?", number)
            await asyncio.gather(trail.take_snapshot(None), trail.reload())
            assert len(trail.steps) == number + 1
            assert not len(trail.unseen)


async def test_what_is_recorded_while_watching_begins_is_recorded_once_and_not_new(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.sees("berths")
        trail = driver.workspace.trail
        # An action seems to be over before the snapshot that watching begins with is known.
        calls = asyncio.gather(
            trail.take_if_changed("watching began"), trail.take_if_changed(), trail.reload()
        )
        asyncio.get_running_loop().call_soon(time.sleep, 0.5)
        begun, action, _ = await calls
        assert begun is not None
        assert action is None
        assert len(trail.steps) == 1
        assert not len(trail.unseen)
