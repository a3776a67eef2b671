"""The list of tables and the widths of the panes."""

from __future__ import annotations

import pytest
from driving import SMALL, Driver, driven

from conftest import MakeDatabase, OpenApp
from jondel.core.model.addresses import TableId
from jondel.tui.frame.table_list import TableList
from jondel.tui.widgets.pane_edge import PaneEdge

_TABLES = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY)",
    "INSERT INTO berths VALUES (1)",
    "CREATE TABLE boats(id INTEGER PRIMARY KEY)",
    "INSERT INTO boats VALUES (1), (2)",
    "CREATE TABLE boat_logs(id INTEGER PRIMARY KEY)",
    "CREATE TABLE harbour_boats(id INTEGER PRIMARY KEY)",
    "CREATE TABLE snags(id INTEGER PRIMARY KEY, what)",
    "INSERT INTO snags VALUES (1, 'wet')",
)


def _list(driver: Driver) -> TableList:
    return driver.app.screen.query_one(TableList)


def _width(driver: Driver, id: str) -> int:
    return int(driver.app.screen.query_one(id).region.width)


async def _all_is_counted(driver: Driver) -> None:
    """Wait until the list is as wide as it needs to be, whatever the counts turn out to be."""
    await driver.until(lambda: len(driver.desk.state.counts) == 5)
    await driver.comes_to_rest()


async def test_typing_in_the_list_finds_a_table_and_runs_nothing(make: MakeDatabase) -> None:
    async with driven(make(*_TABLES)) as driver:
        await driver.press("t")
        await driver.sees("a–z find a table")
        await driver.press("s")
        await driver.sees("tables 1 of 5", "snags  1 row")
        assert not driver.steps
        await driver.press("backspace", "b", "o", "a")
        await driver.sees("tables 3 of 5 boa")
        assert _list(driver).listed == [
            TableId("boat_logs"),
            TableId("boats"),
            TableId("harbour_boats"),
        ]
        await driver.press("down", "enter")
        await driver.sees("boats  2 rows", "tables 5")
        assert driver.app.focused is not _list(driver)
        assert _list(driver).current is not None
        assert _list(driver).current.name == "boats"  # type: ignore[union-attr]
        await driver.press("s")
        await driver.sees("s1 taken")


async def test_what_fits_no_table_is_not_taken_and_escape_lists_all_again(
    make: MakeDatabase,
) -> None:
    async with driven(make(*_TABLES)) as driver:
        await driver.press("t", "b", "e", "x", "z")
        await driver.sees("tables 1 of 5 be▏")
        await driver.press("escape")
        await driver.sees("tables 5")
        assert driver.app.focused is _list(driver)
        await driver.press("escape")
        await driver.until(lambda: driver.app.focused is not _list(driver))


async def test_tables_without_rows_are_one_line_on_demand_and_stay_so(make: MakeDatabase) -> None:
    path = make(*_TABLES)
    async with driven(path) as driver:
        await driver.until(lambda: driver.desk.state.counts.get(TableId("snags")) == 1)
        await driver.press("t", "space")
        await driver.sees("▸ 2 empty tables", "tables 5")
        assert "boat_logs" not in driver.text
        await driver.press("end", "enter")
        await driver.sees("boat_logs", "harbour_boats")
        await driver.press("space")
        await driver.sees("▸ 2 empty tables")
    async with driven(path) as driver:
        await driver.sees("▸ 2 empty tables")


async def test_what_the_selected_step_changed_comes_first(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_TABLES)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE snags SET what = 'dry'")
        await driver.press("s")
        await driver.sees("as of s2", "wet → dry")
        await driver.until(lambda: _list(driver).listed[0] == TableId("snags"))


async def test_panes_are_made_wider_narrower_and_away_and_stay_so(make: MakeDatabase) -> None:
    path = make(*_TABLES)
    (path.parent / ".git").mkdir()
    async with driven(path) as driver:
        await _all_is_counted(driver)
        card, tables = _width(driver, "#card-pane"), _width(driver, "#tables-pane")
        await driver.press("right_parenthesis")
        await driver.until(lambda: _width(driver, "#card-pane") == card + 4)
        await driver.press("t", "right_parenthesis", "right_parenthesis")
        await driver.until(lambda: _width(driver, "#tables-pane") == tables + 8)
    other = path.with_name("other.db")
    other.write_bytes(path.read_bytes())
    async with driven(other) as driver:  # of the same project
        await driver.until(lambda: _width(driver, "#card-pane") == card + 4)
        assert _width(driver, "#tables-pane") == tables + 8
        await driver.press("t", *["left_parenthesis"] * 8)
        await driver.sees("the list of tables is away; t brings it back")
        assert _width(driver, "#tables-pane") == 0
        assert driver.app.focused is not _list(driver)
        await driver.press("t")
        await driver.until(lambda: _width(driver, "#tables-pane") == tables)


async def test_an_edge_is_dragged(make: MakeDatabase) -> None:
    async with driven(make(*_TABLES)) as driver:
        await _all_is_counted(driver)
        edge = driver.app.screen.query_one("#tables-edge", PaneEdge)
        tables = _width(driver, "#tables-pane")
        assert edge.region.x == tables
        await driver.pilot.mouse_down(edge)
        await driver.pilot.hover(edge, offset=(6, 5))
        await driver.pilot.mouse_up(edge, offset=(0, 5))
        await driver.until(lambda: _width(driver, "#tables-pane") == tables + 6)


async def test_long_names_get_the_room_they_need_up_to_a_limit(make: MakeDatabase) -> None:
    names = [f"catalogue_{what}" for what in ("attribute", "attribute_value", "category")]
    async with driven(make(*(f"CREATE TABLE {name}(id)" for name in names))) as driver:
        await driver.sees(*names)
    endless = [f"catalogue_{'very_' * 20}{what}" for what in ("attribute", "category")]
    async with driven(make(*(f"CREATE TABLE {n}(id)" for n in endless), name="b.db")) as driver:
        await driver.sees("attribute", "category")
        assert _width(driver, "#tables-pane") < 50


@pytest.mark.parametrize("size", [SMALL], ids=["80x24"])
async def test_a_small_terminal_keeps_the_room_for_the_sheet(
    make: MakeDatabase, size: tuple[int, int]
) -> None:
    async with driven(make(*_TABLES), size) as driver:
        await _all_is_counted(driver)
        assert _width(driver, "#tables-pane") == 22
        await driver.press("right_parenthesis")
        await driver.sees("there is no room beside the view")
