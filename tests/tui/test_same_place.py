"""Whatever comes late, in whatever order: everything on the screen speaks of one place."""

from __future__ import annotations

import asyncio
import random
import re
import sqlite3
from collections.abc import AsyncGenerator, Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from driving import WIDE, Driver, driven

from jondel.core.browse.windows import WindowCache
from jondel.core.engines.protocol import Database
from jondel.core.model.schema import Table
from jondel.core.trail.trail import Trail
from jondel.tui.services.moments import NOW, Moment
from jondel.tui.services.rows import Anchor
from jondel.tui.services.threads import WorkThread
from seeds import length, seeds

_STEPS, _NOW = 4, 5
_TABLES = ("berths", "boats", "crews")
_FRAMES, _FRAME_SECONDS = 15, 1 / 60
_LIST, _SHEET = slice(0, 22), slice(23, 113)
_CARD = slice(114, None)
_STEERING = (
    *("left_square_bracket", "left_square_bracket", "left_square_bracket", "right_square_bracket"),
    *("n", "c", "r", "r"),
)
_KEYS = (
    *("g", "escape"),
    *("t", "down", "up", "enter", "c", "r", "backspace", "v", "1", "2", "o", "equals_sign", "F"),
    *("m", "end", "home", "pagedown", "down", "h", "i", "e", "question_mark", "escape", "q"),
)


def _write(path: Path, number: int) -> None:
    """Have every row of every table say the number, and add a row to each."""
    with closing(sqlite3.connect(path)) as connection:
        for table in _TABLES:
            connection.execute(f"UPDATE {table} SET at = ?", (f"v{number}",))
            connection.execute(f"INSERT INTO {table}(at) VALUES (?)", (f"v{number}",))
        connection.commit()


@pytest.fixture
def with_steps(
    tmp_path: Path, opened: Callable[[Path], Database], trail_of: Callable[[Database], Trail]
) -> Callable[..., Path]:
    """Makes a database with a trail of some steps."""
    return lambda steps=_STEPS: _with_steps(tmp_path / "app.db", opened, trail_of, steps)


def _with_steps(
    path: Path,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
    steps: int,
) -> Path:
    """A database with a trail on which every value tells the moment; now is one after the last."""
    with closing(sqlite3.connect(path)) as connection:
        for number, table in enumerate(_TABLES):
            others = "".join(f", c{column}" for column in range(number))
            connection.execute(f"CREATE TABLE {table}(id INTEGER PRIMARY KEY{others}, at TEXT)")
            connection.executemany(f"INSERT INTO {table}(at) VALUES (?)", [("v0",)] * 10)
        connection.commit()
    database = opened(path)
    for number in range(1, steps + 1):
        _write(path, number)
        trail_of(database).take(database)
    _write(path, steps + 1)
    return path


def _late(chance: random.Random, monkeypatch: pytest.MonkeyPatch) -> None:
    """Have every answer of every thread come late by chance."""
    run, stream = WorkThread.run, WorkThread.stream

    async def late_run(thread: WorkThread, work: Callable[..., Any]) -> Any:
        answer = await run(thread, work)
        await asyncio.sleep(chance.choice((0, 0, 0.02, 0.1, 0.4)))
        return answer

    async def late_stream(
        thread: WorkThread, work: Callable[..., Any]
    ) -> AsyncGenerator[Any, None]:
        async for item in stream(thread, work):
            await asyncio.sleep(chance.choice((0, 0.05, 0.3)))
            yield item

    monkeypatch.setattr(WorkThread, "run", late_run)
    monkeypatch.setattr(WorkThread, "stream", late_stream)


def _moments(driver: Driver, now: int) -> dict[str, set[int]]:
    """Which moments the parts of the screen speak of; a part that shows nothing yet is left out."""
    lines = driver.lines
    head = re.search(r"as of s(\d)", lines[0])
    assert head or " live" in lines[0], lines[0]
    spoken = {"masthead": {int(head[1]) if head else now}}
    rail = next(y for y, line in enumerate(lines) if line.startswith(" trail "))
    if "which was deleted" not in lines[0]:
        title = lines[rail + 1][lines[rail].index("◉") :].split()[0]
        spoken["trail"] = {now if title == "now" else int(title[1:])}
    body = lines[1:rail]
    counts = [re.search(r"\s(\d+)\s*$", line[_LIST]) for line in body if line.startswith(_listed())]
    spoken["tables"] = {int(count[1]) - 10 for count in counts if count}
    middle = [line[_SHEET] for line in body]
    if any("changes of s" in line or "changes since" in line for line in middle[:2]):
        after = [re.findall(r"→ v(\d)", line) for line in middle]
        spoken["changes"] = {int(value) for found in after for value in found}
        title = next(line for line in middle if "changes " in line)
        of = re.search(r"changes of s(\d)", title)
        spoken["title"] = {int(of[1]) if of else now}
    elif not any("changes from" in line for line in middle[:2]):
        middle = [line for line in middle if not line.startswith(" where ")]
        spoken["sheet"] = {int(v) for line in middle for v in re.findall(r"\bv(\d)\s*$", line)}
    card = [re.sub(r"was v\d|now v\d", "", line[_CARD]) for line in body]
    if not any("changes from" in line for line in middle[:2]):
        spoken["card"] = {int(value) for line in card for value in re.findall(r"\bv(\d)", line)}
    return {part: found for part, found in spoken.items() if found}


def _listed() -> tuple[str, ...]:
    return tuple(f" {table}" for table in _TABLES)


async def _check(driver: Driver, now: int = _NOW) -> None:
    """Parts that are drawn anew tell the screen so one by one: that may take some frames, more of
    them on a busy machine. What does not speak of the same place then never does."""
    for frames_left in reversed(range(_FRAMES)):
        if driver.dialog_is_open:
            return
        spoken = _moments(driver, now)
        together = set().union(*spoken.values())
        if len(together) == 1:
            return
        assert frames_left, f"{spoken}\n{driver.text}"
        await driver.pilot.pause(_FRAME_SECONDS)


async def _arrives_where_it_was_sent(driver: Driver, chance: random.Random) -> None:
    """After several keys in a row it is the last one that counts."""
    while driver.dialog_is_open or driver.editor is not None:
        await driver.press("escape")
    await driver.press(*chance.choices(_STEERING, k=4), chance.choice(_STEERING))
    await driver.until(lambda: not (driver.desk.typed.is_busy or driver.desk.typed.are_waiting))
    wanted = driver.desk.navigator.destination.moment
    view = driver.desk.navigator.destination_view
    await driver.until(lambda: driver.desk.navigator.journey is None)
    await driver.pilot.pause(1.0)
    await _check(driver)
    assert driver.desk.place.moment == wanted
    assert driver.desk.navigator.view == view


_MANY = 8


@pytest.mark.parametrize("seed", seeds("JONDEL_PLACE_SEEDS", 2))
async def test_steps_that_are_deleted_elsewhere_are_left_and_never_taken_for_now(
    with_steps: Callable[..., Path],
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
    monkeypatch: pytest.MonkeyPatch,
    seed: int,
) -> None:
    """Another process deletes them while they are looked at, compared from, or on their way."""
    path = with_steps(_MANY)
    elsewhere = trail_of(opened(path))
    chance = random.Random(seed)
    monkeypatch.setattr("jondel.tui.services.follower._TRAIL_CHECK_SECONDS", 0.2)
    async with driven(path, WIDE) as driver:
        await driver.sees("s8", "+3")
        _late(chance, monkeypatch)
        for number in range(length(70, 200)):
            if number % 20 == 10 and (left := elsewhere.snapshots()):
                elsewhere.delete([chance.choice(left)], protected_too=True)
            keys = (*_STEERING, "m", "R", "U", "g", "l", "h")
            await driver.press(chance.choice(keys if chance.random() < 0.7 else _KEYS))
            while driver.dialog_is_open:  # nothing is to be restored
                await driver.press("escape")
            await _check(driver, _MANY + 1)
            await driver.pilot.pause(chance.choice((0.0, 0.01, 0.1)))
            await _check(driver, _MANY + 1)
            if chance.random() < 0.3:
                await driver.press("escape")
        monkeypatch.undo()
        elsewhere.delete(elsewhere.snapshots(), protected_too=True)
        while driver.dialog_is_open or driver.editor is not None:
            await driver.press("escape")
        await driver.press("escape", "r", "escape")
        await driver.until(lambda: not driver.steps and driver.desk.place.moment is NOW)
        await driver.until(lambda: driver.desk.navigator.journey is None)
        await _check(driver, _MANY + 1)
        assert "as of s" not in driver.text


class _SlowFirstRows:
    """Has the first rows of a table, or of all, answered no sooner than they are let go."""

    def __init__(
        self, driver: Driver, monkeypatch: pytest.MonkeyPatch, only_of: str | None = None
    ) -> None:
        self.begun, self.let_go = asyncio.Event(), asyncio.Event()
        read = driver.workspace.rows.first_rows

        async def slow(
            moment: Moment, table: Table, around: Sequence[int], anchors: Sequence[Anchor] = ()
        ) -> tuple[WindowCache, list[int]]:
            found = await read(moment, table, around, anchors)
            if only_of in (None, table.name):
                self.begun.set()
                await self.let_go.wait()
            return found

        monkeypatch.setattr(driver.workspace.rows, "first_rows", slow)


@pytest.mark.parametrize("seed", seeds("JONDEL_PLACE_SEEDS", 3))
async def test_everything_speaks_of_one_place_whenever_one_looks(
    with_steps: Callable[..., Path],
    monkeypatch: pytest.MonkeyPatch,
    seed: int,
) -> None:
    path = with_steps()
    chance = random.Random(seed)
    async with driven(path, WIDE) as driver:
        await driver.sees("s4", "+3")
        await _check(driver)
        _late(chance, monkeypatch)
        for number in range(length(70, 120)):
            keys = _STEERING if chance.random() < 0.5 else _KEYS
            await driver.press(chance.choice(keys))
            await _check(driver)
            for _ in range(chance.randrange(3)):
                await driver.pilot.pause(chance.choice((0.0, 0.01, 0.05)))
                await _check(driver)
            if chance.random() < 0.15:  # the app commits something that changes nothing
                with closing(sqlite3.connect(path)) as connection:
                    connection.execute("UPDATE boats SET at = at WHERE id = 1")
                    connection.commit()
            if number % 20 == 19:
                await _arrives_where_it_was_sent(driver, chance)
        monkeypatch.undo()
        while driver.dialog_is_open or driver.editor is not None:
            await driver.press("escape")
        await driver.press("escape", "r", "n")
        await driver.sees(" live")
        await driver.until(lambda: driver.desk.navigator.journey is None)
        await _check(driver)
        assert driver.sheet.source is not None


async def test_a_slow_step_that_is_left_before_it_came_leaves_no_trace(
    with_steps: Callable[..., Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    path = with_steps()
    async with driven(path, WIDE) as driver:
        await driver.sees("s4", "+3")
        await driver.open_table("boats", "at")
        await driver.press("e", *"drafted", "enter")
        await driver.sees("* 1 not written")
        slow = _SlowFirstRows(driver, monkeypatch)
        await driver.press("left_square_bracket")
        await driver.sees("going to s4 … Esc stops it", " live")
        monkeypatch.undo()
        await driver.press("escape", "d")
        await driver.sees("boats 1: at v", "→ drafted")
        await driver.press("enter")
        await driver.sees("boats  15 rows", " live", "drafted")
        slow.let_go.set()
        await driver.pilot.pause(0.2)
        await _check(driver)
        assert "as of" not in driver.text


async def test_keys_typed_while_one_is_on_the_way_are_meant_for_where_one_goes(
    with_steps: Callable[..., Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    path = with_steps()
    async with driven(path, WIDE) as driver:
        await driver.sees("s4", "+3")
        slow = _SlowFirstRows(driver, monkeypatch)
        await driver.press("left_square_bracket", "left_square_bracket", "end", "up", "right", "h")
        await driver.sees("going to s3")
        assert driver.sheet.cursor_row == 0
        slow.let_go.set()
        await driver.sees("berths 12: history, latest first")
        await driver.press("escape")
        await driver.sees("as of s3", "row 12 of 13")
        assert driver.sheet.column_name == "at"


async def test_rows_read_anew_for_a_table_that_was_left_meanwhile_are_dropped(
    with_steps: Callable[..., Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """The app commits, its table is read anew, slowly, and one goes to another table."""
    path = with_steps()
    async with driven(path, WIDE) as driver:
        await driver.sees("s4", "+3")
        slow = _SlowFirstRows(driver, monkeypatch, "berths")
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("CREATE TABLE added(id)")
            connection.commit()
        await asyncio.wait_for(slow.begun.wait(), 20)
        await driver.press("t", "down", "down", "enter")
        await driver.sees("crews  15 rows")
        slow.let_go.set()
        await driver.sees("added", "crews  15 rows")
        await driver.pilot.pause(0.3)
        assert driver.sheet.shown_columns == ["id", "c0", "c1", "at"]
        await _check(driver)


async def test_a_step_is_left_whoever_finds_out_first_that_it_is_gone(
    with_steps: Callable[..., Path],
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    path = with_steps()
    elsewhere = trail_of(opened(path))
    monkeypatch.setattr("jondel.tui.services.follower._TRAIL_CHECK_SECONDS", 1e9)
    async with driven(path, WIDE) as driver:
        await driver.sees("s4", "+3")
        await driver.press("left_square_bracket", "left_square_bracket")
        await driver.sees("as of s3")
        elsewhere.delete([elsewhere.find("s3")], protected_too=True)
        await driver.press("s", "escape")  # which also stops going to now
        await driver.until(lambda: driver.desk.place.moment is NOW)
        await driver.sees(" live", "s5")
        await _check(driver)


async def test_keys_typed_after_a_table_was_chosen_are_of_its_sheet(
    with_steps: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where one was in another view, and what was chosen is long in coming."""
    async with driven(with_steps()) as driver:
        await _in_changes_and_slow(driver, monkeypatch)
        await driver.press("n", "r", "t", *"crew", "enter", "home", "right", "right", "e")
        await driver.until(lambda: driver.editor is not None)
        assert driver.table is not None
        assert driver.table.name == "crews"
        assert driver.sheet.column_name == driver.table.column_names[2]


async def test_who_goes_to_the_list_while_something_is_on_its_way_stays_there(
    with_steps: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is typed there to find a table must not be taken for commands of the sheet."""
    async with driven(with_steps()) as driver:
        await _in_changes_and_slow(driver, monkeypatch)
        await driver.press("n", "r", "t")
        assert driver.desk.navigator.journey is not None
        await driver.until(lambda: driver.desk.navigator.journey is None)
        assert driver.desk.navigator.view == "records"
        assert driver.desk.table_list_has_focus


async def _in_changes_and_slow(driver: Driver, monkeypatch: pytest.MonkeyPatch) -> None:
    """Be in Changes at a step, and have every answer come late from now on."""
    run = WorkThread.run

    async def late_run(thread: WorkThread, work: Callable[..., Any]) -> Any:
        answer = await run(thread, work)
        await asyncio.sleep(0.3)
        return answer

    await driver.until(lambda: len(driver.steps) == _STEPS)
    await driver.press("left_square_bracket", "c")
    await driver.until(lambda: driver.desk.navigator.view == "changes")
    await driver.until(lambda: driver.desk.navigator.journey is None)
    monkeypatch.setattr(WorkThread, "run", late_run)
