"""What can be clicked is, and a click never does what a key would confirm."""

from __future__ import annotations

from driving import driven

import outside
from conftest import MakeDatabase, OpenApp
from jondel.tui.frame.keys import named, written
from jondel.tui.views.changes.change_list import ChangeList

_BOATS = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO berths VALUES (1, 'north')",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO boats VALUES (1, 'Gull'), (2, 'Tern')",
)


async def test_keys_in_a_dialog_are_clicked_but_nothing_is_confirmed(make: MakeDatabase) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.open_table("boats", "name")
        await driver.press("e", *"Skua", "enter")
        await driver.sees("* 1 not written")
        await driver.press("W")
        await driver.sees("Write 1 record")
        await driver.click_on("s shows the statements")
        await driver.sees('UPDATE "boats"')
        await driver.click_on("Enter writes")
        await driver.comes_to_rest()
        assert driver.dialog_is_open
        await driver.click_on("Escape cancels")
        await driver.until(lambda: not driver.dialog_is_open)
    assert outside.rows(path, "SELECT name FROM boats WHERE id = 1") == [["Gull"]]


async def test_the_draft_open_tables_and_changes_are_gone_to(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.open_table("berths", "name")
        await driver.open_table("boats", "name")
        await driver.press("e", *"Skua", "enter")
        await driver.sees("* 1 not written")
        await driver.click_on("* 1 not written")
        await driver.sees("The draft: 1 record")
        await driver.click_on("Escape closes")
        await driver.click_on("1 berths")
        await driver.sees("berths  1 row")
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE boats SET name = 'Knot' WHERE id = 2")
        await driver.press("c")
        await driver.sees("Tern → Knot")
        changes = driver.app.screen.query_one(ChangeList)
        await driver.pilot.click(changes, offset=(10, 1), times=2)
        await driver.sees("row 2 of 2", "boats  2 rows")


def test_keys_are_read_as_they_are_written() -> None:
    for key in ("enter", "escape", "delete", "ctrl+s", "s", "left_curly_bracket", "space"):
        assert named(written(key)) == key
    assert named("↑ ↓") is None
