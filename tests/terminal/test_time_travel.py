"""Watching, and putting back, in a real terminal with Harbour Desk in a process of its own."""

from __future__ import annotations

from pathlib import Path

import pytest

from outside import harbour_desk, rows

_CLOCK = "2026-06-14T14:02:11"
pytestmark = pytest.mark.terminal


def test_watch_look_back_and_restore(terminal, home: Path) -> None:  # type: ignore[no-untyped-def]
    database = home / "demo" / "saltmarsh.db"
    screen = terminal("demo", "--clock", _CLOCK)
    screen.sees("saltmarsh.db", "live", "tide_readings", "200 000")
    before = rows(database, "SELECT count(*), sum(id) FROM bookings")

    # Every action becomes a step by itself, whoever makes the app act.
    screen.press("w")
    screen.sees("watching: use the app")
    harbour_desk("book-berth", database, _CLOCK)
    screen.sees("1 new", "s2 recorded; n leads there", "live")
    screen.press("n", "c")
    screen.sees("changes of s2", "free → held")
    screen.press("N")
    screen.sees("each new step is gone to")
    harbour_desk("sell-fuel", database, _CLOCK)
    screen.sees("changes of s3", "litres 42.5")

    # Label one afterwards, look at a record's history, hide some noise.
    screen.press("[", "l")
    screen.sees("Label of s2")
    screen.press("m", "o", "o", "r", "e", "d", "Enter")
    screen.sees("as of s2 · moored")
    screen.press("h")
    screen.sees("history, latest first", "free → held")
    screen.press("Escape")
    screen.press("End", "x")
    screen.sees("Noise rules", "web_sessions.last_seen_at")
    screen.press("Enter")
    screen.sees("1 hidden, X shows")

    # Put it all back; the app goes on from there.
    screen.press("[", "R")
    screen.sees("This will be undone:", "Enter restores")
    screen.press("Enter")
    screen.sees("done: restored s1")
    assert rows(database, "SELECT count(*), sum(id) FROM bookings") == before
    harbour_desk("book-berth", database, _CLOCK)
    screen.sees("changes of s", "free → held", "+ 413")
