"""Importing in the interface: looked into, matched, tried out, written, into the draft."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import apsw
import pytest
from driving import SMALL, WIDE, Driver, driven

from conftest import MakeDatabase

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL, length REAL, note TEXT)",
    "INSERT INTO boats VALUES (1, 'Gull', 7.5, NULL), (2, 'Tern', 9, '')",
)
BOATS = "Name,Length,colour\nPetrel,8.5,red\n,3,blue\nSkua,long,white\nKnot,6,\n"


def rows(path: Path, sql: str = "SELECT name, length FROM boats ORDER BY id") -> list[object]:
    with closing(apsw.Connection(str(path))) as connection:
        return list(connection.execute(sql))


async def chosen(driver: Driver, text: str) -> None:
    """Choose by its name the file that is imported."""
    await driver.press("G")
    await driver.sees("Import which file")
    await driver.press(*text, "enter")
    await driver.sees("goes into", "first values")


@pytest.fixture
def path(make: MakeDatabase, tmp_path: Path) -> Path:
    (tmp_path / "boats.csv").write_text(BOATS)
    return make(*HARBOUR)


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["wide", "small"])
async def test_a_file_is_tried_out_and_then_written_but_for_what_is_rejected(
    path: Path, size: tuple[int, int]
) -> None:
    async with driven(path, size=size) as driver:
        await chosen(driver, "boats")
        await driver.sees(
            "into the table boats; it has 4 rows", "(left out)", "! 1: line 4: 'long'"
        )
        await driver.press("ctrl+g")
        await driver.sees("nothing is written yet", "+2", "2 rows rejected")
        assert len(rows(path)) == 2
        await driver.press("ctrl+s")
        await driver.sees("written: 2 records · it is step s2")
    assert rows(path)[2:] == [("Petrel", 8.5), ("Knot", 6.0)]
    kept = (path.parent / "boats.rejected.csv").read_text().splitlines()
    assert [line.split(",")[:2] for line in kept[1:]] == [
        ["4", "length: 'long' is not a number"], ["3", "NOT NULL constraint failed: boats.name"],
    ]  # fmt: skip


async def test_columns_go_where_one_says_and_are_read_as_one_says(
    path: Path, tmp_path: Path
) -> None:
    (tmp_path / "fleet.csv").write_text("what;how long\nShag;7,5\n")
    async with driven(path) as driver:
        await chosen(driver, "fleet")
        await driver.sees("into a new table fleet", "separated by semicolons")
        await driver.press("t")
        await driver.sees("Into which table?")
        await driver.press(*"boats", "enter")
        await driver.sees("into the table boats", "no column of the file")
        await driver.press("enter")
        await driver.sees("Where what goes")
        await driver.press(*"name", "enter")
        await driver.press("down", "enter")
        await driver.sees("Where how long goes")
        await driver.press(*"length", "enter")
        await driver.sees("! 1: line 2: '7,5' is not a number")
        await driver.press("y")
        await driver.press(*"comma", "enter")
        await driver.sees("comma decimals")
        await driver.press("ctrl+s")
        await driver.sees("Import fleet.csv into boats?")
        await driver.press("enter")
        await driver.sees("written: 1 record")
    assert rows(path)[2:] == [("Shag", 7.5)]


async def test_a_new_table_is_made_with_the_names_and_types_one_chose(
    path: Path, tmp_path: Path
) -> None:
    (tmp_path / "tides.json").write_text('[{"id": 1, "height": "2.5", "seen": "x"}]')
    async with driven(path) as driver:
        await chosen(driver, "tides")
        await driver.sees("into a new table tides", "id key", "NUMERIC")
        await driver.press("k", "down", "y")
        await driver.press(*"REAL", "enter")
        await driver.press("down", "enter")
        await driver.press(*("backspace",) * 4, *"noted", "ctrl+s")
        await driver.sees("→ noted")
        await driver.press("ctrl+g")
        await driver.sees("nothing is written yet", "table added")
        await driver.press("ctrl+s")
        await driver.sees("written: 1 record")
        await driver.until(lambda: any(t.name == "tides" for t in driver.desk.state.tables))
    assert rows(path, "SELECT sql FROM sqlite_schema WHERE name = 'tides'") == [
        ("CREATE TABLE tides (\n  id INTEGER,\n  height REAL,\n  noted TEXT\n)",)
    ]


async def test_rows_go_into_the_draft_and_are_written_from_there(path: Path) -> None:
    async with driven(path) as driver:
        await chosen(driver, "boats")
        await driver.press("down", "down", "space")
        await driver.press("d")
        await driver.sees("3 records of boats.csv are in the draft", "1 row rejected")
        assert len(rows(path)) == 2
        await driver.until(lambda: len(driver.workspace.drafts.draft) == 3)
        await driver.press("ctrl+z")
        await driver.until(lambda: len(driver.workspace.drafts.draft) == 0)


async def test_what_cannot_be_imported_is_said_and_nothing_happens(
    path: Path, tmp_path: Path
) -> None:
    (tmp_path / "wrong.json").write_text("{")
    async with driven(path) as driver:
        await driver.press("G", *"wrong", "enter")
        await driver.sees("wrong.json: is no JSON")
        await driver.press("G", *"nowhere.csv", "ctrl+s")
        await driver.sees("nowhere.csv: cannot be read")
        await chosen(driver, "boats")
        await driver.press("space", "down", "space")
        await driver.sees("no column of the file goes into the table")
        await driver.press("ctrl+g")
        assert driver.dialog_is_open
        await driver.press("escape")
    assert len(rows(path)) == 2


async def test_read_only_stays_read_only_and_a_step_is_only_tried_out_on(path: Path) -> None:
    async with driven(path) as driver:
        await driver.press("s")
        await driver.until(lambda: len(driver.steps) == 1)
        await driver.press("ctrl+r")
        await chosen(driver, "boats")
        await driver.press("ctrl+s")
        await driver.sees("read-only")
        await driver.press("left_square_bracket")
        await driver.sees("as of s1")
        await chosen(driver, "boats")
        await driver.press("ctrl+g")
        await driver.sees("2 rows rejected", "+2")
    assert len(rows(path)) == 2


async def test_from_an_empty_tape_one_gets_out_of_the_box_to_where_letters_are_keys(
    path: Path,
) -> None:
    async with driven(path) as driver:
        await driver.press("Q")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        await driver.press("escape", "G")
        await driver.sees("Import which file")
