"""The Verify view: running actions, accepting what they wrote, findings."""

from __future__ import annotations

import sqlite3
import sys
from contextlib import closing
from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven

from conftest import MakeDatabase
from jondel.demo.launch import harbour_desk

_CLOCK = "2026-06-14T14:02:11"


def _toml(path: Path) -> str:
    return (path.parent / "jondel.toml").read_text("utf-8")


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["wide", "small"])
async def test_from_the_demo_to_a_passing_and_a_failing_expectation(
    harbour: Path, size: tuple[int, int]
) -> None:
    with harbour_desk(harbour, _CLOCK) as actions:
        async with driven(harbour, actions=actions, size=size) as driver:
            await driver.press("V")
            await driver.sees("not run", "sell fuel", "Enter runs it")
            await driver.press("down", "down", "enter")
            await driver.sees("42.5 litres sold", "· ran")
            await driver.press("Y")
            await driver.sees("Expect this of 'sell fuel'", "≈ id", "any integer", "= pump")
            await driver.press("enter")
            await driver.sees("Begin each run from the same state?")
            await driver.press("y")
            await driver.sees("✔ met")
            assert 'from = "before sell fuel"' in _toml(harbour)
            await driver.press("enter")
            await driver.sees("sell fuel: met")
            # Another run from the same state, with something planted before it.
            with closing(sqlite3.connect(harbour)) as connection:
                connection.execute(
                    "CREATE TRIGGER planted AFTER INSERT ON fuel_sales "
                    "BEGIN UPDATE fuel_sales SET pump = 2 WHERE id = NEW.id; END"
                )
                connection.commit()
            plan = harbour.parent / "jondel.toml"
            plan.write_text(plan.read_text().replace('from = "before sell fuel"\n', ""))
            await driver.press("enter")
            await driver.sees("✘ NOT MET", "not met:")


async def test_findings_lead_to_their_records_and_are_dismissed(harbour: Path) -> None:
    with harbour_desk(harbour, _CLOCK) as actions:
        async with driven(harbour, actions=actions) as driver:
            await driver.press("V")
            await driver.sees("sell fuel")
            await driver.press("down", "down", "enter")
            await driver.sees("42.5 litres sold", "empty text", "points at nothing")
            await driver.press("o")
            await driver.sees("changes of s2 sell fuel", "! 2 findings, V")
            await driver.press("backspace")
            await driver.press("end")
            await driver.sees("bookings.id has no such value", "Enter goes to the record")
            await driver.press("enter")
            await driver.sees("invoices 373")
            await driver.press("backspace")
            await driver.sees("points at nothing")
            await driver.press("z")
            await driver.sees(
                "Dismiss such findings: why?", "points at nothing in invoices.booking_id"
            )
            await driver.press(*"known", "enter")
            await driver.sees("dismissed, in")
            await driver.until(lambda: "points at nothing" not in driver.text)
            assert 'reason = "known"' in _toml(harbour)
            await driver.press("f")
            await driver.sees("findings in all tables", "skippers.phone")


_APP = """
[[actions]]
name = "twice"
command = ["{python}", "-c", "{program}"]
settle = 0.0
"""
_PROGRAM = (
    "import sqlite3; c = sqlite3.connect('app.db'); "
    "c.execute('UPDATE boats SET name = 1'); c.commit(); "
    "c.execute('UPDATE boats SET name = 2'); c.commit(); print('done twice')"
)


async def test_an_action_of_the_file_runs_and_its_transactions_are_shown(
    make: MakeDatabase,
) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)",
                "INSERT INTO boats VALUES (1, 'Curlew')")  # fmt: skip
    text = _APP.format(python=sys.executable, program=_PROGRAM)
    (path.parent / "jondel.toml").write_text(text)
    async with driven(path) as driver:
        await driver.press("V")
        await driver.sees("twice")
        await driver.press("enter")
        await driver.sees("the app said: done twice", "2 transactions")
        await driver.press("p")
        await driver.sees("2 transactions", "They cannot be told apart here")
        await driver.press("escape", "o")
        await driver.sees("changes of s2 twice", "Curlew → 2")
        await driver.press("backspace")
        await driver.sees("the app said: done twice")


async def test_what_is_wrong_with_the_file_is_shown_and_nothing_is_lost(
    make: MakeDatabase,
) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)")
    (path.parent / "jondel.toml").write_text("[[actions]]\nname = 'x'\ncomand = 'true'\n")
    async with driven(path) as driver:
        await driver.press("V")
        await driver.sees("line 3: actions[0].comand", "did you mean command?")
        await driver.press("plus")
        await driver.sees("A new action")
        await driver.press(*"new", "down", *"true", "enter")
        await driver.sees("did you mean command?")
        assert _toml(path) == "[[actions]]\nname = 'x'\ncomand = 'true'\n"


async def test_an_action_is_written_changed_and_removed(make: MakeDatabase) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)")
    async with driven(path) as driver:
        await driver.press("V")
        await driver.sees("No actions are known")
        await driver.press("plus")
        await driver.sees("A new action")
        await driver.press(*"wait", "enter")
        await driver.sees("expected one of command, url, by_hand")
        await driver.press("down", *"true x", "enter")
        await driver.sees("wait: kept in")
        assert 'command = ["true", "x"]' in _toml(path)
        await driver.press("E")
        await driver.sees("Change the action")
        await driver.press("home", *"a", "enter")
        await driver.sees("await: kept in")
        await driver.press("enter")
        await driver.sees("await", "· ran")
        await driver.press("delete")
        await driver.sees("Remove the action 'await'?")
        await driver.press("y")
        await driver.sees("No actions are known")
        assert "[[actions]]" not in _toml(path)


async def test_what_is_done_by_hand_waits_for_the_person(make: MakeDatabase) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)")
    (path.parent / "jondel.toml").write_text(
        "[[actions]]\nname = 'add'\nby_hand = 'Add a boat'\nsettle = 0.0\n"
    )
    async with driven(path) as driver:
        await driver.press("V")
        await driver.sees("add")
        await driver.press("enter")
        await driver.sees("Do this in the app", "Add a boat")
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("INSERT INTO boats(name) VALUES ('Ebb')")
            connection.commit()
        await driver.press("y")
        await driver.sees("done by hand", "+1")


async def test_escape_stops_an_action(make: MakeDatabase) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT)")
    (path.parent / "jondel.toml").write_text(
        "[[actions]]\nname = 'long'\ncommand = 'sleep 60'\nsettle = 0.0\n"
    )
    async with driven(path) as driver:
        await driver.press("V")
        await driver.sees("long")
        await driver.press("enter")
        await driver.sees("long: running", "Escape stops it")
        await driver.press("escape")
        await driver.sees("✘ failed")


async def test_a_column_can_be_said_to_vary(make: MakeDatabase) -> None:
    path = make("CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, berth INTEGER)")
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("INSERT INTO boats(name, berth) VALUES ('Ebb', 7)")
            connection.commit()
        await driver.press("s")
        await driver.sees("changes of s2")
        await driver.press("Y")
        await driver.sees("under which name?")
        await driver.press(*"add", "enter")
        await driver.sees("Expect this of 'add'", "= berth", "7")
        await driver.press("end", "space")
        await driver.sees("≈ berth", "varies")
        await driver.press("enter")
        await driver.sees("add: expected from now on")
        assert 'berth = {any = "integer"}' in _toml(path)
        assert 'name = "Ebb"' in _toml(path)
