"""An app that writes without a pause: what is shown stays, says how old it is, and waits."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest
from driving import SMALL, WIDE, driven

import outside
from conftest import MakeDatabase
from jondel.core.engines.sqlite import capture, live_reader, state_wait
from jondel.core.engines.sqlite.committed_state import CommittedState, LiveFiles, NotYet
from jondel.core.errors import TargetBusy
from jondel.tui.services.early_look import Identity
from jondel.tui.services.rows import RowService


@pytest.mark.parametrize("size", [WIDE, SMALL], ids=["160x47", "80x24"])
async def test_rows_stay_with_their_age_until_they_can_be_read_or_a_lock_is_asked_for(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch, size: tuple[int, int]
) -> None:
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'first')")
    busy = False
    locks: list[Path] = []  # several threads may hold one, and work under one may be stopped
    find, lock = LiveFiles.find, capture.reading_lock

    def found(files: LiveFiles) -> CommittedState | NotYet:
        return NotYet(0.001) if busy and not locks else find(files)

    @contextmanager
    def held(target: Path) -> Iterator[None]:
        with lock(target):
            locks.append(target)
            try:
                yield
            finally:
                locks.remove(target)

    monkeypatch.setattr(LiveFiles, "find", found)
    monkeypatch.setattr(capture, "reading_lock", held)
    for module in (state_wait, live_reader, capture):
        monkeypatch.setattr(module, "PATIENCE_SECONDS", 0.1)

    def write(value: str) -> None:
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("UPDATE t SET v = ?", (value,))
            connection.commit()

    async with driven(path, size=size) as driver:
        await driver.sees("first", "live")
        busy = True
        write("second")
        await driver.sees("first", "as of", "the app never pauses")
        await driver.sees("K read under a lock")
        await driver.press("K")
        await driver.sees("second")
        await driver.until(lambda: not driver.desk.busy_with and not locks)
        write("third")
        await driver.sees("second", "the app never pauses")
        busy = False
        await driver.sees("third", " live")
        assert "never pauses" not in driver.text
    assert outside.rows(path, "SELECT v FROM t") == [["third"]]


async def test_rows_are_shown_though_the_app_leaves_no_pause_to_say_what_they_are_of(
    make: MakeDatabase, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'first')")
    refused, busy = 0, True
    identity = RowService.identity

    async def refuse(rows: RowService) -> Identity:
        nonlocal refused
        if busy:
            refused += 1
            raise TargetBusy(f"{path}: the app writes without a pause")
        return await identity(rows)

    monkeypatch.setattr(RowService, "identity", refuse)
    async with driven(path) as driver:
        await driver.sees("first", "row 1 of 1")
        await driver.until(lambda: refused > 2)
        assert "SQLite" not in driver.text
        assert "cannot be read" not in driver.text
        assert "first" in driver.text
        busy = False
        await driver.sees("SQLite", "first", " live")
