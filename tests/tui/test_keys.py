"""How keys are written for people, and keys at the very end."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving import driven
from textual import events

from jondel.tui.frame.keys import written


@pytest.mark.parametrize(
    ("key", "expected"),
    [
        ("s", "s"),
        ("S", "S"),
        ("left_square_bracket", "["),
        ("delete", "Del"),
        ("escape", "Escape"),
        ("f10", "F10"),
        ("ctrl+z", "Ctrl+Z"),
        ("shift+up", "Shift+↑"),
    ],
)
def test_a_key_is_written_as_it_stands_on_the_keyboard(key: str, expected: str) -> None:
    assert written(key) == expected


async def test_keys_that_come_while_the_interface_closes_are_of_no_account(
    harbour: Path,
) -> None:
    async with driven(harbour) as driver:
        await driver.sees("row 1 of ")
        app, give = driver.app, driver.app.post_message
        for key in ("right", "ctrl+q", "down", "t", "enter", "x"):
            give(events.Key(key, key if len(key) == 1 else None))
        await driver.until(lambda: not app.screen_stack or not app.is_running)
        for key in ("t", "x"):
            forwarded = events.Key(key, key)
            forwarded._set_forwarded()
            await app.on_event(forwarded)
            await app.on_event(events.Key(key, key))
    assert app.failure is None
