"""A new table put together, and the app's SQL checked; each ends in the query's box."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import apsw
import pytest
from driving import SMALL, WIDE, Driver, driven

from conftest import MakeDatabase
from jondel.tui.views.query.access import query_view

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
    "INSERT INTO boats VALUES (1, 'Gull')",
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR)


async def added(driver: Driver, name: str) -> None:
    """Add a column to the new table."""
    await driver.press("plus")
    await driver.sees("The new column's name")
    await driver.press(*name, "enter")
    await driver.sees(name)


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["wide", "small"])
async def test_a_new_table_is_put_together_tried_out_and_written(
    path: Path, size: tuple[int, int]
) -> None:
    async with driven(path, size=size) as driver:
        await driver.press("ctrl+t")
        await driver.sees("What is the new table called?")
        await driver.press(*"boats", "enter")
        await driver.sees("there is a table boats already")
        await driver.press("t", *"sales", "enter")
        await driver.sees("CREATE TABLE sales")
        await added(driver, "boat")
        await driver.press("p")
        await driver.sees("What boat points at")
        await driver.press(*"boats", "enter")
        await driver.sees("→ boats.id")
        await driver.press("n")
        await added(driver, "litres")
        await driver.press("y", *"real", "enter")
        await driver.sees("litres REAL")
        await driver.press("d")
        await driver.sees("The default of litres")
        await driver.press("1", "enter")
        await driver.sees("default 1")
        await driver.press("left_curly_bracket", "ctrl+s")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        await driver.until(lambda: "CREATE TABLE" in query_view(driver.desk).box.entered)
        await driver.press("ctrl+l")
        await driver.sees("nothing is written yet")
        await driver.press("ctrl+s")
        await driver.sees("written")
    with closing(apsw.Connection(str(path))) as connection:
        assert connection.execute("SELECT sql FROM sqlite_schema WHERE name = 'sales'").get == (
            "CREATE TABLE sales (\n  id INTEGER PRIMARY KEY,\n  litres REAL DEFAULT (1),\n"
            "  boat INTEGER NOT NULL,\n  FOREIGN KEY (boat) REFERENCES boats (id)\n)"
        )


async def test_the_apps_sql_is_checked_and_what_is_wrong_comes_into_the_box(
    path: Path, tmp_path: Path
) -> None:
    (tmp_path / "desk.py").write_text(
        "def names(db):\n"
        "    db.execute('SELECT nmae FROM boats')\n"
        "    db.execute('SELECT name FROM boats WHERE id = ?', (1,))\n"
        "    db.execute(f'SELECT name FROM {table}')\n"
    )
    async with driven(path) as driver:
        await driver.press("f12")
        await driver.sees("desk.py:2", "unknown column", "did you mean name?", "1 not followed")
        await driver.press("u")
        await driver.sees("desk.py:4", "built at run time")
        await driver.press("u", "enter")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        await driver.until(lambda: query_view(driver.desk).box.entered == "SELECT nmae FROM boats")
        await driver.sees("desk.py:2: unknown column")


async def test_names_are_taken_from_the_list_of_tables_the_card_and_a_sheet(
    make: MakeDatabase,
) -> None:
    path = make(
        'CREATE TABLE "odd name"(id INTEGER PRIMARY KEY, "order" TEXT)',
        """INSERT INTO "odd name" VALUES (1, 'x')""",
    )
    async with driven(path) as driver:
        await driver.press("right", "insert")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        box = query_view(driver.desk).box
        await driver.until(lambda: box.entered == '"order"')
        await driver.press("comma", "escape", "t")
        await driver.until(lambda: driver.desk.table_list_has_focus)
        await driver.press("insert")
        await driver.until(lambda: box.entered == '"order","odd name"')
        assert driver.desk.table_list_has_focus
