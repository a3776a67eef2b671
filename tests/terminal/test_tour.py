"""One walk through every capability, in a real terminal: the same on every engine.

An engine that is added has a line in ``_ENGINES``, and passes this before anything else. The
project is an ordinary one: a database that Harbour Desk made, found from its folder, and actions
in ``jondel.toml``.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import pytest
from tmux_terminal import Terminal

pytestmark = pytest.mark.terminal
_CLOCK = "2026-06-14T14:02:11"
_DESK = [sys.executable, "-m", "jondel.demo.harbour_desk"]


class Project(NamedTuple):
    """A folder with an app's settings, and the database that they name."""

    folder: Path
    target: str
    listed: str
    """What the list of databases calls it."""

    def asked(self, sql: str) -> list[list[object]]:
        """The rows of a question, asked by a process of its own."""
        done = _jondel(self, "query", self.target, sql, "--format", "json")
        rows: list[list[object]] = json.loads(done)["rows"]
        return rows

    def value(self, sql: str) -> object:
        return self.asked(sql)[0][0]


def _jondel(project: Project, *arguments: str) -> str:
    done = subprocess.run(
        [sys.executable, "-m", "jondel", *arguments],
        cwd=project.folder, capture_output=True, text=True, check=False, timeout=120,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout


def _sqlite(folder: Path, _: str) -> Project:
    return Project(folder, str(folder / "harbour.db"), "harbour.db")


def _postgresql(folder: Path, url: str) -> Project:
    (folder / ".env").write_text(f"DATABASE_URL={url}\n")
    return Project(folder, url, "PostgreSQL")


_ENGINES: dict[str, Callable[[Path, str], Project]] = {
    "sqlite": _sqlite,
    "postgresql": _postgresql,
}


@pytest.fixture(params=_ENGINES)
def project(
    request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Project:
    name = request.param
    url = request.getfixturevalue("postgresql_database") if name != "sqlite" else ""
    folder = tmp_path / "project"
    folder.mkdir()
    project = _ENGINES[name](folder, url)
    subprocess.run([*_DESK, "init", "--database", project.target], check=True)
    words = ", ".join(json.dumps(word) for word in (*_DESK, "sell-fuel", "--clock", _CLOCK,
                                                    "--database", project.target))  # fmt: skip
    (folder / "jondel.toml").write_text(
        f'[verify]\ndatabase = {json.dumps(project.target)}\n\n[[actions]]\nname = "sell fuel"\n'
        f"command = [{words}]\n"
    )
    (folder / "pontoons.csv").write_text(
        "id,name,side\n90,Tour A,north\n91,Tour B,south\n92,Tour A,south\n"
    )
    monkeypatch.chdir(folder)
    return project


def _act(project: Project, action: str) -> None:
    subprocess.run(
        [*_DESK, action, "--clock", _CLOCK, "--database", project.target],
        check=True, capture_output=True,
    )  # fmt: skip


@pytest.mark.timeout(900)
def test_the_tour(project: Project, terminal: Callable[..., Terminal]) -> None:
    screen = terminal()
    _open_from_the_list(screen, project)
    _find_filter_sort_and_follow(screen)
    _edit_write_and_take_back(screen, project)
    _rehearse_and_write(screen, project)
    _import_and_export(screen, project)
    _snapshot_act_and_look(screen, project)
    _watch_and_restore(screen, project)
    _verify_and_report(screen, project)
    screen.press("C-q")
    screen.sees("[ended with 0]")


def _table(screen: Terminal, name: str, words: str) -> None:
    """Go to the records of a table by its name."""
    screen.press("t")
    screen.sees("find a table")
    screen.type(name)
    screen.settles()
    screen.press("Enter")
    screen.sees(words)
    screen.settles()


def _open_from_the_list(screen: Terminal, project: Project) -> None:
    screen.sees("open a database", project.listed)
    screen.settles()
    screen.press("Enter")
    screen.sees("tide_read", "live", "row 1 of", "? keys")


def _find_filter_sort_and_follow(screen: Terminal) -> None:
    screen.press("/")
    screen.sees("Find a value")
    screen.type("Nutmeg III")
    screen.press("Enter")
    screen.sees("boats 58")
    screen.settles()
    screen.press("Enter")
    screen.sees("row 58 of 210")
    screen.press("f")
    screen.sees("Filter", "the same in SQL")
    screen.type("marl")
    screen.press("Enter")
    screen.sees("where any column contains marl", "of 210 rows")
    screen.press("o")
    screen.sees("sorted by name ↑")
    screen.press("o")
    screen.sees("sorted by name ↓")
    _table(screen, "bookings", "412 rows")
    screen.press("v")
    screen.sees("points to", "pointed at by")
    screen.settles()
    screen.press("End", "Up", "Up", "Enter")
    screen.sees("Backspace goes back")
    screen.press("BSpace")
    screen.sees("412 rows")


def _edit_write_and_take_back(screen: Terminal, project: Project) -> None:
    name = "SELECT name FROM pontoons WHERE id = 1"
    before = project.value(name)
    _table(screen, "pontoons", "4 rows")
    screen.press("Home", "Right", "e")
    screen.sees("accept")
    screen.type("Quay")
    screen.press("Enter")
    screen.sees("* 1 not written")
    screen.press("C-z")
    screen.sees_no_more("* 1 not written")
    screen.press("C-y")
    screen.sees("* 1 not written")
    screen.press("W")
    screen.sees("Write 1 record", "Quay")
    screen.press("Enter")
    screen.sees("1 row written")
    assert project.value(name) == "Quay"
    screen.press("C-z")
    screen.sees("Take back the last write")
    screen.press("y")
    screen.sees("is taken back")
    assert project.value(name) == before


def _rehearse_and_write(screen: Terminal, project: Project) -> None:
    """Once more after it was written: then the last rehearsal is no commit of the app's, either."""
    count = "SELECT count(*) FROM boats WHERE draught_cm = 77"
    for number, times in ((5, 4), (9, 8)):
        screen.press("Q")
        screen.sees("asks now", "Ctrl+G run")
        screen.settles()
        screen.press("F7", "DC")
        screen.settles()
        screen.type(f"update boats set draught_cm = 77 where id < {number}")
        screen.press("C-g")
        screen.sees("nothing is written yet", f"< {number}")
        assert project.value(count) != times
        screen.press("C-s")
        screen.sees("written: ", "it is step s", f"< {number}")
        assert project.value(count) == times
        _back_to_records(screen, "4 rows")


def _back_to_records(screen: Terminal, words: str) -> None:
    screen.press("Escape")
    screen.sees("r records")
    screen.press("r")
    screen.sees(words, "f filter")
    screen.settles()


def _import_and_export(screen: Terminal, project: Project) -> None:
    _table(screen, "pontoons", "4 rows")
    screen.press("G")
    screen.sees("Import which file", "pontoons.csv")
    screen.type("pontoons")
    screen.press("Enter")
    screen.sees("pontoons; it has 3 rows")
    screen.press("C-g")
    screen.sees("nothing is written yet", "1 row rejected")
    screen.press("C-s")
    screen.sees("written: 2 records")
    assert project.value("SELECT count(*) FROM pontoons") == 6
    _back_to_records(screen, "6 rows")
    screen.press("D")
    screen.sees("Export to a file", "6 rows of")
    screen.press("Tab", "Tab", "C-u")
    screen.type("out.csv")
    screen.press("Enter")
    screen.sees("out.csv")
    _until(lambda: (project.folder / "out.csv").exists())
    lines = (project.folder / "out.csv").read_text().splitlines()
    assert (lines[0], len(lines)) == ("id,name,side", 7)


def _snapshot_act_and_look(screen: Terminal, project: Project) -> None:
    screen.press("s")
    screen.sees("Nothing was written between")
    screen.press("n")
    screen.sees("  live")
    _act(project, "book-berth")
    screen.sees("+2 ~2")
    screen.press("a")
    screen.sees("Run one of the app's actions", "sell fuel")
    screen.press("Enter")
    screen.sees("42.5 litres sold", "sell fuel", "fuel_sales  +1")
    screen.press("[")
    screen.sees("free → held")
    screen.press("Enter")
    screen.sees("row ")
    screen.press("h")
    screen.sees("history, latest first")
    screen.press("Escape")
    screen.press("n")
    screen.sees("  live")


def _watch_and_restore(screen: Terminal, project: Project) -> None:
    count = "SELECT count(*) FROM fuel_sales"
    before = project.value(count)
    screen.press("w")
    screen.sees("watching")
    _act(project, "sell-fuel")
    screen.sees("1 new", "n leads there")
    screen.press("w", "n", "c")
    screen.sees("fuel_sales  +1", "litres 42.5")
    assert project.value(count) == int(str(before)) + 1
    screen.press("[", "R")
    screen.sees("This will be undone", "fuel_sales  +1")
    screen.press("Enter")
    screen.sees("done: restored")
    assert project.value(count) == before
    # Of a step that was restored over, nothing is left to be taken back.
    screen.press("n", "r")
    screen.sees("  live")


def _verify_and_report(screen: Terminal, project: Project) -> None:
    screen.press("V")
    screen.sees("verify", "sell fuel", "the app said: 42.5 litres sold")
    screen.settles()
    screen.press("Y")
    screen.sees("Expect this of 'sell fuel'")
    screen.press("Enter")
    screen.sees("Begin each run from the same state?")
    screen.press("y")
    screen.sees("expected from now on", "✔ met")
    screen.press("Enter")
    screen.sees("sell fuel: met")
    verified = json.loads(_jondel(project, "verify", "--json"))
    assert [(entry["name"], entry["met"]) for entry in verified["actions"]] == [("sell fuel", True)]
    _jondel(project, "report", project.target, "last", "-o", "step.html")
    assert "fuel_sales" in (project.folder / "step.html").read_text()


def _until(holds: Callable[[], bool]) -> None:
    until = time.monotonic() + 30
    while not holds():
        assert time.monotonic() < until, "waited for it in vain"
        time.sleep(0.05)
