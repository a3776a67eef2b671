"""Whatever is pressed, in whatever order, while the app writes: the interface lives on."""

from __future__ import annotations

import random
import shutil
from contextlib import suppress
from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven

from app_process import AppFailed
from conftest import OpenApp
from jondel.core.verify.actions import Action, Request
from jondel.tui.frame.screen import MainScreen
from jondel.tui.services.early_look import looked_at
from seeds import length, seeds

_KEYS = (
    *("s", "s", "r", "c", "c", "left_square_bracket", "left_square_bracket"),
    *("right_square_bracket", "n", "t", "t", "v", "backspace", "i", "escape", "T", "question_mark"),
    *("enter", "enter", "enter", "up", "down", "down", "down", "left", "right", "tab", "a"),
    *("pageup", "pagedown", "home", "end", "ctrl+home", "ctrl+end", "S", "x"),
)
_RECORD_KEYS = (
    *("o", "O", "f", "F", "equals_sign", "exclamation_mark", "j", "k", "less_than_sign", "z", "y"),
    *("greater_than_sign", "left_curly_bracket", "right_curly_bracket", "q", "slash", "comma"),
    *("full_stop", "0", "1", "2", "vertical_line", "plus", "minus", "L", "at", "b", "e", "E", "I"),
    *(
        "P",
        "delete",
        "A",
        "d",
        "W",
        "ctrl+z",
        "ctrl+r",
        "ctrl+s",
        "ctrl+n",
        "ctrl+y",
        "ctrl+g",
        "f2",
    ),
    *("space", "shift+down", "shift+tab", "y", "D", "m", "backspace", "v", "r", "escape", "enter"),
)
_WRITES = (
    "UPDATE texts SET value = random() WHERE id = abs(random()) % 18",
    "DELETE FROM texts WHERE id = abs(random()) % 400",
    "INSERT INTO texts(kind, value) SELECT kind, value FROM texts LIMIT 5",
    "CREATE TABLE IF NOT EXISTS passing(id INTEGER PRIMARY KEY, v)",
    "INSERT INTO passing(v) VALUES (randomblob(3000))",
    "ALTER TABLE passing ADD COLUMN w DEFAULT 'x'",
    "DROP TABLE IF EXISTS passing",
    "UPDATE large SET body = zeroblob(100)",
    "VACUUM",
)


@pytest.mark.parametrize("seed", seeds("JONDEL_KEY_SEEDS", 3))
async def test_any_keys_in_any_order_do_no_harm(
    hostile_database: Path, app: OpenApp, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(hostile_database.parent)  # a value may be saved to a file
    chance = random.Random(seed)
    writer = app(hostile_database)
    size = WIDE if seed % 2 else SMALL
    nobody = Action("call an app that is not there", Request("GET", "http://127.0.0.1:9/none"))
    async with driven(hostile_database, size, [nobody]) as driver:
        for _ in range(length(90, 150)):
            if chance.random() < 0.2:
                with suppress(AppFailed):  # it may find the database as it left it otherwise
                    writer.run(chance.choice(_WRITES))
            keys = _RECORD_KEYS if seed % 3 and chance.random() < 0.7 else _KEYS
            await driver.press(chance.choice(keys))
        while driver.dialog_is_open:
            await driver.press("escape")
        if driver.editor is not None:
            await driver.press("escape")
        await driver.press("r", "n")
        await driver.sees("live")
        await driver.until(lambda: driver.table is not None or bool(driver.sheet.problem))


_KEYS_OF_SEVERAL = ("f3", "f3", "f3", "ctrl+o", "ctrl+w", "M", "w", "escape", "enter", "down")


@pytest.mark.parametrize("seed", seeds("JONDEL_KEY_SEEDS", 3))
async def test_any_keys_with_several_databases_open(
    hostile_database: Path, app: OpenApp, seed: int, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.chdir(tmp_path)
    chance = random.Random(seed)
    paths = [tmp_path / f"{name}.db" for name in ("first", "second", "third")]
    for path in paths:
        shutil.copy(hostile_database, path)
    writers = [app(path) for path in paths]
    async with driven(paths[0], WIDE if seed % 2 else SMALL) as driver:
        for path in paths[1:]:
            await driver.app.open_database(str(path), looked_at(str(path)))
        for _ in range(length(90, 150)):
            if chance.random() < 0.2:
                with suppress(AppFailed):
                    chance.choice(writers).run(chance.choice(_WRITES))
            keys = _KEYS_OF_SEVERAL if chance.random() < 0.5 else (*_KEYS, *_RECORD_KEYS)
            key = chance.choice(keys)
            # The last one is not left for the list, nor is the list left for the shell.
            alone = len(driver.app.open_databases) < 2 and key == "ctrl+w"
            leaving = not driver.app.open_databases and key in ("escape", "q", "ctrl+q")
            if not (alone or leaving):
                await driver.press(key)
        while not isinstance(driver.app.screen, MainScreen):
            await driver.press("escape")
        if driver.editor is not None:
            await driver.press("escape")
        for _ in driver.app.open_databases:
            await driver.press("r", "n")
            await driver.sees("live")
            await driver.until(lambda: driver.table is not None or bool(driver.sheet.problem))
            await driver.press("f3")
