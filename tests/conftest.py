"""What tests share: a home of their own, small databases, and the harbour."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing
from pathlib import Path

import psycopg
import pytest
from hypothesis import settings

import hostile
from app_process import AppProcess
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import TargetUnavailable
from jondel.core.trail.trail import Trail
from jondel.demo.private_server import private_server
from seeds import FIRST

# What lands is judged by what changed and not by luck; ``make soak`` explores.
settings.register_profile("fixed", max_examples=60, deadline=None, derandomize=True)
settings.register_profile("soak", max_examples=3000, deadline=None, print_blob=True)
settings.load_profile("soak" if "JONDEL_SOAK" in os.environ else "fixed")

if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # Run in the background of a shell, what is started from here would not hear Ctrl-C either.
    signal.signal(signal.SIGINT, signal.default_int_handler)

MakeDatabase = Callable[..., Path]
OpenApp = Callable[..., AppProcess]
JondelCommand = Callable[..., "subprocess.CompletedProcess[str]"]


def pytest_report_header() -> str:
    return f"seeds from {FIRST} on; JONDEL_FIRST_SEED={FIRST} has them again"


@pytest.fixture(autouse=True)
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder of its own for everything that Jondel keeps."""
    folder = tmp_path / "jondel-home"
    monkeypatch.setenv("JONDEL_HOME", str(folder))
    monkeypatch.setenv("TZ", "UTC")
    return folder


@pytest.fixture
def make(tmp_path: Path) -> MakeDatabase:
    """Makes a closed database from statements."""

    def made(*statements: str, name: str = "app.db", journal: str = "DELETE") -> Path:
        path = tmp_path / name
        with closing(sqlite3.connect(path)) as connection:
            connection.execute(f"PRAGMA journal_mode={journal}")
            for statement in statements:
                connection.execute(statement)
            connection.commit()
        return path

    return made


@pytest.fixture
def app() -> Iterator[OpenApp]:
    """Starts apps on databases and ends them with the test."""
    started: list[AppProcess] = []

    def start(path: Path, timeout: float = 5.0) -> AppProcess:
        started.append(AppProcess(path, timeout))
        return started[-1]

    yield start
    for process in started:
        process.close()


@pytest.fixture
def jondel(tmp_path: Path) -> JondelCommand:
    """Runs the ``jondel`` command in the test's folder."""

    def run(*arguments: str | Path, **options: object) -> subprocess.CompletedProcess[str]:
        return subprocess.run(  # type: ignore[call-overload, no-any-return]
            [sys.executable, "-m", "jondel", *map(str, arguments)],
            cwd=tmp_path,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            check=False,
            timeout=60,
            **options,
        )

    return run


@pytest.fixture
def opened() -> Iterator[Callable[[Path], Database]]:
    """Opens databases and closes them with the test."""
    databases: list[Database] = []

    def open_it(path: Path) -> Database:
        databases.append(open_database(path))
        return databases[-1]

    yield open_it
    for database in databases:
        database.close()


@pytest.fixture
def trail_of() -> Iterator[Callable[[Database], Trail]]:
    """Opens trails and closes them with the test."""
    trails: list[Trail] = []

    def trail(database: Database) -> Trail:
        trails.append(Trail(database.location))
        return trails[-1]

    yield trail
    for one in trails:
        one.close()


@pytest.fixture(scope="session")
def harbour_template(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's database, made once by Harbour Desk itself."""
    path = tmp_path_factory.mktemp("harbour") / "saltmarsh.db"
    subprocess.run(
        [sys.executable, "-m", "jondel.demo.harbour_desk", "init", "--database", str(path)],
        check=True,
    )
    return path


@pytest.fixture
def harbour(harbour_template: Path, tmp_path: Path) -> Path:
    """A copy of the demo's database that a test may write."""
    return Path(shutil.copy(harbour_template, tmp_path / "saltmarsh.db"))


@pytest.fixture(scope="session")
def hostile_template(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("hostile") / "hostile.db"
    hostile.create(path)
    return path


@pytest.fixture
def hostile_database(hostile_template: Path, tmp_path: Path) -> Path:
    """A copy of the database whose names and contents try to break things."""
    return Path(shutil.copy(hostile_template, tmp_path / "hostile.db"))


_CONFIGURATION = """
fsync = off
full_page_writes = off
max_prepared_transactions = 20
wal_level = logical
"""
_UNTESTED = "the engine for PostgreSQL was not tested"


@pytest.fixture(scope="session")
def postgresql() -> Iterator[str]:
    """The URL of a PostgreSQL server of this test run's own."""
    with ExitStack() as stack:
        try:
            url = stack.enter_context(private_server(locale="C", configuration=_CONFIGURATION))
        except TargetUnavailable as error:
            if os.environ.get("JONDEL_SKIPS_FAIL"):
                pytest.fail(f"{_UNTESTED}: {error}")
            pytest.skip(f"{_UNTESTED}: {error}")
        yield url


@pytest.fixture
def postgresql_database(postgresql: str) -> str:
    """The URL of an empty database on that server."""
    with psycopg.connect(postgresql, autocommit=True) as connection:
        (number,) = connection.execute("SELECT count(*) FROM pg_database").fetchone() or (0,)
        connection.execute(f"CREATE DATABASE made{number}")
    return postgresql.replace("/postgres?", f"/made{number}?")


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Say loudly where a whole engine went untested."""
    skipped = terminalreporter.stats.get("skipped", [])
    reasons = [str(report.longrepr) for report in skipped if _UNTESTED in str(report.longrepr)]
    if reasons:
        words = reasons[0].partition(_UNTESTED)[2].strip(" :')")
        line = f"{_UNTESTED.upper()} ({len(reasons)} tests skipped): {words}"
        terminalreporter.write_line(line, red=True, bold=True)
