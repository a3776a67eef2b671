"""A text of any length is edited as if all of it were in the box."""

from __future__ import annotations

import random

import pytest
from textual.app import App, ComposeResult

from jondel.core.browse.text_parts import MOST_CHARACTERS
from jondel.tui.theme import DUSK
from jondel.tui.widgets.long_text_box import LongTextBox

_LINE = "".join(chr(97 + number % 26) for number in range(2 * MOST_CHARACTERS + 500))
_LINES = "".join(f"line {number}\r\n" for number in range(450))


class _App(App[None]):
    def __init__(self, text: str) -> None:
        super().__init__()
        self.box = LongTextBox(text)

    def compose(self) -> ComposeResult:
        yield self.box

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables


@pytest.mark.parametrize("text", [_LINE, _LINES, "short"], ids=["one line", "lines", "short"])
async def test_cursor_keys_lead_through_all_of_it_and_nothing_changes(text: str) -> None:
    app = _App(text)
    async with app.run_test(size=(80, 24)) as pilot:
        seen = {app.box.part}
        for key in ("pagedown", "pageup"):
            for _ in range(40):
                await pilot.press(key)
                seen.add(app.box.part)
                assert len(app.box.text) <= MOST_CHARACTERS + 1
        assert seen == set(range(app.box.parts))
        assert app.box.entered == text


@pytest.mark.parametrize("seed", range(2))
async def test_random_edits_are_those_of_one_text(seed: int) -> None:
    """Keys are played on the box and on a plain string with a cursor."""
    chance = random.Random(seed)
    text, at = _LINE, 0
    app = _App(text)
    async with app.run_test(size=(80, 24)) as pilot:
        for _ in range(100):
            key = chance.choice(["left", "right", "backspace", "delete", "x", "to the seam"])
            if key == "to the seam":  # of the first two parts, where it matters
                app.box.entered = text
                await pilot.pause()
                app.box.move_cursor(app.box.document.end)
                at = len(app.box.text)
                continue
            await pilot.press(key)
            if key == "left":
                at -= _is_moved(app, at, text, -1)
            elif key == "right":
                at += _is_moved(app, at, text, 1)
            elif key == "backspace" and at:
                text, at = text[: at - 1] + text[at:], at - 1
            elif key == "delete":
                text = text[:at] + text[at + 1 :]
            elif key == "x":
                text, at = text[:at] + "x" + text[at:], at + 1
            assert app.box.entered == text


def _is_moved(app: _App, at: int, text: str, step: int) -> bool:
    """Whether the cursor went by a character: at a seam it only goes to the other part."""
    before = sum(len(part) for part in app.box.entered_parts[: app.box.part])
    there = before + app.box.cursor_location[1]
    assert there in (at, at + step)
    return there != at
