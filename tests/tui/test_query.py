"""The query view: asked, tried out, written, kept; and what is offered while one writes."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from typing import cast

import apsw
import pytest
from driving import SMALL, Driver, driven
from textual.events import Paste

from conftest import MakeDatabase, OpenApp
from jondel.tui.views.query.view import QueryView

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL, length REAL)",
    "CREATE TABLE bookings(id INTEGER PRIMARY KEY, boat_id INT REFERENCES boats, status TEXT)",
    "INSERT INTO boats VALUES (1, 'Gull', 7.5), (2, 'Tern', 9)",
    "INSERT INTO bookings VALUES (1, 1, 'held'), (2, 2, 'paid'), (3, 2, 'held')",
)
_KEYS = {"\n": "enter", " ": "space", "'": "apostrophe", "=": "equals_sign", ",": "comma",
         ".": "full_stop", "*": "asterisk", "(": "left_parenthesis", ")": "right_parenthesis",
         ":": "colon", ";": "semicolon", ">": "greater_than_sign", "%": "percent_sign",
         "-": "minus", "+": "plus", "<": "less_than_sign", "_": "underscore"}  # fmt: skip


async def typed(driver: Driver, text: str) -> None:
    """Type a text, key by key."""
    for character in text:
        await driver.press(_KEYS.get(character, character))


async def in_query(driver: Driver) -> QueryView:
    """Go to the query view."""
    await driver.press("Q")
    await driver.until(lambda: driver.desk.navigator.view == "query")
    return cast(QueryView, driver.desk.views.require("query"))


def rows(path: Path, sql: str) -> list[tuple[object, ...]]:
    with closing(apsw.Connection(str(path))) as connection:
        return list(connection.execute(sql))


async def test_a_question_is_asked_and_its_rows_are_a_sheet(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        await typed(driver, "select * from bookings where status = 'held'")
        await driver.press("ctrl+g")
        await driver.sees("2 rows")
        await driver.press("escape", "enter", "down")
        await driver.until(lambda: view.current is not None)
        await driver.sees("boat_id  → boats.id", "points to")
        await driver.press("enter")
        await driver.until(lambda: driver.desk.navigator.view == "records")
        await driver.sees("rows of a statement", "row 2 of 2")
        await driver.press("o")
        await driver.press("v", "end", "enter")
        await driver.sees("live")
        await driver.until(lambda: driver.table is not None and driver.table.name == "boats")
        await driver.press("backspace", "backspace")
        await driver.until(lambda: driver.desk.navigator.view == "query")


async def test_what_writes_is_tried_out_then_written_as_a_step(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await in_query(driver)
        await typed(driver, "update boats set name = upper(name) where id = :id")
        await driver.press("ctrl+g")
        await driver.sees("The values of the parameters")
        await driver.press("2", "enter")
        await driver.sees("nothing is written yet", "Tern → TERN", "rehearsed")
        assert rows(path, "SELECT name FROM boats WHERE id = 2") == [("Tern",)]
        assert driver.steps == []
        await driver.press("ctrl+s")
        await driver.sees("written: 1 record · it is step s2")
        assert rows(path, "SELECT name FROM boats WHERE id = 2") == [("TERN",)]
        assert [step.after.trigger.kind for step in driver.steps] == ["query", "query"]
        # The value that was given is offered the next time.
        await driver.press("ctrl+g")
        await driver.sees("The values of the parameters", " 2 ", "number")


async def test_writing_after_the_app_wrote_shows_what_would_differ(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await in_query(driver)
        await typed(driver, "delete from bookings where status = 'held'")
        await driver.press("ctrl+g")
        await driver.sees("-2", "nothing is written yet")
        app(path).run("UPDATE bookings SET status = 'held' WHERE id = 2")
        await driver.press("ctrl+s")
        await driver.sees("it would change something else now", "-3")
        assert len(rows(path, "SELECT * FROM bookings")) == 3
        await driver.press("ctrl+s")
        await driver.sees("written: 3 records")
        assert rows(path, "SELECT * FROM bookings") == []


async def test_what_was_asked_is_there_the_next_time(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await in_query(driver)
        await typed(driver, "select 1 as one; select nme; select 3")
        await driver.press("ctrl+l")
        await driver.sees("1 row", "no such column: nme", "↑ here", "not run")
        await driver.press("escape", "up", "p")
        await driver.sees("pinned")
    async with driven(path) as driver:
        view = await in_query(driver)
        await driver.sees("select 1 as one", "select nme", "not run", "pinned")
        assert [block.entry.fate for block in view.blocks] == ["done", "failed", "not run"]
        assert len({block.entry.run for block in view.blocks}) == 1
        await driver.press("escape", "home", "e")
        await driver.until(lambda: view.box.entered == "select 1 as one")
        await driver.press("escape", "up", "up", "ctrl+g")
        await driver.until(lambda: len(view.blocks) == 4)
        await driver.press("end", "delete")
        await driver.until(lambda: len(view.blocks) == 3)
        await driver.press("up", "delete")
        await driver.sees("pinned; p lets it go first")


async def test_a_step_is_asked_and_nothing_of_it_can_be_written(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute("DELETE FROM bookings")
        view = await in_query(driver)
        await typed(driver, "select count(*) from bookings")
        await driver.press("ctrl+g")
        await driver.until(lambda: len(view.blocks) == 1)
        await driver.press("escape", "left_square_bracket")
        await driver.sees("asks s1")
        await driver.press("ctrl+g")
        await driver.until(lambda: len(view.blocks) == 2)
        sheets = [block.sheet for block in view.blocks if block.sheet is not None]
        assert [sheet.source.row(0)[1] for sheet in sheets] == [(0,), (3,)]  # type: ignore
        view.bring("delete from bookings")
        await driver.press("ctrl+g")
        await driver.sees("rehearsed", "-3")
        await driver.press("ctrl+s")
        await driver.sees("nothing was tried out that could be written")
        assert len(rows(path, "SELECT * FROM boats")) == 2


async def test_a_question_that_never_ends_is_stopped(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        view.bring(
            "with recursive n(x) as (select 1 union all select x + 1 from n) select max(x) from n"
        )
        await driver.press("ctrl+g")
        await driver.sees("running", "Escape stops it")
        await driver.press("escape")
        await driver.until(lambda: "running" not in driver.text)
        view.bring("select 42 as after")
        await driver.press("ctrl+g")
        await driver.sees("42")


async def test_rows_without_end_come_up_to_a_limit(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        endless = "with recursive n(x) as (select 1 union all select x + 1 from n"
        view.bring(f"{endless}) select x, 'é' || x from n")
        await driver.press("ctrl+g")
        await driver.sees("first 10 000 rows")
        view.bring(f"{endless} where x < 12000) select x from n")
        await driver.press("ctrl+g")
        await driver.until(lambda: len(view.blocks) == 2)
        await driver.press("escape", "A")
        await driver.sees("12 000 rows")


async def test_read_only_stays_read_only(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path, read_only=True) as driver:
        await in_query(driver)
        await driver.sees("read-only")
        await typed(driver, "delete from bookings")
        await driver.press("f9", "ctrl+g")
        await driver.sees("Jondel writes nothing to this database")
        await driver.press("f9", "ctrl+g")
        await driver.sees("rehearsed", "-3")
        await driver.press("ctrl+s")
        await driver.sees("read-only: Ctrl+R changes that")
        assert len(rows(path, "SELECT * FROM bookings")) == 3


async def test_foreign_keys_are_a_choice_that_the_project_keeps(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await in_query(driver)
        await typed(driver, "delete from boats where id = 1")
        await driver.press("ctrl+g")
        await driver.sees("FOREIGN KEY constraint failed")
        await driver.press("f8")
        await driver.sees("foreign keys are not enforced")
        await driver.press("ctrl+g")
        await driver.sees("rehearsed", "-1")
        assert not await driver.workspace.trail.rules_changed()
    assert 'foreign_keys = "off"' in (path.parent / "jondel.toml").read_text("utf-8")


async def test_what_can_follow_is_offered_and_what_is_wrong_is_marked(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        await typed(driver, "select * from bo")
        await driver.sees("Tab takes")
        await driver.press("ctrl+n", "tab")
        await driver.until(lambda: view.box.entered.startswith("select * from bo") and len(
            view.box.entered) > 16)  # fmt: skip
        view.bring("select * from bookings b join boats s on ")
        await driver.sees("b.boat_id = s.id")
        view.bring("select * from bookings where status = ")
        await driver.sees("'held'", "'paid'")
        view.bring("select nme from boats where 1 = 1 ")
        await driver.sees("no such column: nme")
        view.bring("delete from bookings ")
        await driver.sees("no WHERE: it removes all 3 records of bookings")
        view.bring("insert into boats values (1, ")
        await driver.sees("value 2 of 3: name text not null")


async def test_hostile_names_and_values_are_data(make: MakeDatabase) -> None:
    bad = '"[red]x\x1b[2J"'
    path = make(f"CREATE TABLE {bad}(a)", f"INSERT INTO {bad} VALUES ('[bold]\x1b]0;t\x07')")
    async with driven(path, SMALL) as driver:
        view = await in_query(driver)
        view.bring(f"select a as {bad} from {bad}")
        await driver.press("ctrl+g")
        await driver.sees("1 row")
        assert "\x1b" not in driver.text
        assert "\x07" not in driver.text
        assert view.blocks[0].entry.sql == f"select a as {bad} from {bad}"


@pytest.mark.parametrize("size", [SMALL, (200, 60)])
async def test_it_fits_any_terminal(make: MakeDatabase, size: tuple[int, int]) -> None:
    async with driven(make(*HARBOUR), size) as driver:
        view = await in_query(driver)
        for text in ("select * from boats", "update boats set length = 1", "select x"):
            view.bring(text)
            count = len(view.blocks)
            await driver.press("ctrl+g")
            await driver.until(lambda count=count: len(view.blocks) == count + 1)
        await driver.sees("2 rows", "rehearsed", "failed")
        assert all(len(line) <= size[0] for line in driver.lines)


async def test_statements_come_from_the_sheet_the_change_and_the_tape(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await driver.press("t", *"boats", "enter", "B")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        view = await in_query(driver)
        await driver.until(lambda: "FROM" in view.box.entered and "boats" in view.box.entered)
        view.bring("update boats set length = 1 where id = 1")
        await driver.press("ctrl+g")
        await driver.sees("nothing is written yet")
        await driver.press("ctrl+s")
        await driver.sees("written: 1 record")
        await driver.press("escape", "c", "left_square_bracket")
        await driver.sees("changes of s2")
        view.bring("")
        await driver.press("escape")
        driver.desk.focus_view()
        await driver.press("B")
        await driver.until(lambda: "SET length = 1.0" in view.box.entered)
        assert view.box.entered.startswith("UPDATE boats")
        await driver.press("f2")
        await driver.press("escape", "slash")
        await driver.sees("Find on the tape")
        await driver.press(*"length", "enter")
        await driver.until(lambda: not driver.dialog_is_open)
        await driver.press("C")
        await driver.sees("Copy the statement as", "Python", "C#")
        await driver.press(*"javascr", "enter")
        await driver.sees("copied: JavaScript")


async def test_files_of_statements_are_opened_and_saved(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    file = path.parent / "queries" / "boats.sql"
    file.parent.mkdir()
    file.write_text("select name\nfrom boats;\n", "utf-8")
    async with driven(path) as driver:
        view = await in_query(driver)
        await driver.press("f4")
        await driver.sees("queries/boats.sql")
        await driver.press("enter")
        await driver.until(lambda: view.box.entered == "select name\nfrom boats;\n")
        await driver.sees("boats.sql")
        await driver.press("end", "space")
        await driver.sees("boats.sql edited")
        await driver.press("f4", "ctrl+s")
        await driver.sees("saved:")
        assert file.read_text("utf-8") == view.box.entered != "select name\nfrom boats;\n"
        file.write_text("theirs", "utf-8")
        await driver.press("x")
        await driver.sees("changed outside")
        await driver.press("f4", "ctrl+s")
        await driver.sees("nothing was written")
        assert file.read_text("utf-8") == "theirs"


async def test_the_plan_and_the_index_that_would_serve(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        view = await in_query(driver)
        view.bring("select * from bookings where status = 'held'")
        await driver.press("f5")
        await driver.sees("How it would be run", "SCAN bookings", "! reads every row",
                          "by_bookings_status", "USING INDEX")  # fmt: skip
        await driver.press("i")
        await driver.until(lambda: "CREATE INDEX" in view.box.entered)
        assert not rows(path, "SELECT * FROM sqlite_schema WHERE type = 'index'")


async def test_a_line_of_a_log_is_understood(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        view.box.post_message(Paste("DEBUG: SELECT name FROM boats WHERE id = ? [2]"))
        await driver.sees("understood as a line of a log with its values")
        assert view.box.entered == "SELECT name FROM boats WHERE id = ?"
        await driver.press("ctrl+g")
        await driver.sees("The values of the parameters", " 2 ")
        await driver.press("enter")
        await driver.sees("Tern")


async def test_two_runs_of_a_statement_are_compared(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        view = await in_query(driver)
        view.bring("select id, status from bookings")
        await driver.press("ctrl+g")
        await driver.until(lambda: len(view.blocks) == 1)
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute("UPDATE bookings SET status = 'left' WHERE id = 2")
            connection.execute("DELETE FROM bookings WHERE id = 1")
        await driver.press("ctrl+g")
        await driver.until(lambda: len(view.blocks) == 2)
        await driver.press("escape", "equals_sign")
        await driver.sees("Compare the rows with those of")
        await driver.press("enter")
        await driver.sees("paid → left", "- 1", "~1 -1")


async def test_values_are_named_before_a_statement(make: MakeDatabase) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        await typed(driver, "let long = (select id from boats where length > 8")
        await driver.press("ctrl+g")
        await driver.sees("its parentheses do not match")
        await typed(driver, ");\nlet status = paid;\nselect 1;\n")
        await typed(driver, "select * from bookings where boat_id in (:long) and status != :status")
        await driver.press("ctrl+g")
        await driver.sees("1 row")
        await typed(driver, ";\ndelete from boats")
        await driver.sees("2 records")
        await driver.press("escape", "up", "C")
        await driver.sees("Copy the statement as")
        await driver.press("enter")
        await driver.until(lambda: "boat_id in (2) and status != 'paid'" in driver.app.clipboard)
        await driver.press("e")
        await driver.until(lambda: view.box.text.startswith("let long"))
        assert "select 1" not in view.box.text


async def test_what_a_rehearsal_would_change_is_there_the_next_time(make: MakeDatabase) -> None:
    path = make(*HARBOUR)
    async with driven(path) as driver:
        await in_query(driver)
        await typed(driver, "update boats set name = upper(name) where id = 2")
        await driver.press("ctrl+g")
        await driver.sees("Tern → TERN", "nothing is written yet")
    async with driven(path) as driver:
        await in_query(driver)
        await driver.sees("rehearsed", "Tern → TERN")


async def test_parameters_have_their_earlier_values_by_a_key_and_foreign_keys_are_told(
    make: MakeDatabase,
) -> None:
    async with driven(make(*HARBOUR)) as driver:
        view = await in_query(driver)
        await driver.sees("foreign keys on")
        for count, value in enumerate(("1", "2", "3"), 1):
            await driver.press("f7", "delete")
            await typed(driver, "select :id")
            await driver.press("ctrl+g")
            await driver.sees("The values of the parameters")
            await driver.press("f7", "backspace", *["backspace"] * 3, value, "enter")
            await driver.until(lambda count=count: len(view.blocks) == count)
        await driver.press("ctrl+g")
        await driver.sees("Ctrl+N an earlier value")
        await driver.press("ctrl+n", "ctrl+n", "enter")
        await driver.until(lambda: len(view.blocks) == 4)
        assert [block.entry.parameters["id"] for block in view.blocks] == [1, 2, 3, 1]
        await driver.press("f8")
        await driver.sees("foreign keys off")
