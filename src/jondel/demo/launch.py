"""Starts Harbour Desk in a process of its own and stops it again."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib import resources
from pathlib import Path

from jondel.core.errors import JondelError
from jondel.core.verify.actions import Action, Request

_PROGRAM = [sys.executable, "-m", "jondel.demo.harbour_desk"]
_STOP_SECONDS = 5
ADDRESS = "HARBOUR_DESK"
"""The variable of the environment that says where Harbour Desk listens while the demo runs."""
_ACTIONS = {
    "book-berth": "book a berth",
    "check-in": "check a boat in",
    "sell-fuel": "sell fuel",
    "settle-invoice": "settle an invoice",
    "cancel-booking": "cancel a booking",
    "import-tides": "import tide readings",
}


class DemoUnavailable(JondelError):
    """The demo's database could not be made, or Harbour Desk did not start."""


def make_database(database: str | Path) -> None:
    """Have Harbour Desk make its database. Raises ``DemoUnavailable``."""
    done = subprocess.run(
        [*_PROGRAM, "init", "--database", str(database)],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise DemoUnavailable(done.stderr.strip().replace("\n", " ") or "the demo failed to start")
    if isinstance(database, Path):
        _lay_beside(database)


def _lay_beside(database: Path) -> None:
    """A file of rows to import, some of which cannot go in."""
    rows = resources.files("jondel.demo").joinpath("visiting_boats.csv").read_bytes()
    with suppress(OSError):  # the demo goes without
        database.with_name("visiting_boats.csv").write_bytes(rows)


@contextmanager
def harbour_desk(database: str | Path, clock: str | None = None) -> Iterator[list[Action]]:
    """Run Harbour Desk on the database while the block lasts; gives its actions.

    It also stops by itself when this process is gone, however that ended.
    """
    command = [*_PROGRAM, "serve", "--database", str(database), "--tied"]
    if clock:
        command += ["--clock", clock]
    app = subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    assert app.stdin is not None
    assert app.stdout is not None
    try:
        port = app.stdout.readline().strip()
        if not port.isdigit():
            raise DemoUnavailable(f"{database}: Harbour Desk did not start on it")
        # Where it listens is another port each time: what is written down of its actions says so.
        os.environ[ADDRESS] = f"http://127.0.0.1:{port}"
        yield [
            Action(label, Request("POST", f"${{env:{ADDRESS}}}/actions/{name}"))
            for name, label in _ACTIONS.items()
        ]
    finally:
        app.stdin.close()
        try:
            app.wait(_STOP_SECONDS)
        except subprocess.TimeoutExpired:
            app.kill()
            app.wait()
        app.stdout.close()
