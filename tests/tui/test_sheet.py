"""What a person does with a sheet: sort, filter, lay out, add up, go about, keep several open."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import pytest
from driving import SMALL, Driver, driven
from textual.widgets import Input, TextArea

from conftest import MakeDatabase, OpenApp
from jondel.core.browse.windows import WindowCache
from jondel.core.engines.protocol import Extent
from jondel.core.model.addresses import TableId
from jondel.tui.widgets.sheet.sheet import Sheet

_BOATS = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL, berth INTEGER, "
    "status TEXT DEFAULT 'held', length REAL)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 300) "
    "INSERT INTO boats SELECT i * 2, printf('Gull %03d', 301 - i), i % 7, "
    "CASE i % 3 WHEN 0 THEN 'paid' WHEN 1 THEN 'held' ELSE NULL END, i / 4.0 FROM n",
    "CREATE TABLE crews(boat INTEGER, seat INTEGER, name TEXT, PRIMARY KEY (boat, seat)) "
    "WITHOUT ROWID",
    "INSERT INTO crews SELECT id, 1, 'Skipper ' || id FROM boats",
    "INSERT INTO crews SELECT id, 2, 'Mate ' || id FROM boats WHERE id % 4 = 0",
    "CREATE VIEW by_berth AS SELECT berth, count(*) AS boats, sum(length) AS total "
    "FROM boats GROUP BY berth",
)


def _shown(driver: Driver, column: int) -> list[object]:
    sheet = driver.sheet
    found = [sheet.record_at(line) for line in range(min(20, sheet.rows))]
    return [entry[1][column] for entry in found if entry is not None and entry[1]]


async def _at(driver: Driver, table: str, column: str) -> None:
    """Go to a table and one of its columns."""
    await driver.open_table(table, column)


async def test_a_column_is_sorted_up_down_and_not(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "name")
        await driver.press("o")
        await driver.sees("sorted by name ↑", "row 1 of 300")
        assert _shown(driver, 0)[:3] == [600, 598, 596]
        assert driver.sheet.column_name == "name"
        await driver.press("end")
        await driver.until(lambda: driver.sheet.current_position == (2,))
        await driver.press("o")
        await driver.sees("sorted by name ↓")
        assert _shown(driver, 0)[:3] == [2, 4, 6]
        await driver.press("o")
        await driver.until(lambda: "sorted" not in driver.text)


async def test_a_second_column_sorts_among_equals(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("o")
        await driver.sees("sorted by status ↑")
        driver.sheet.go_to(0, "length")
        await driver.press("O", "O")
        await driver.sees("sorted by status ↑, length ↓")
        assert _shown(driver, 3)[0] is None
        assert _shown(driver, 4)[:2] == [74.75, 74.0]


@pytest.mark.parametrize("table", ["crews", "by_berth"])
async def test_what_has_no_row_numbers_is_sorted_too(make: MakeDatabase, table: str) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, table, "boat" if table == "crews" else "boats")
        await driver.press("o", "o")
        await driver.sees("↓")
        column = 0 if table == "crews" else 1
        values = _shown(driver, column)
        assert values == sorted(values, reverse=True)  # type: ignore[type-var]


async def test_only_this_value_and_everything_but_it_stack_and_are_put_off(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign")
        await driver.sees("where status is held", "100 of 300 rows")
        driver.sheet.go_to(0, "berth")
        await driver.press("exclamation_mark")
        await driver.sees("and berth is not 1", "of 300 rows")
        assert 1 not in _shown(driver, 2)
        assert set(_shown(driver, 3)) == {"held"}
        await driver.press("F")
        await driver.sees("off: status is held", "300 rows")
        await driver.press("F")
        await driver.sees("where status is held and berth is not 1")


async def test_null_is_filtered_by_its_own_condition(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("down", "equals_sign")
        await driver.sees("where status is NULL", "100 of 300 rows")


async def test_words_conditions_and_sql_show_each_other(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "name")
        await driver.press("f")
        await driver.press(*"29")
        await driver.sees("any column contains 29", "\"name\" LIKE '%29%'")
        await driver.press("tab", "end", "enter")  # the list: add a condition
        await driver.sees("A condition")
        await driver.press("enter", *"Gull 029", "enter")
        await driver.sees("name is Gull 029")
        sql = driver.app.screen.query_one("#filter-sql", Input)
        await driver.until(lambda: sql.value.endswith("AND \"name\" = 'Gull 029'"))
        await driver.press("o")
        await driver.sees("or  ")
        await driver.press("ctrl+s")
        await driver.sees("of 300 rows", "any column contains 29 or name is Gull 029")


async def test_a_condition_in_sql_is_read_back_into_conditions(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "name")
        await driver.press("f", "tab", "tab")
        await driver.press(*"berth in (1, 2) and length(name) = ")
        await driver.sees("syntax error")
        await driver.press("8")
        await driver.sees("berth one of 1, 2", "length(name) = 8")
        await driver.press("enter")
        await driver.sees("where berth one of 1, 2 and length(name) = 8", "86 of 300 rows")


async def test_sql_is_completed_by_columns_what_follows_and_values(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "name")
        await driver.press("f", "tab", "tab", *"sta")
        await driver.sees(" status  ", "→ accept")
        await driver.press("right", "space")
        await driver.sees(" =  <>  <  ")
        await driver.press("right", "space")
        await driver.sees(" 'held'  'paid'  ")
        await driver.press("down", "right")
        sql = driver.app.screen.query_one("#filter-sql", Input)
        assert sql.value == "status = 'paid'"
        await driver.press("space")
        await driver.sees(" AND  OR ")
        await driver.press("left", "left")
        await driver.until(lambda: "→ accept" not in driver.text)
        await driver.press("enter")
        await driver.sees("where status is paid", "100 of 300 rows")


async def test_a_filter_that_fits_no_more_says_so_and_can_be_changed(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign")
        await driver.sees("100 of 300 rows")
        app(path).run("ALTER TABLE boats RENAME COLUMN status TO state")
        await driver.sees("has no column 'status'", "Press f")
        await driver.press("F")
        await driver.sees("300 rows", "Gull 300")


async def test_columns_are_hidden_moved_widened_and_found_so_again(make: MakeDatabase) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _at(driver, "boats", "status")
        await driver.press("left_curly_bracket", "left_curly_bracket")
        await driver.until(
            lambda: driver.sheet.shown_columns == ["id", "status", "name", "berth", "length"]
        )
        assert driver.sheet.column_name == "status"
        width = driver.sheet.current_width
        await driver.press("greater_than_sign")
        assert driver.sheet.current_width == width + 4
        driver.sheet.go_to(0, "berth")
        await driver.press("z")
        await driver.sees("1 column hidden")
        await driver.press("k", "home", "space", "enter")
        await driver.sees("2 columns hidden")
        await driver.press("down")
    async with driven(path) as driver:
        assert driver.sheet.shown_columns == ["status", "name", "length"]
        assert driver.sheet.cursor_row == 1
        await driver.press("k", "Z", "full_stop", "enter")
        await driver.until(
            lambda: driver.sheet.shown_columns == ["id", "name", "berth", "status", "length"]
        )


async def test_the_key_stays_in_place_when_the_columns_scroll(make: MakeDatabase) -> None:
    path = make(
        "CREATE TABLE wide(id INTEGER PRIMARY KEY, "
        + ", ".join(f"c{number} TEXT" for number in range(60))
        + ")",
        "INSERT INTO wide(id, c0, c59) VALUES (4711, 'first', 'last')",
    )
    async with driven(path, SMALL) as driver:
        await driver.press("ctrl+end")
        await driver.sees("4711", "last", "c59")
        assert "first" not in driver.text


async def test_the_tally_is_of_the_filtered_or_the_chosen_rows(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "length")
        await driver.press("y")
        await driver.sees(
            "length", "rows 300", "distinct 300", "min 0.25", "max 75.0", "sum 11287.5"
        )
        await driver.press("space", "space")
        await driver.sees("2 selected", "selected 2", "sum 0.75", "mean 0.375")
        await driver.press("y")
        await driver.until(lambda: "distinct" not in driver.text)


async def test_one_goes_to_a_row_by_number_and_by_key(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "name")
        await driver.press("j", *"#250", "enter")
        await driver.sees("row 250 of 300")
        await driver.press("j", *"42", "enter")
        await driver.sees("row 21 of 300")
        await driver.press("j", *"43", "enter")
        await driver.sees("no record with id 43")
        await driver.press("o", "j", *"42", "enter")
        await driver.sees("row 280 of 300", "Gull 280")
        await _at(driver, "crews", "name")
        await driver.press("j", *"8,2", "enter")
        await driver.sees("Mate 8", "row 6 of 450")


async def test_several_tables_stay_open_each_as_it_was_left(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "berth")
        await driver.press("o", "end")
        await driver.sees("sorted by berth")
        await _at(driver, "crews", "name")
        await driver.sees("1 boats", "2 crews")
        await driver.press("1")
        await driver.sees("sorted by berth ↑", "row 300 of 300")
        assert driver.sheet.column_name == "berth"
        await driver.press("full_stop")
        await driver.sees("Skipper 2", "row 1 of 450")
        await driver.press("0")
        await driver.sees("sorted by berth ↑")
        assert "2 crews" not in driver.text


async def test_two_sheets_side_by_side_are_worked_in_by_turns(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "crews", "name")
        await _at(driver, "boats", "name")
        await driver.press("vertical_line")
        await driver.sees("Gull 300", "Skipper 2")
        await driver.press("end")
        await driver.sees("row 450 of 450", "row 1 of 300")
        await driver.press("shift+tab", "down")
        await driver.sees("row 450 of 450", "row 2 of 300")
        await driver.press("vertical_line")
        await driver.until(lambda: len(driver.screen.query(Sheet)) == 1)
        await driver.sees("row 2 of 300")
        assert "Skipper" not in driver.text


async def test_two_sheets_need_room(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS), SMALL) as driver:
        await driver.press("vertical_line")
        await driver.sees("need a terminal at least")


async def test_the_statement_is_shown_in_every_style_and_another_is_pasted(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign")
        await driver.sees("100 of 300")
        await driver.press("q")
        await driver.sees("with literals", "WHERE \"status\" = 'held'")
        await driver.press("m", "m")
        await driver.sees('"status" = :status', ":status  held")
        await driver.press("c")
        assert driver.app.clipboard.endswith("-- values: 'held'")
        await driver.press("p", *"select name, boat from crews where seat = 2 order by name desc")
        await driver.press("ctrl+s")
        await driver.sees("crews", "where seat is 2 sorted by name ↓", "Mate 96", "1 column hidden")


async def test_what_the_app_writes_is_noticed_in_a_sorted_sheet(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await driver.press("o", "down", "down")
        await driver.until(lambda: driver.sheet.current_position == (596,))
        app(path).run("INSERT INTO boats(id, name) VALUES (1, 'Aal')")
        await driver.sees("row 4 of 301")
        assert driver.sheet.current_position == (596,)
        app(path).run("UPDATE boats SET status = 'fresh' WHERE id = 596")
        await driver.sees("∙", "fresh")
        assert driver.sheet.current_position == (596,)
        await driver.press("home")
        await driver.sees("Aal", "row 1 of 301")


async def test_the_order_is_put_off_to_show_a_changed_record(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign")
        await driver.sees("100 of 300")
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE boats SET name = 'Tern' WHERE id = 4")
        await driver.press("c")
        await driver.sees("Gull 299", "Tern")
        await driver.press("enter")
        await driver.sees("off: status is held", "row 2 of 300")


async def test_a_broken_file_of_sheets_is_no_hindrance(make: MakeDatabase, home: Path) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await _at(driver, "boats", "name")
        await driver.press("o")
        await driver.sees("sorted by name")
    (kept,) = (home / "sheets").iterdir()
    assert kept.stat().st_mode & 0o777 == 0o600
    kept.write_text(kept.read_text().replace("[", "{"))
    async with driven(path) as driver:
        await driver.sees("Gull 300")


async def test_a_value_is_found_anywhere_and_gone_to(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign")
        await driver.sees("100 of 300")
        await driver.press("slash", *"skipper 8", "enter")
        await driver.sees("6 hits", "Skipper 8", "Skipper 80")
        await driver.press("ctrl+o")
        await driver.sees("1 hit", "whole values")
        await driver.press("enter")
        await driver.sees("crews", "row 5 of 450")
        assert driver.sheet.column_name == "name"
        await driver.press("slash", *"nowhere at all", "enter")
        await driver.sees("0 hits", "in every table")
        await driver.press("escape")
        await driver.until(lambda: not driver.dialog_is_open)


async def test_a_value_is_found_among_the_changes_only(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE boats SET name = 'Skipper Blue' WHERE id = 4")
        await driver.sees("~1")
        await driver.press("slash", *"skipper", "enter")
        await driver.sees("301 hits")
        await driver.press("ctrl+t")
        await driver.sees("1 hit", "in changes only")
        await driver.press("enter")
        await driver.sees("Gull 299", "Skipper Blue")


async def test_a_hundred_tables_of_which_most_are_empty_are_walked(make: MakeDatabase) -> None:
    statements = [f"CREATE TABLE t{n:03}(id INTEGER PRIMARY KEY, v TEXT)" for n in range(100)]
    statements += [f"INSERT INTO t{n:03}(v) VALUES ('row of {n}')" for n in range(0, 100, 3)]
    async with driven(make(*statements)) as driver:
        await driver.sees("tables 100")
        await driver.press("t", "end", "enter")
        await driver.sees("t099", "row of 99")
        await driver.press("t", "up", "enter")
        await driver.sees("t098  0 rows", "No records.")
        await driver.press("o", "equals_sign", "y", "end", "v", "r")
        await driver.sees("t098")
        await driver.press("slash", *"row of 9", "enter")
        await driver.sees("5 hits", "row of 90")


async def test_a_table_left_before_it_came_keeps_its_filter_to_itself(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its order takes long, so one goes back to the table that is still shown, or stops it."""
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "status")
        await driver.press("equals_sign", "o")
        await driver.sees("where status is held", "sorted by status")
        await _at(driver, "crews", "name")
        rows = driver.workspace.rows
        begun = asyncio.Event()

        async def never(*given: Any, **named: Any) -> AsyncIterator[WindowCache]:
            begun.set()
            await asyncio.Event().wait()
            yield WindowCache(given[1], Extent(0))

        monkeypatch.setattr(rows, "arranged", never)
        await driver.press("1")
        await asyncio.wait_for(begun.wait(), 20)
        await driver.sees("opening boats")
        assert driver.table is not None
        assert (driver.table.name, driver.sheet.column_name) == ("crews", "name")
        await driver.press("escape")
        await driver.sees("cancelled")
        await driver.press("1", "2")
        await driver.pilot.pause(0.3)
        assert (driver.table.name, driver.sheet.column_name) == ("crews", "name")
        assert driver.sheet_state.natural
        assert "sorted" not in driver.text
        monkeypatch.undo()
        await driver.press("o")
        await driver.sees("sorted by name", "row 1 of 450")
        assert driver.workspace.sheets.of(TableId("boats")).order[0].column == "status"
        await driver.press("1")
        await driver.sees("where status is held", "sorted by status ↑", "100 of 300 rows")


async def test_a_statement_pasted_for_another_table_leaves_this_one_alone(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "crews", "name")
        await driver.press("q")
        await driver.sees("SELECT")
        await driver.press("p")
        area = driver.app.screen.query_one("#statement-paste", TextArea)
        area.text = "SELECT * FROM boats WHERE berth = 3 ORDER BY length DESC"
        await driver.press("ctrl+s")
        await driver.sees("where berth is 3", "sorted by length ↓")
        assert driver.workspace.sheets.of(TableId("crews")).natural
        await driver.press("2")
        await driver.sees("crews  450 rows")


async def test_a_click_on_a_heading_sorts_and_two_on_a_cell_edit_it(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await _at(driver, "boats", "id")
        name = driver.lines[2].index("name") - driver.sheet.region.x
        await driver.click(Sheet, (name, 0))
        await driver.sees("sorted by name ↑")
        await driver.click(Sheet, (name, 4), times=2)
        await driver.until(lambda: driver.editor is not None)
        assert driver.editor is not None
        assert driver.editor.value == "Gull 003"
