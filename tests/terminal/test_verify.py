"""Verify in a terminal: from the demo to an expectation that is met and one that is not."""

from __future__ import annotations

import pytest

pytestmark = pytest.mark.terminal
_CLOCK = "2026-06-14T14:02:11"


@pytest.mark.parametrize("engine", ["sqlite", "postgresql"])
def test_from_the_demo_to_met_and_not_met(terminal, engine: str) -> None:  # type: ignore[no-untyped-def]
    screen = terminal("demo", "--clock", _CLOCK, "--engine", engine)
    screen.sees("bookings", "412")
    screen.press("V")
    screen.sees("action", "sell fuel", "not run")
    screen.press("Down", "Down", "Enter")
    screen.sees("42.5 litres sold", "empty text")
    screen.press("Y")
    screen.sees("Expect this of 'sell fuel'")
    screen.press("Enter")
    screen.sees("Begin each run from the same state?")
    screen.press("y")
    screen.sees("expected from now on", "✔ met")
    screen.press("Enter")
    screen.sees("sell fuel: met")
    screen.press("E")
    screen.sees("Change the action")
    screen.press("Down", "Down", "Down", "Down", "Down", "Down", "Down", "C-u", "Enter")
    screen.sees("sell fuel: kept in")
    screen.press("Enter")
    screen.sees("✘ NOT MET", "boat_id")
