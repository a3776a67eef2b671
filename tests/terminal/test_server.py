"""The whole loop on a server's database, and choosing one, in a real terminal."""

from __future__ import annotations

import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import psycopg
import pytest

from jondel.demo.place import demo_server_folder

pytestmark = pytest.mark.terminal
_SIZES = pytest.mark.parametrize("size", [(160, 47), (80, 24)], ids=["160x47", "80x24"])
_CLOCK = "2026-06-14T14:02:11"


def _asked(sql: str) -> list[tuple[object, ...]]:
    url = f"postgresql://jondel@/saltmarsh?host={demo_server_folder()}"
    with psycopg.connect(url, autocommit=True) as connection:
        return connection.execute(sql).fetchall()


@pytest.fixture
def _server_is_had(postgresql: str, home: Path) -> Iterator[None]:
    """The demo needs the server's programs; where there are none this is skipped, loudly."""
    yield
    shutil.rmtree(demo_server_folder(), ignore_errors=True)


@_SIZES
@pytest.mark.usefixtures("_server_is_had")
def test_the_whole_loop_on_a_server(terminal, home: Path, size) -> None:  # type: ignore[no-untyped-def]
    screen = terminal("demo", "--engine", "postgresql", "--clock", _CLOCK, size=size)
    screen.sees("saltmarsh", "PostgreSQL", "tide_read", "live")
    screen.sees("row 1 of")

    # Look: the end of a large table, a search in it, a sorted sheet.
    screen.press("t", *"tide", "Enter")
    screen.sees("200 000 rows")
    screen.press("End")
    screen.sees("row 200 000 of 200 000")
    screen.press("t", *"boats", "Enter")
    screen.sees("210 rows")
    screen.settles()

    # Watch the app; a step arrives without moving anybody, and is gone to.
    screen.press("w")
    screen.sees("watching")
    done = subprocess.run(
        [sys.executable, "-m", "jondel.demo.harbour_desk", "sell-fuel", "--clock", _CLOCK,
         "--database", f"postgresql://jondel@/saltmarsh?host={demo_server_folder()}"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert "42.5 litres sold" in done.stdout
    screen.sees("210 rows", "+2 ~1")
    screen.press("w", "]", "c")
    screen.sees("public.fuel_sales  +1", "public.invoices  +1")

    # Put it back.
    screen.press("[", "R")
    screen.sees("This will be undone", "public.fuel_sales  +1")
    screen.press("Enter")
    screen.sees("Restore", "to undo this")
    assert _asked("SELECT count(*) FROM fuel_sales") == [(640,)]

    # Fix a cell, see what is written, write it, take it back.
    screen.press("n", "r")
    screen.sees_no_more("not live")
    screen.settles()
    screen.press("t", *"boats", "Enter")
    screen.sees("public.boats  210 rows")
    screen.settles()
    screen.press("Home", "Right", "Right")
    screen.settles()
    screen.press("e")
    screen.sees("accept")
    screen.press(*"Quay")
    screen.sees("Quay")
    screen.press("Enter")
    screen.sees("* 1 not written")
    screen.press("W")
    screen.sees("Write 1 record", "→ Quay")
    screen.press("Enter")
    screen.sees("1 row written")
    assert _asked("SELECT name FROM boats WHERE id = 1") == [("Quay",)]
    screen.press("U")
    screen.sees("Take back", "→ Quay")
    screen.press("Enter")
    screen.sees("took back")
    assert _asked("SELECT name FROM boats WHERE id = 1") != [("Quay",)]
    screen.press("C-q")
    screen.sees("[ended with 0]")


@_SIZES
def test_a_database_is_chosen_and_others_are_gone_to(  # type: ignore[no-untyped-def]
    terminal, home: Path, tmp_path: Path, postgresql_database: str, monkeypatch, size
) -> None:
    with psycopg.connect(postgresql_database, autocommit=True) as connection:
        connection.execute("CREATE TABLE quays(id int PRIMARY KEY, name text)")
        connection.execute("INSERT INTO quays VALUES (1, 'north')")
    project = tmp_path / "project"
    project.mkdir()
    (project / ".env").write_text(f"DATABASE_URL={postgresql_database}\n")
    with closing(sqlite3.connect(project / "app.db")) as file:
        file.execute("CREATE TABLE berths(id INTEGER PRIMARY KEY)")
    monkeypatch.chdir(project)
    screen = terminal(size=size)
    screen.sees("open a database", "app.db", "PostgreSQL")
    screen.press("Down", "Enter")
    screen.sees("quays", "north", "live")
    screen.press("C-o")
    screen.sees("open a database", "app.db")
    screen.press("Enter")
    screen.sees("berths", "SQLite")
    screen.press("F3")
    screen.sees("quays", "north")
    screen.press("F3")
    screen.sees("berths", "SQLite")
    screen.press("C-o")
    screen.sees("open a database", "open now", "app.db")
    screen.press("Down", "c")
    screen.sees("Connect to a server")
    screen.press("Tab", *["BSpace"] * 9, *"localhost", "Tab", "1")
    screen.sees("postgresql://localhost:1/")
    screen.press("C-t")
    screen.sees("nothing listens on port 1 of localhost")
    screen.press("Escape", "Escape")
    screen.sees("berths", "SQLite")
    screen.press("C-q")
    screen.sees("[ended with 0]")
