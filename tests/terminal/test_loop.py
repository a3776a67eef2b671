"""The whole loop in a real terminal, against Harbour Desk in a process of its own."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pytest

from conftest import MakeDatabase
from outside import harbour_desk

_CLOCK = "2026-06-14T14:02:11"
pytestmark = pytest.mark.terminal


def _processes_on(database: Path) -> list[int]:
    """Other processes that have the database's path in their command line."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and int(entry.name) != os.getpid():
            try:
                words = (entry / "cmdline").read_bytes()
            except OSError:
                continue
            if str(database).encode() in words and b"harbour_desk" in words:
                found.append(int(entry.name))
    return found


def test_the_whole_loop(terminal, home: Path) -> None:  # type: ignore[no-untyped-def]
    database = home / "demo" / "saltmarsh.db"
    screen = terminal("demo", "--clock", _CLOCK)

    # Open and look.
    screen.sees("saltmarsh.db", "live", "tide_readings", "200 000", "berth_occupancy", "view 4")
    screen.press("t", "Home", *["Down"] * 9, "Enter")
    screen.sees("200 000 rows")
    screen.press("End")
    screen.sees("row 200 000 of 200 000", "2026-06-14 12:00:00")
    screen.press("PPage", "Home")
    screen.sees("row 1 of 200 000")

    # Snapshot, act from another terminal, and see it arrive.
    screen.press("s")
    screen.sees("s1 taken", "trail starts")
    assert "42.5 litres sold" in harbour_desk("sell-fuel", database, _CLOCK)
    screen.sees("+2 ~1")

    # Snapshot again: the Changes view opens on the new step.
    screen.press("s")
    screen.sees("changes of s2", "as of s2", "fuel_sales  +1", "+ 641", "invoices  +1")

    # From a change to its record and back.
    screen.press("Enter")
    screen.sees("row 641 of 641", "fuel_sales 641", "+ added", '""')
    screen.press("BSpace")
    screen.sees("changes of s2")

    # Act from the interface; the step is named after the action.
    screen.press("a")
    screen.sees("Run one of the app's actions")
    screen.press("Enter")
    screen.sees("berth 2 is held by booking 413")
    screen.sees("changes of s3 book a berth", "free → held", "∅ → 413")

    # Walk the steps.
    screen.press("[")
    screen.sees("changes of s2", "+ 641")
    screen.press("[")
    screen.sees("The trail starts with this snapshot")
    screen.press("]", "]")
    screen.sees("changes of s3", "free → held")
    screen.press("]")
    screen.sees("live", "changes since s3", "Nothing was written")

    # Leave: Harbour Desk stops too, and the trail is there again after a restart.
    assert _processes_on(database)
    screen.press("C-q")
    screen.sees("[ended with 0]")
    assert not _processes_on(database)
    again = terminal("demo", "--clock", _CLOCK, size=(80, 24))
    again.sees("book a berth", "+2 ~1", "+2 ~2", "no changes")
    again.press("[")
    again.sees("as of s3")
    again.press("c")
    again.sees("changes of s3", "free → held")
    for line in again.lines:
        assert len(line) <= 80
    again.press("C-q")
    again.sees("[ended with 0]")


def test_harbour_desk_ends_when_jondel_is_killed(terminal, home: Path) -> None:  # type: ignore[no-untyped-def]
    database = home / "demo" / "saltmarsh.db"
    screen = terminal("demo")
    screen.sees("tide_readings", "200 000")
    (app,) = _processes_on(database)
    parent = int(Path(f"/proc/{app}/stat").read_text().rpartition(")")[2].split()[1])
    os.kill(parent, signal.SIGKILL)
    deadline = time.monotonic() + 10
    while _processes_on(database) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not _processes_on(database)


@pytest.mark.parametrize("size", [(160, 47), (80, 24)], ids=["160x47", "80x24"])
def test_hostile_data_does_nothing_to_the_terminal(  # type: ignore[no-untyped-def]
    terminal, hostile_database: Path, size: tuple[int, int]
) -> None:
    screen = terminal(hostile_database, size=size)
    screen.sees("tables 10")
    title = screen.title
    for _ in range(10):
        screen.press("t", "Down", "Enter", "End", "Escape")
    screen.press("t", "Home", *["Down"] * 6, "Enter", "Home")
    screen.sees("texts", "^[[31mred", "[/x] [bold]b[/bold]")
    assert screen.title == title
    # Whatever stands in the middle, the panes beside it stay in their columns.
    ends = {line.rstrip().endswith(("│", "title")) for line in screen.lines}
    assert ends == {False}
    assert screen.lines[0].startswith(" Jondel  hostile.db")
    assert screen.lines[-1].startswith(" s snapshot")
    screen.press("C-q")
    screen.sees("[ended with 0]")


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        pytest.param("gone.db", None, "no such file", id="missing"),
        pytest.param("text.db", b"berth;boat\n" * 100, "not a SQLite database", id="text"),
    ],
)
def test_a_target_that_cannot_be_used_is_one_line_in_the_terminal(  # type: ignore[no-untyped-def]
    terminal, tmp_path: Path, name: str, content: bytes | None, words: str
) -> None:
    if content is not None:
        (tmp_path / name).write_bytes(content)
    screen = terminal(tmp_path / name)
    screen.sees("[ended with 1]")
    said = "".join(screen.lines)
    assert words in said
    assert "Traceback" not in said


def test_a_failure_of_jondel_itself_leaves_the_terminal_whole(  # type: ignore[no-untyped-def]
    terminal, make: MakeDatabase, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "sitecustomize.py").write_text(
        "import jondel.core.trail.trail as t\n"
        "def fail(*a, **k): raise RuntimeError('a mistake')\n"
        "t.Trail.take = fail\n"
    )
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    screen = terminal(make("CREATE TABLE t(id INTEGER PRIMARY KEY)"))
    screen.sees("s: snapshot")
    screen.press("s")
    screen.sees("RuntimeError: a mistake", "[ended with 1]")
    assert "crash.log" in "".join(screen.lines)
    assert "Traceback" not in screen.text
    assert "Traceback" in (home / "crash.log").read_text("utf-8")
