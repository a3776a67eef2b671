"""The query view in a real terminal, beside Harbour Desk in a process of its own."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from outside import harbour_desk

_CLOCK = "2026-06-14T14:02:11"
pytestmark = pytest.mark.terminal


def _asked(database: Path, sql: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(database)) as connection:
        return connection.execute(sql).fetchall()


def test_asked_tried_out_written_and_asked_again(terminal, home: Path) -> None:  # type: ignore[no-untyped-def]
    database = home / "demo" / "saltmarsh.db"
    screen = terminal("demo", "--clock", _CLOCK)
    screen.sees("saltmarsh.db", "live", "tide_readings")

    # Composed with what is offered: the table, then the condition that joins it.
    screen.press("Q")
    screen.sees("asks now", "Ctrl+G runs it")
    screen.type("select b.name, k.status from book")
    screen.sees("Tab takes")
    screen.press("Tab")
    screen.type(" k join boat")
    screen.sees("boats")
    screen.press("Tab")
    screen.type(" b on ")
    screen.sees("k.boat_id = b.id")
    screen.press("Tab")
    screen.type(" where k.id < 4")
    screen.press("C-g")
    screen.sees("3 rows")

    # Of two statements only the one that is selected is run.
    screen.press("F7", "DC")
    screen.type("select 41 as first; select 42 as second")
    screen.press("Home", *["S-Right"] * len("select 41 as first"), "C-g")
    screen.sees("2 entries", "select 41 as first", "1 row")

    # Tried out beside the app, which goes on meanwhile; then written as a step.
    screen.press("F7", "DC")
    screen.type("update bookings set status = 'held' where id < 3")
    before = _asked(database, "SELECT id, status FROM bookings WHERE id < 3")
    screen.press("C-g")
    screen.sees("nothing is written yet", "rehearsed")
    assert _asked(database, "SELECT id, status FROM bookings WHERE id < 3") == before
    assert "litres sold" in harbour_desk("sell-fuel", database, _CLOCK)
    screen.press("C-s")
    screen.sees("it would still change the same")
    screen.press("C-s")
    screen.sees("written: 2 records", "it is step s")
    assert _asked(database, "SELECT DISTINCT status FROM bookings WHERE id < 3") == [("held",)]

    # What never ends is stopped, and what was asked first is run again from the tape.
    screen.press("F7", "DC")
    screen.type(
        "with recursive n(x) as (select 1 union all select x + 1 from n) select max(x) from n"
    )
    screen.press("C-g")
    screen.sees("Escape stops it")
    screen.press("Escape")
    screen.sees("Ctrl+G runs it")
    screen.press("Escape", "Home", "C-g")
    screen.sees("4 entries")
    screen.press("Escape", "C-q")


@pytest.mark.parametrize("size", [(160, 47), (80, 24)], ids=["160x47", "80x24"])
def test_a_file_is_imported_but_for_the_rows_that_cannot_go_in(  # type: ignore[no-untyped-def]
    terminal, home: Path, size: tuple[int, int]
) -> None:
    database = home / "demo" / "saltmarsh.db"
    screen = terminal("demo", "--clock", _CLOCK, size=size)
    screen.sees("saltmarsh.db", "live", "tide_readings")
    count = "SELECT count(*) FROM boats"
    before = _asked(database, count)
    screen.press("t")
    screen.type("boats")
    screen.press("Enter")
    screen.sees("boats  210 rows")
    screen.press("G")
    screen.sees("Import which file")
    screen.type("visit")
    screen.press("Enter")
    screen.sees("into the table boats; it has 8 rows", "! 1: line 6")
    screen.press("C-g")
    screen.sees("nothing is written yet", "3 rows rejected", "+5")
    assert _asked(database, count) == before
    screen.press("C-s")
    screen.sees("written: 5 records", "it is step s")
    assert _asked(database, count) == [(before[0][0] + 5,)]
    kept = (database.parent / "visiting_boats.rejected.csv").read_text().splitlines()
    assert kept[0].startswith("rejected_line,rejected_reason,Skipper ID")
    assert sorted(line.split(",")[0] for line in kept[1:]) == ["5", "6", "7"]
    screen.press("Escape", "C-q")
