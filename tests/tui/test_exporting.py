"""Exporting in the interface: the sheet, tables, an entry's rows, changes; stopped; replaced."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven

from conftest import MakeDatabase

HARBOUR = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT NOT NULL, length REAL)",
    "CREATE TABLE log(what)",
    "INSERT INTO boats VALUES (1, 'Gull', 7.5), (2, 'Tern', 9), (3, 'Knot', 3)",
    "INSERT INTO log VALUES ('x')",
)
_FORMS = ["csv", "json", "jsonl", "xlsx", "sql", "sql with the table", "markdown", "html", "text"]


def form(name: str) -> list[str]:
    """The keys that choose a format."""
    return ["tab", *["down"] * _FORMS.index(name)]


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make(*HARBOUR)


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["wide", "small"])
async def test_the_sheet_is_written_as_it_is_filtered_and_then_replaced_when_asked(
    path: Path, size: tuple[int, int]
) -> None:
    file = path.parent / "boats.jsonl"
    async with driven(path, size=size) as driver:
        await driver.press("f", *"gull", "enter")
        await driver.sees("1 of 3")
        await driver.press("D")
        await driver.sees("Export to a file", "1 row of boats, filtered")
        await driver.press(*form("jsonl"))
        await driver.sees("boats.jsonl")
        await driver.press("enter")
        await driver.sees("1 row in", "boats.jsonl")
        assert [json.loads(line) for line in file.read_text().splitlines()] == [
            {"id": 1, "name": "Gull", "length": 7.5}
        ]
        await driver.press("D", "down", "down", *form("jsonl"), "enter")
        await driver.sees("Replace boats.jsonl?")
        await driver.press("enter")
        await driver.sees("3 rows in")
    assert len(file.read_text().splitlines()) == 3


async def test_several_tables_are_chosen_and_written_into_a_folder(path: Path) -> None:
    async with driven(path) as driver:
        await driver.press("D", "down", "down", "down", "enter")
        await driver.sees("Which tables?")
        await driver.press("a", "enter")
        await driver.sees("4 rows in 2 files in")
        await driver.press("D", "down", "down", "down", *form("sql with the table"), "ctrl+s")
        await driver.sees("Which tables?")
        await driver.press("down", "space", "enter")
        await driver.sees("1 row in", "tables.sql")
    assert (path.parent / "tables" / "log.csv").read_text() == "what\nx\n"
    assert "CREATE TABLE log" in (path.parent / "tables.sql").read_text()


async def test_an_entrys_rows_and_the_changes_of_a_step_are_written(path: Path) -> None:
    async with driven(path) as driver:
        await driver.press("s")
        await driver.until(lambda: len(driver.steps) == 1)
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("UPDATE boats SET name = 'Skua' WHERE id = 2")
        await driver.press("s")
        await driver.until(lambda: len(driver.steps) == 2)
        await driver.sees("Tern → Skua")
        await driver.press("D")
        await driver.sees("the changes from s1 to s2")
        await driver.press(*form("sql"), "enter")
        await driver.sees("1 record in", "changes.sql")
        await driver.press("n", "Q")
        await driver.until(lambda: driver.desk.navigator.view == "query")
        await driver.press(*"values", "space", "left_parenthesis", "7", "right_parenthesis")
        await driver.press("ctrl+g")
        await driver.sees("1 row")
        await driver.press("escape", "D")
        await driver.sees("the entry: 1 row")
        await driver.press("enter")
        await driver.sees("1 row in", "result.csv")
    assert "SET name = 'Skua'" in (path.parent / "changes.sql").read_text()
    assert (path.parent / "result.csv").read_text() == "column1\n7\n"


async def test_what_cannot_be_written_is_said(path: Path) -> None:
    async with driven(path) as driver:
        await driver.press("D", "tab", "tab", *["backspace"] * 9, *"nowhere", "slash", "x", "enter")
        await driver.sees("nowhere/x: cannot be written")


async def test_a_long_export_is_stopped_by_escape_and_leaves_nothing(make: MakeDatabase) -> None:
    path = make(
        "CREATE TABLE n(id INTEGER PRIMARY KEY, v TEXT)",
        "WITH RECURSIVE i(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM i WHERE x < 400000) "
        "INSERT INTO n SELECT x, 'value ' || x FROM i",
    )
    async with driven(path) as driver:
        await driver.press("D", *form("html"), "enter")
        await driver.sees("exporting")
        await driver.press("escape")
        await driver.until(lambda: "exporting …" not in driver.text)
        await driver.sees("the export was stopped; n.html is as it was")
    assert [p.name for p in path.parent.iterdir() if "n." in p.name and p.suffix == ".html"] == []


async def test_a_record_is_written_with_all_it_needs_masked_and_with_other_numbers(
    make: MakeDatabase,
) -> None:
    path = make(
        "CREATE TABLE skippers(id INTEGER PRIMARY KEY, name TEXT)",
        "CREATE TABLE boats(id INTEGER PRIMARY KEY, skipper INT REFERENCES skippers)",
        "CREATE TABLE sales(id INTEGER PRIMARY KEY, boat INT REFERENCES boats)",
        "INSERT INTO skippers VALUES (7, 'Ada Marsh'), (8, 'Bo Reed')",
        "INSERT INTO boats VALUES (30, 7), (31, 8)",
        "INSERT INTO sales VALUES (100, 30), (101, 30), (102, 31)",
    )
    async with driven(path) as driver:
        await driver.press("t", *"boats", "enter")
        await driver.until(lambda: driver.table is not None and driver.table.name == "boats")
        await driver.press("D", "down", *form("json"), "enter")
        await driver.sees("with all that it needs", "2 records: skippers 1, boats 1")
        await driver.press("space")
        await driver.sees("4 records: skippers 1, boats 1, sales 2")
        await driver.press("r", "m")
        await driver.sees("Which columns are masked?")
        await driver.press("space", "enter")
        await driver.sees("other numbers, from 1 on; masked: skippers.name")
        await driver.press("enter")
        await driver.sees("4 records in boats-record.json")
    document = json.loads((path.parent / "boats-record.json").read_text())
    assert [(entry["table"], entry["row"]) for entry in document["records"]] == [
        ("skippers", {"id": 1, "name": "name 1"}),
        ("boats", {"id": 1, "skipper": 1}),
        ("sales", {"id": 1, "boat": 1}),
        ("sales", {"id": 2, "boat": 1}),
    ]
