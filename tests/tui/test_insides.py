"""What differs inside values, on the screen: in Changes, the card, history and confirmations."""

from __future__ import annotations

import json

import pytest
from driving import SMALL, WIDE, driven

from conftest import MakeDatabase, OpenApp

_DOCUMENT = {"pk": 6, "path": "0001", "lines": [{"id": n, "price": 4.5} for n in range(9)]}
_NOTE = "The boat lies at the north pontoon. " * 9


def _database(make: MakeDatabase, app: OpenApp):  # type: ignore[no-untyped-def]
    path = make("CREATE TABLE settings(id INTEGER PRIMARY KEY, body TEXT, note TEXT, photo BLOB)")
    writer = app(path)
    writer.run(
        "INSERT INTO settings VALUES (1, ?, ?, ?)", json.dumps(_DOCUMENT), _NOTE, b"\0" * 90 + b"a"
    )
    return path, writer


def _change(writer) -> None:  # type: ignore[no-untyped-def]
    changed = json.loads(json.dumps(_DOCUMENT))
    changed["lines"][4]["price"] = 5
    changed["lines"].insert(1, {"id": 77, "price": 1})
    writer.run(
        "UPDATE settings SET body = ?, note = ?, photo = ?",
        json.dumps(changed),
        _NOTE + "Mind the tide.",
        b"\0" * 90 + b"b",
    )


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_changes_card_history_and_confirmation_show_what_differs(
    make: MakeDatabase, app: OpenApp, size: tuple[int, int]
) -> None:
    path, writer = _database(make, app)
    async with driven(path, size) as driver:
        await driver.press("s")
        await driver.sees("s1")
        _change(writer)
        await driver.press("c")
        await driver.sees("+ lines[1]", "~ lines[5].price  4.5 → 5", "‹+ Mind the tide.›")
        await driver.sees("61 → 62")
        if size == WIDE:
            await driver.until(
                lambda: any("lines[5].price  4.5 → 5" in line[114:] for line in driver.lines)
            )
        await driver.press("u")
        await driver.sees("Take back the change of this record?", "~ lines[5].price  4.5 → 5")
        await driver.press("escape", "s")
        await driver.sees("s2")
        await driver.press("h")
        await driver.sees("history, latest first", "~ lines[5].price  4.5 → 5", "‹+ Mind the")


async def test_a_write_shows_what_it_changes_inside_long_values(
    make: MakeDatabase, app: OpenApp
) -> None:
    path, _ = _database(make, app)
    async with driven(path) as driver:
        await driver.open_table("settings", "note")
        await driver.press("e", "end", *"tide", "enter")
        await driver.sees("* 1 not written")
        await driver.press("W")
        await driver.sees("Write 1 record", "~ 1  note", "‹+ tide›")


async def test_noise_rules_that_others_write_are_followed(
    make: MakeDatabase, app: OpenApp, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("jondel.tui.services.follower._TRAIL_CHECK_SECONDS", 0.2)
    path, writer = _database(make, app)
    rules = path.with_name("jondel.toml")
    rules.write_text('[noise]\ntables = ["crews"]\n')
    async with driven(path) as driver:
        await driver.press("s")
        await driver.sees("s1")
        writer.run("UPDATE settings SET note = 'other'")
        await driver.press("c")
        await driver.sees("settings  ~1")
        rules.write_text('[noise]\ncolumns = ["settings.note"]\n# by hand\n')
        await driver.sees("1 record is hidden")
        rules.write_text("[noise]\ncolumns = 3\n")
        await driver.sees("expected `array`, got `int`", "settings  ~1")
        rules.write_text('[noise]\ntables = ["boats"]\n# by hand\n')
        await driver.sees("settings  ~1", "are followed")
        await driver.press("x")
        await driver.sees("settings.note")
        await driver.press("enter")
        await driver.sees("hidden from now on")
        kept = rules.read_text()
        assert '"boats"' in kept
        assert "# by hand" in kept
        assert "settings.note" in kept
