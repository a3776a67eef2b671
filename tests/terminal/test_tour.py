"""One walk through every capability, in a real terminal: the same on every engine.

An engine that is added has a line in ``_ENGINES``, and passes this before anything else. The
project is an ordinary one: a database that Harbour Desk made, found from its folder, and actions
in ``jondel.toml``.
"""

from __future__ import annotations

import json
import subprocess
import sys
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
        rows: list[list[object]] = [list(row.values()) for row in json.loads(done)["rows"]]
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
        f'database = {json.dumps(project.target)}\n\n[[actions]]\nname = "sell fuel"\n'
        f"command = [{words}]\n"
    )
    (folder / "pontoons.csv").write_text("id,name,harbour_side\n90,Tour A,north\n91,Tour B,south\n")
    monkeypatch.chdir(folder)
    return project


def _act(project: Project, action: str) -> None:
    subprocess.run(
        [*_DESK, action, "--clock", _CLOCK, "--database", project.target],
        check=True, capture_output=True,
    )  # fmt: skip


def _table(screen: Terminal, name: str, words: str) -> None:
    """Go to the records of a table by its name."""
    screen.press("t")
    screen.type(name)
    screen.press("Enter")
    screen.sees(words)
    screen.settles()


def _explain(screen: Terminal) -> None:
    print(screen.text)


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


def _open_from_the_list(screen: Terminal, project: Project) -> None:
    screen.sees("open a database", project.listed)
    screen.press("Enter")
    screen.sees("tide_read", "live", "row 1 of")


def _find_filter_sort_and_follow(screen: Terminal) -> None:
    screen.press("slash")
    screen.sees("Find")
    _explain(screen)
    screen.press("Escape")
    _table(screen, "boats", "210 rows")
    screen.press("f")
    _explain(screen)
