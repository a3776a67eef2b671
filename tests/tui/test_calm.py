"""Nothing that the app does moves a person from where they are."""

from __future__ import annotations

import pytest
from driving import Driver, driven

from conftest import MakeDatabase, OpenApp

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
