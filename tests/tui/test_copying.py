"""Copying from the sheet, the card and Changes, to the clipboard or a file."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from driving import driven

from conftest import MakeDatabase, OpenApp

_BOATS = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, note TEXT)",
    "INSERT INTO boats VALUES (1, 'Gull', NULL), (2, 'Tern', ''), (10, '[/x]', 'a\tb')",
)


@pytest.fixture(autouse=True)
def _terminal(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TERM", "xterm-256color")


async def test_a_cell_a_record_and_the_rows_shown_are_copied(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.open_table("boats", "name", 2)
        await driver.press("C")
        await driver.sees("Copy to the clipboard", "the cell: name", "all 3 rows of the sheet")
        await driver.press("enter")
        await driver.sees("copied the cell: name as text, 4 B to the terminal's clipboard")
        assert driver.app.clipboard == "[/x]"
        await driver.press("C", "down", "down", "j")
        await driver.sees("copied the record, all columns as JSON")
        assert json.loads(driver.app.clipboard) == {"id": 10, "name": "[/x]", "note": "a\tb"}
        await driver.press("C", "end", "c")
        await driver.sees("copied all 3 rows of the sheet as CSV")
        assert driver.app.clipboard == 'id,name,note\n1,Gull,\n2,Tern,""\n10,[/x],a\tb'


async def test_chosen_rows_come_first_and_the_draft_counts(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.open_table("boats", "name", 2)
        await driver.press("space", "up", "space", "e", "end", *"s", "enter")
        await driver.sees("* 1 not written")
        await driver.press("C")
        await driver.sees("2 chosen rows")
        await driver.press("enter")
        await driver.sees("copied 2 chosen rows as text")
        assert driver.app.clipboard == "2\tTern\t\n10\t[/x]s\ta\tb"


async def test_what_the_clipboard_cannot_take_goes_to_a_file(
    make: MakeDatabase, home: Path
) -> None:
    path = make(*_BOATS, f"UPDATE boats SET note = '{'x' * 80_000}' WHERE id = 1")
    async with driven(path) as driver:
        await driver.open_table("boats", "note")
        await driver.press("C", "enter")
        await driver.sees("copied to a file (too long for the terminal's clipboard)")
        assert [file.read_text() for file in (home / "copies").iterdir()] == ["x" * 80_000]
        await driver.open_table("boats", "name")
        await driver.press("C", "f")
        await driver.sees("Copy to a file")
        await driver.press("m")
        await driver.sees("copied to a file:")
        assert len(list((home / "copies").glob("name-*.md"))) == 1


async def test_a_terminal_without_a_clipboard_gets_a_file(
    make: MakeDatabase, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("TERM", "linux")
    async with driven(make(*_BOATS)) as driver:
        await driver.press("C", "enter")
        await driver.sees("this terminal has no clipboard")
        assert len(list((home / "copies").iterdir())) == 1


async def test_the_change_of_a_record_is_copied(make: MakeDatabase, app: OpenApp) -> None:
    path = make(*_BOATS)
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1 taken")
        app(path).run("UPDATE boats SET name = 'Skua' WHERE id = 2")
        await driver.press("c")
        await driver.sees("Tern → Skua")
        await driver.press("C", "j")
        await driver.sees("copied the change of this record as JSON")
        assert json.loads(driver.app.clipboard)["tables"] == [
            {
                "schema": "main",
                "table": "boats",
                "key": ["id"],
                "added": [],
                "removed": [],
                "changed": [
                    {"key": {"id": 2}, "cells": {"name": {"before": "Tern", "after": "Skua"}}}
                ],
            }
        ]


async def test_copying_is_found_by_name(make: MakeDatabase) -> None:
    async with driven(make(*_BOATS)) as driver:
        await driver.open_table("boats", "name")
        await driver.press("ctrl+p")
        await driver.pilot.pause()
        await driver.press(*"copy the record as markdown")
        await driver.sees("copy the record as Markdown")
        await driver.press("enter")
        await driver.sees("copied the record, all columns as Markdown")
        assert "| name | Gull |" in driver.app.clipboard
