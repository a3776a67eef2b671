"""Finding rows, walking a link, fixing a cell, a conflict and undo, in a real terminal."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from conftest import OpenApp
from outside import rows

pytestmark = pytest.mark.terminal
_SIZES = pytest.mark.parametrize("size", [(160, 47), (80, 24)], ids=["160x47", "80x24"])


def _type(screen, text: str) -> None:  # type: ignore[no-untyped-def]
    screen.press(*["Space" if character == " " else character for character in text])


@_SIZES
def test_filter_walk_a_link_and_back(  # type: ignore[no-untyped-def]
    terminal, harbour: Path, size: tuple[int, int]
) -> None:
    screen = terminal(harbour, size=size)
    screen.sees("tables 12")
    screen.press("t", "Home", "Down", "Down", "Enter")
    screen.sees("bookings", "412 rows")
    screen.press("f")
    screen.sees("Filter bookings", "the same in SQL")
    screen.press("Tab", "Tab")
    _type(screen, "status = 'held' and berth_id < 20")
    screen.sees("status is held", "berth_id before 20")
    screen.press("Enter")
    screen.sees("where status is held and berth_id before 20", "of 412 rows")
    screen.press("v")
    for _ in range(60):
        screen.press("End")
        if "guessed" in screen.text:
            break
        time.sleep(0.2)
    screen.press("End", "Up", "Up", "Enter")
    screen.sees("60 rows", "here", "Backspace goes back")
    screen.press("BSpace")
    screen.sees("where status is held and berth_id before 20")
    screen.sees_no_more("Backspace goes back")


@_SIZES
def test_fix_a_cell_meet_a_conflict_write_and_undo(  # type: ignore[no-untyped-def]
    terminal, harbour: Path, app: OpenApp, size: tuple[int, int]
) -> None:
    before = rows(harbour, "SELECT name FROM boats WHERE id < 3")
    screen = terminal(harbour, size=size)
    screen.sees("tables 12")
    screen.press("t", "Home", "Down", "Enter")
    screen.sees("boats", "210 rows")
    screen.press("Right", "Right", "e")
    screen.sees("accept")
    _type(screen, "Quay Belle")
    screen.press("Enter")
    screen.sees("* 1 not written", "*1")
    assert rows(harbour, "SELECT name FROM boats WHERE id < 3") == before
    app(harbour).run("UPDATE boats SET name = 'Sea Holly' WHERE id = 1")
    screen.press("W")
    screen.sees("Write 1 record", "~ 1  name")
    screen.press("Enter")
    screen.sees("the app has changed these records", "Sea Holly", "Quay Belle")
    screen.press("m", "Enter")
    screen.sees("Write 1 record")
    screen.press("Enter")
    screen.sees("1 row written")
    assert rows(harbour, "SELECT name FROM boats WHERE id = 1") == [["Quay Belle"]]
    screen.press("C-z")
    screen.sees("Take back the last write")
    screen.press("y")
    screen.sees("is taken back")
    assert rows(harbour, "SELECT name FROM boats WHERE id = 1") == [["Sea Holly"]]


def _wait_until_kept(home: Path, value: bytes) -> None:
    """Wait for a draft's file: what is drafted is seen a moment before it is there."""
    until = time.monotonic() + 20
    while not any(value in file.read_bytes() for file in home.rglob("*.json")):
        assert time.monotonic() < until, "the draft is never kept"
        time.sleep(0.05)


def test_a_draft_survives_a_kill(terminal, harbour: Path, home: Path) -> None:  # type: ignore[no-untyped-def]
    screen = terminal(harbour)
    screen.sees("tables 12")
    screen.press("t", "Home", "Down", "Enter")
    screen.sees("210 rows")
    screen.press("Right", "Right", "e")
    screen.sees("accept")
    _type(screen, "Quay Belle")
    screen.press("Enter")
    screen.sees("* 1 not written")
    _wait_until_kept(home, b"Quay Belle")
    screen.kill()
    again = terminal(harbour)
    again.sees("a draft of 1 record was kept from last time", "* 1 not written")
    again.press("d")
    again.sees("boats 1: name", "→ Quay Belle")


def test_read_only_on_the_command_line(terminal, harbour: Path) -> None:  # type: ignore[no-untyped-def]
    screen = terminal("--read-only", harbour)
    screen.sees("tables 12", "live · read-only")
    screen.press("e")
    screen.sees("read-only: Jondel was started with --read-only")
    screen.press("C-r")
    screen.sees("stays read-only")
