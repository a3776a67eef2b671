"""Starts the full-screen interface. Textual is imported here, once a target is known to be fine."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.cli.problems import NoTerminal
from jondel.core.find.connections import target_named
from jondel.tui.services.early_look import EarlyLook, looked_at

if TYPE_CHECKING:
    from jondel.core.verify.actions import Action


def open_target(target: str | None, *, read_only: bool = False) -> None:
    """Open the interface on a target, or on the list of databases.

    ``read_only``: nothing can be edited there, nor written in any other way.

    A target that cannot be used is reported at once, except one that is locked: that may pass, so
    the interface opens and keeps trying.
    """
    here = target_named(target) if target is not None else None
    _run(here, (), read_only=read_only)


def open_demo(*, fresh: bool, clock: str | None, engine: str = "sqlite") -> None:
    """Open the interface on the demo's database with Harbour Desk running beside it."""
    from jondel.demo.launch import harbour_desk, make_database
    from jondel.demo.place import demo_database

    if engine != "sqlite":
        _open_demo_on_server(fresh=fresh, clock=clock)
        return
    path = demo_database()
    if fresh:
        _forget(path)
    if not path.exists():
        sys.stderr.write("jondel: making the harbour's database …\n")
        make_database(path)
    with harbour_desk(path, clock) as actions:
        _run(str(path), actions)


def _open_demo_on_server(*, fresh: bool, clock: str | None) -> None:
    """The same with a server of the demo's own, which ends with the interface."""
    import shutil

    from jondel.core.engines.registry import require_driver
    from jondel.demo.launch import harbour_desk, make_database
    from jondel.demo.place import demo_server_folder, demo_server_project
    from jondel.demo.private_server import private_server

    require_driver("postgresql://localhost/saltmarsh")
    folder = demo_server_folder()
    is_made = (folder / "made").exists()
    project = demo_server_project()
    if fresh or not is_made:
        shutil.rmtree(folder, ignore_errors=True)
        shutil.rmtree(project, ignore_errors=True)
    project.mkdir(parents=True, exist_ok=True)
    # What is expected of the demo's app is not written into the project that one happens to be in.
    os.chdir(project)
    with private_server(folder, configuration="", database="saltmarsh") as url:
        if fresh or not is_made:
            _forget_trail(url)
            sys.stderr.write("jondel: making the harbour's database …\n")
            make_database(url)
            (folder / "made").touch()
        with harbour_desk(url, clock) as actions:
            _run(url, actions)


def _require_terminal() -> None:
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise NoTerminal(
            "the interface needs a terminal; for scripts there are `jondel snapshot`, `diff`, "
            "`record` and `query` (see `jondel --help`)"
        )


def _run(target: str | None, actions: Sequence[Action], *, read_only: bool = False) -> None:
    """Run the interface; without a target, one is chosen in it."""
    early = EarlyLook(target) if target is not None else None
    # What loading makes stays for good; looking for garbage in it would only cost time. The app
    # goes back to collecting once it is on the screen.
    gc.disable()
    # A key's effect is painted at the next of so many instants a second; sooner is felt.
    os.environ.setdefault("TEXTUAL_FPS", "120")
    from jondel.tui.app import JondelApp

    if target is not None and early is not None:
        looked_at(target, early)
    _require_terminal()
    app = JondelApp(target, actions, early, read_only=read_only)
    app.run()
    if app.failure is not None:
        raise app.failure


def _forget(path: Path) -> None:
    """Throw the demo's database away, and with it its trail and what was expected of it."""
    from jondel.core.engines.registry import files_of
    from jondel.core.trail.project import FILE_NAME

    for file in files_of(str(path)):
        file.unlink(missing_ok=True)
    path.with_name(FILE_NAME).unlink(missing_ok=True)
    _forget_trail(str(path.resolve()))


def _forget_trail(target: str) -> None:
    from jondel.core.engines.registry import location_of
    from jondel.core.trail.trail import Trail

    with closing(Trail(location_of(target))) as trail:
        trail.forget()
