"""Nothing that the app does moves a person from where they are."""

from __future__ import annotations

import pytest
from driving import Driver, driven

from conftest import JondelCommand, MakeDatabase, OpenApp

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
