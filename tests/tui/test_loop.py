"""The loop in the interface: snapshot, act, snapshot, see what was written, earlier, later."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven

from conftest import MakeDatabase, OpenApp
from jondel.core.engines.protocol import Database
from jondel.core.trail.trail import Trail
from jondel.core.verify.actions import Action, Request
from jondel.demo.launch import harbour_desk
from jondel.tui.app import JondelApp

_T = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, state TEXT, boat TEXT)",
    "CREATE TABLE boats(name TEXT PRIMARY KEY, length) WITHOUT ROWID",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 300) "
    "INSERT INTO berths SELECT i, 'free', NULL FROM n",
    "INSERT INTO boats VALUES ('Curlew', 7), ('Marram', 9)",
)


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_the_second_snapshot_opens_the_changes_of_the_new_step(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int]
) -> None:
    path = make(*_T, journal="WAL")
    async with driven(path, size) as driver:
        await driver.sees("s: snapshot")
        await driver.press("s")
        await driver.sees("s1 taken", "trail starts")
        writer = app(path)
        writer.run("UPDATE berths SET state = 'held', boat = '' WHERE id = 250")
        writer.run("INSERT INTO boats VALUES ('Wigeon', NULL)")
        writer.run("DELETE FROM boats WHERE name = 'Curlew'")
        await driver.sees("+1 ~1 -1")
        await driver.press("s")
        await driver.sees("changes of s2", "as of s2", "free → held", '∅ → ""', "+ Wigeon", "- Cur")
        assert driver.changes.has_focus


async def test_a_change_leads_to_its_record_and_back(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_T, journal="WAL")
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        writer = app(path)
        writer.run("UPDATE berths SET state = 'held', boat = 'Marram' WHERE id = 250")
        writer.run("UPDATE boats SET length = 9.0 WHERE name = 'Marram'")
        await driver.press("s")
        await driver.sees("changes of s2", "9 → 9.0")
        await driver.press("enter")
        await driver.sees("row 250 of 300", "~     250", "was free")
        assert driver.sheet.has_focus
        assert driver.sheet.cursor_column == 1
        await driver.press("backspace")
        await driver.sees("changes of s2")
        current = driver.changes.current
        assert current is not None
        assert current.record.key == (250,)
        await driver.press("down", "enter")
        await driver.sees("boats", "row 2 of 2", "was 9")
        await driver.press("backspace")
        assert driver.changes.current is not None
        assert driver.changes.current.record.key == ("Marram",)


async def test_a_removed_record_is_shown_where_it_still_was(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("DELETE FROM berths WHERE id = 200")
        await driver.press("s")
        await driver.sees("changes of s2", "- 200")
        await driver.press("enter")
        await driver.sees("as of s2", "a removed record", "-     200", "  201", "- removed")
        await driver.press("backspace")
        await driver.sees("changes of s2", "- 200")
        assert driver.changes.current is not None
        assert driver.changes.current.record.key == (200,)


async def test_walking_the_steps_makes_every_view_speak_of_them(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        writer = app(path)
        for number in (1, 2, 3):
            await driver.press("s")
            await driver.until(lambda n=number: len(driver.steps) == n)  # type: ignore[misc]
            writer.run("INSERT INTO berths(state) VALUES (?)", f"after s{number}")
        await driver.press("r", "n")
        await driver.sees("live", "303 rows", "+1")
        await driver.press("left_square_bracket")
        await driver.sees("as of s3", "302 rows")
        await driver.press("end")
        await driver.sees("after s2", "+     302")
        await driver.press("left_square_bracket", "left_square_bracket", "left_square_bracket")
        await driver.sees("as of s1", "300 rows")
        await driver.press("c")
        await driver.sees("The trail starts with this snapshot")
        await driver.press("right_square_bracket")
        await driver.sees("changes of s2", "+ 301")
        await driver.press("right_square_bracket", "right_square_bracket", "right_square_bracket")
        await driver.sees("changes since s3", "+ 303")


async def test_a_click_on_the_trail_selects_its_step(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("DELETE FROM boats")
        await driver.press("s")
        await driver.sees("changes of s2")
        place = driver.lines[-3].index("s1")
        await driver.click("TrailStrip", (place, 1))
        await driver.sees("as of s1")
        await driver.click("TrailStrip", (driver.lines[-3].index("now"), 1))
        await driver.sees("live")


async def test_changes_without_a_trail_say_what_to_do(make: MakeDatabase) -> None:
    async with driven(make(*_T)) as driver:
        await driver.press("c")
        await driver.sees("There are no snapshots yet", "Press s to take a snapshot")


async def test_nothing_written_is_said_plainly(make: MakeDatabase) -> None:
    async with driven(make(*_T)) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        await driver.press("s")
        await driver.sees("changes of s2", "Nothing was written")


async def test_a_label_is_asked_for_and_checked_while_it_is_typed(make: MakeDatabase) -> None:
    async with driven(make(*_T)) as driver:
        await driver.press("S", *"start", "enter")
        await driver.sees("s1 taken")
        assert driver.steps[0].after.label == "start"
        await driver.press("S", *"start")
        await driver.sees("is the label of an earlier snapshot")
        await driver.press("enter")
        await driver.sees("is the label of an earlier snapshot")
        await driver.press("2", "enter")
        await driver.sees("changes of s2 start2")
        await driver.press("S", "x", "escape")
        await driver.until(lambda: not driver.dialog_is_open)
        assert len(driver.steps) == 2


async def test_an_action_is_a_step_of_its_own(harbour: Path) -> None:
    with harbour_desk(harbour, "2026-06-14T14:02:11") as actions:
        async with driven(harbour, actions=actions) as driver:
            await driver.press("s")
            await driver.sees("s1 taken")
            await driver.press("a")
            await driver.sees("Run one of the app's actions", "cancel a booking")
            await driver.press("down", "down", "enter")
            await driver.sees("sell fuel: 42.5 litres sold")
            await driver.sees("changes of s2 sell fuel", "fuel_sales  +1", '  ""')


async def test_an_app_that_does_not_answer_is_a_message(make: MakeDatabase) -> None:
    action = Action("sell fuel", Request("POST", "http://127.0.0.1:9/actions/sell-fuel"))
    async with driven(make(*_T), actions=[action]) as driver:
        await driver.press("a")
        await driver.sees("Run one of the app's actions")
        await driver.press("enter")
        await driver.sees("nothing answers at http://127.0.0.1:9")


async def test_what_another_jondel_recorded_appears(
    make: MakeDatabase,
    app: OpenApp,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        await driver.sees("s: snapshot")
        database = opened(path)
        trail_of(database).take(database, "elsewhere")
        await driver.sees("elsewhere", "no changes")
        app(path).run("DELETE FROM boats")
        trail_of(database).take(database, "emptied")
        await driver.sees("emptied", "-2")


async def test_the_trail_is_there_again_after_a_restart(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        await driver.press("S", *"start", "enter")
        await driver.sees("s1 taken")
        app(path).run("DELETE FROM boats")
        await driver.press("s")
        await driver.sees("changes of s2")
    async with driven(path) as driver:
        await driver.sees("start", "s2", "-2")
        await driver.press("left_square_bracket", "c")
        await driver.sees("changes of s2", "- Curlew")


async def test_a_snapshot_that_fails_is_a_message_and_everything_goes_on(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    async with driven(path) as driver:
        await driver.sees("s: snapshot")
        holder = app(path)
        holder.run("BEGIN EXCLUSIVE")
        await driver.press("s")
        await driver.sees("held by")
        holder.run("COMMIT")
        await driver.press("escape", "s")
        await driver.sees("s1 taken")


async def test_a_long_trail_scrolls_and_says_how_much_is_out_of_sight(
    make: MakeDatabase,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    for number in range(30):
        trail.take(database, f"step {number}")
    async with driven(path, SMALL) as driver:
        await driver.sees("step 29", "‹")
        assert "step 0 " not in driver.text
        await driver.press(*["left_square_bracket"] * 30)
        await driver.sees("step 0 ", "›", "as of s1")


async def test_keys_are_explained_in_place(make: MakeDatabase) -> None:
    async with driven(make(*_T), SMALL) as driver:
        await driver.press("question_mark")
        await driver.sees("What the keys do here", "Moving in the sheet", "first row")
        await driver.press("end")
        await driver.sees("While a cell is edited")
        while "to the record of the change" not in driver.text:
            await driver.press("up")
        while "take a snapshot with a label" not in driver.text:
            await driver.press("up")
        await driver.press("home")
        while "no snapshots yet" not in driver.text:  # said once, where it comes first
            await driver.press("down")
        await driver.press("escape")
        await driver.until(lambda: not driver.dialog_is_open)


async def test_everything_can_be_called_by_name(make: MakeDatabase) -> None:
    async with driven(make(*_T)) as driver:
        await driver.press("ctrl+p")
        await driver.pilot.pause()
        await driver.press(*"changes what")
        await driver.sees("Changes: what was written")
        await driver.press("enter", "enter")
        await driver.sees("There are no snapshots yet")


async def test_a_table_is_gone_to_by_its_name_which_is_never_markup(make: MakeDatabase) -> None:
    hostile = "[b]boats[/b] [@click=app.quit]x[/]"
    async with driven(make(*_T, f'CREATE TABLE "{hostile}"(id INTEGER PRIMARY KEY)')) as driver:
        await driver.press("ctrl+p")
        await driver.pilot.pause()
        await driver.press(*"click")
        await driver.sees(hostile, "to the table")
        await driver.press("enter", "enter")
        await driver.until(lambda: driver.table is not None)
        await driver.until(lambda: driver.table.name == hostile)  # type: ignore[union-attr]


async def test_dark_and_light_are_one_key_apart(make: MakeDatabase) -> None:
    async with driven(make(*_T)) as driver:
        assert driver.app.theme == "dusk"
        await driver.press("T")
        assert driver.app.theme == "morning"
        await driver.press("T")
        assert driver.app.theme == "dusk"


async def test_leaving_in_the_midst_of_work_is_no_failure(harbour: Path) -> None:
    for keys in ((), ("s",), ("s", "s"), ("t", "down", "down", "end")):
        app = JondelApp(str(harbour))
        async with app.run_test(size=WIDE) as pilot:
            for key in keys:
                await pilot.press(key)
            await pilot.press("ctrl+q")
        assert app.failure is None
        assert app.return_code == 0
