"""Several databases at once: chosen from a list, gone to with one key, each going on by itself."""

from __future__ import annotations

import asyncio
import threading
import uuid
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import apsw
import psycopg
import pytest
from driving import Driver, driven, opened_without
from textual import events
from textual.widgets import OptionList

from conftest import OpenApp
from jondel.core.errors import JondelError, PasswordNeeded, TargetUnavailable
from jondel.tui.dialogs.entries import FileDialog
from jondel.tui.frame.screen import MainScreen
from jondel.tui.opening import screen as opening
from jondel.tui.opening.screen import OpeningScreen
from jondel.tui.services.early_look import EarlyLook, looked_at
from jondel.tui.widgets.text_fields import TextField


@pytest.fixture
def project(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with two databases."""
    for name, rows in (("berths", 30), ("skippers", 20)):
        with closing(apsw.Connection(str(tmp_path / f"{name}.db"))) as connection:
            connection.execute(f"CREATE TABLE {name}(id INTEGER PRIMARY KEY, note TEXT)")
            connection.executemany(
                f"INSERT INTO {name} VALUES (?, ?)", [(n, f"{name} {n}") for n in range(rows)]
            )
    monkeypatch.chdir(tmp_path)
    return tmp_path


async def _open_the_other(driver: Driver) -> None:
    await driver.press("ctrl+o")
    await driver.sees("open now", "found in this project", "skippers.db")
    await driver.press("enter")
    await driver.sees("skippers  20 rows", "F3 berths.db")


def _highlighted(driver: Driver) -> str:
    choices = driver.app.screen.query_one("#choices", OptionList)
    at = choices.highlighted
    return str(choices.get_option_at_index(at).prompt) if at is not None else ""


async def test_one_key_goes_from_one_to_the_other_and_back(project: Path) -> None:
    async with driven(project / "berths.db") as driver:
        await driver.sees("berths  30 rows")
        await driver.press("f3")
        await driver.sees("no other database is open: Ctrl+O opens one")
        await driver.press(*["down"] * 4, "right", "e", *"quay", "enter")
        await driver.sees("1 not written")
        await _open_the_other(driver)
        await driver.press("down", "f3")
        await driver.sees("berths  30 rows", "F3 skippers.db", "1 not written", "row 5 of 30")
        await driver.press("f3", "down")  # the second is meant for what the first one goes to
        await driver.sees("skippers  20 rows", "row 3 of 20")
        await driver.press("ctrl+o")
        await driver.sees("berths.db    SQLite", "1 not written")


async def test_what_is_behind_goes_on(project: Path, app: OpenApp) -> None:
    async with driven(project / "berths.db") as driver:
        await driver.press("w")
        await driver.sees("watching", "trail starts")
        behind = driver.screen
        await _open_the_other(driver)
        app(project / "berths.db").run("UPDATE berths SET note = 'new' WHERE id = 7")
        await driver.until(lambda: len(behind.workspace.trail.steps) == 2)
        assert "skippers  20 rows" in driver.text
        await driver.press("ctrl+o")
        await driver.sees("2 steps · watching")
        await driver.press("escape", "f3")
        await driver.sees("berths  30 rows", "watching", "~1")


async def test_a_dialog_waits_until_its_database_is_in_front(project: Path) -> None:
    async with driven(project / "berths.db") as driver:
        behind = driver.desk
        await _open_the_other(driver)

        async def ask() -> None:
            await behind.ask(FileDialog("Of the berths"))

        behind.start(ask, "ask")
        await driver.pilot.pause(0.2)
        assert not driver.dialog_is_open
        await driver.press("ctrl+o")
        await driver.sees("open now")
        await driver.pilot.pause(0.2)
        assert isinstance(driver.app.screen, OpeningScreen)
        await driver.press("escape", "f3")
        await driver.sees("Of the berths")
        await driver.press("escape", "f3")
        await driver.sees("skippers  20 rows")


async def test_one_is_closed_and_then_the_last(project: Path) -> None:
    async with driven(project / "berths.db") as driver:
        first = driver.screen
        await driver.press("right", "e", *"pier", "enter")
        await driver.sees("1 not written")
        await _open_the_other(driver)
        await driver.press("f3", "ctrl+w")
        await driver.sees("skippers  20 rows")
        await driver.sees("berths.db is closed; what was not written is kept in its draft")
        await driver.until(lambda: not first.is_running)
        assert "F3" not in driver.lines[0]
        await driver.press("ctrl+w")
        await driver.sees("open a database", "berths.db", "skippers.db is closed", "Escape leaves")
        await driver.press("end", "enter")
        await driver.sees("berths  30 rows", "1 not written")


async def test_without_a_target_the_list_comes_first(project: Path) -> None:
    async with opened_without() as driver:
        await driver.sees("found in this project", "berths.db", "skippers.db")
        await driver.press("ctrl+p")
        assert isinstance(driver.app.screen, OpeningScreen)
        await driver.press("T", "enter")
        await driver.until(lambda: len(driver.app.open_databases) == 1)
        await driver.sees("rows", "live")
        assert driver.app.theme == "morning"


async def test_what_cannot_be_opened_is_said_in_the_list(
    project: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refused(target: str) -> EarlyLook:
        raise TargetUnavailable(f"{Path(target).name}: nobody is in")

    monkeypatch.setattr(opening, "looked_at", refused)
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        await driver.press("enter")
        await driver.sees("skippers.db: nobody is in", "open a database")
        await driver.press("escape")
        await driver.sees("berths  30 rows")


async def test_a_password_is_asked_for_in_the_list(
    project: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    told: list[tuple[str, str]] = []

    def locked(target: str) -> EarlyLook:
        if len(told) < 2:
            raise PasswordNeeded("the harbour's: a password is needed", "the harbour's")
        return looked_at(target)

    monkeypatch.setattr(opening, "looked_at", locked)
    monkeypatch.setattr(opening, "tell_password", lambda *what: told.append(what))
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        await driver.press("enter")
        await driver.sees("a password is needed", "Password")
        await driver.press(*"wrong")
        assert "wrong" not in driver.text
        await driver.press("enter")
        await driver.until(lambda: len(told) == 1)
        await driver.sees("a password is needed", "neither shown nor kept")
        await driver.press(*"right", "enter")
        await driver.sees("skippers  20 rows")
    assert told == [("the harbour's", "wrong"), ("the harbour's", "right")]


@pytest.mark.parametrize("ends", [looked_at, None], ids=["opened", "refused"])
async def test_opening_that_takes_long_is_given_up(
    ends: Callable[[str], EarlyLook] | None, project: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    may_end, let_go = threading.Event(), threading.Event()

    def slow(target: str) -> EarlyLook:
        may_end.wait(20)
        if ends is None:
            let_go.set()
            raise JondelError("too late")
        early = ends(target)
        monkeypatch.setattr(early, "let_go", let_go.set)
        return early

    monkeypatch.setattr(opening, "looked_at", slow)
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        await driver.press("enter", "c")
        await driver.sees("opening skippers.db")
        await driver.press("escape")
        await driver.sees("given up", "open a database")
        may_end.set()
        await asyncio.to_thread(let_go.wait, 20)
        assert let_go.is_set()
        await driver.press("escape")
        await driver.sees("berths  30 rows")
        assert len(driver.app.open_databases) == 1


async def test_two_open_databases_are_compared(project: Path, app: OpenApp) -> None:
    copy = project / "copy.db"
    copy.write_bytes((project / "berths.db").read_bytes())
    app(copy).run("UPDATE berths SET note = 'as it was' WHERE id = 3")
    app(copy).run("INSERT INTO berths VALUES (90, 'gone since')")
    app(project / "berths.db").run("DELETE FROM berths WHERE id = 7")
    async with driven(project / "berths.db") as driver:
        await driver.press("M")
        await driver.sees("no other database is open: Ctrl+O opens one")
        await driver.press("ctrl+o")
        await driver.sees("copy.db", "skippers.db")
        (project / "skippers.db").unlink()
        while "copy.db" not in _highlighted(driver):
            await driver.press("down")
        await driver.press("enter")
        await driver.sees("berths  31 rows", "F3 berths.db")
        await driver.press("f3", "s")
        await driver.sees("s1 taken")
        await driver.press("M")
        await driver.sees("changes from copy.db to now", "~ 3 ", "as it was → berths 3", "- 90")
        await driver.sees("- 90 ", "~1 -2")
        app(project / "berths.db").run("INSERT INTO berths VALUES (70, 'new')")
        await driver.sees("+1 ~1 -2", "+ 70")
        await driver.press("end", "u")
        await driver.sees("these are differences from copy.db, not changes to take back")
        await driver.press("home", "enter")
        await driver.sees("berths  30 rows", "row 4 of 30")
        await driver.press("backspace")
        await driver.sees("changes from copy.db")
        app(copy).run("UPDATE berths SET note = 'berths 3' WHERE id = 3")
        await driver.press("f3", "f3")  # what was changed there is seen when one comes back
        await driver.sees("+1 -2")
        await driver.press("f3", "ctrl+w")
        await driver.sees("changes from copy.db")
        await driver.press("m")
        await driver.sees("changes since s1")


async def test_two_that_are_called_alike_are_told_apart(project: Path) -> None:
    (project / "older").mkdir()
    (project / "older" / "berths.db").write_bytes((project / "berths.db").read_bytes())
    async with driven(project / "berths.db") as driver:
        await driver.app.open_database(
            str(project / "older" / "berths.db"), looked_at(str(project / "older/berths.db"))
        )
        assert driver.desk.others[0].shown_name == f"{project.name}/berths.db"
        await driver.press("f3", "M")
        await driver.sees("Nothing differs between older/berths.db and now.")


async def test_a_server_is_compared_with_a_file(tmp_path: Path, postgresql_database: str) -> None:
    with psycopg.connect(postgresql_database, autocommit=True) as server:
        server.execute(
            "CREATE TABLE boats(id uuid PRIMARY KEY, name text, price numeric(8, 2), afloat bool)"
        )
        for n in range(1, 4):
            server.execute(
                "INSERT INTO boats VALUES (lpad(%s, 32, '0')::uuid, %s, %s, true)",
                (str(n), f"boat {n}", n + 0.5),
            )
    path = tmp_path / "boats.db"
    with closing(apsw.Connection(str(path))) as file:
        file.execute("CREATE TABLE boats(id TEXT PRIMARY KEY, name TEXT, price REAL, afloat INT)")
        for n in (1, 2, 4):
            name = "other" if n == 2 else f"boat {n}"
            file.execute(
                "INSERT INTO boats VALUES (?, ?, ?, 1)", (str(uuid.UUID(int=n)), name, n + 0.5)
            )
    async with driven(path) as driver:
        await driver.app.open_database(postgresql_database, looked_at(postgresql_database))
        await driver.sees("boats  3 rows", "PostgreSQL", "F3 boats.db")
        await driver.press("M")
        await driver.sees("changes from boats.db to now", "+1 ~1 -1", "name  other → boat 2")
        assert "price" not in "".join(line for line in driver.lines if "→" in line)
        await driver.press("enter")
        await driver.sees("boats  3 rows", "row 2 of 3", "boat 2")
        await driver.press("f3", "M")
        await driver.sees("to now", "+1 ~1 -1", "name  boat 2 → other")
        await driver.press("enter")
        await driver.sees("boats  3 rows", "row 2 of 3", "other")


async def test_a_password_in_a_url_is_never_shown(project: Path, postgresql_database: str) -> None:
    """The server asks for none, so that any will do."""
    split = urlsplit(postgresql_database)
    url = urlunsplit(
        split._replace(netloc=f"{split.username}:sesame@{split.netloc.split('@')[-1]}")
    )
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        await driver.press("c", "home", "shift+end", "delete")
        driver.app.screen.query_one("#url", TextField).entered = url
        await driver.pilot.pause()
        assert "sesame" not in driver.text
        await driver.press("enter")
        await driver.sees("PostgreSQL", "F3 berths.db")
        await driver.press("f3", "ctrl+o")
        await driver.sees("open now", "PostgreSQL")
        assert "sesame" not in driver.text
        await driver.press("d")
        await driver.sees("databases of ", "r lists everything again")
        assert "sesame" not in driver.text
        assert '""' not in driver.text, "of these no more is known than their names"


@pytest.mark.parametrize(
    "keys",
    [
        ("enter", "escape"),
        ("enter", "enter"),
        ("enter", "c", "escape", "escape"),
        ("escape", "escape"),
        ("enter", "ctrl+o", "escape"),
    ],
    ids=" ".join,
)
async def test_keys_in_one_breath_leave_the_list_once(project: Path, keys: Sequence[str]) -> None:
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        for key in keys:
            driver.app.post_message(events.Key(key, key if len(key) == 1 else None))
        while not isinstance(driver.app.screen, MainScreen):
            await driver.pilot.pause(0.2)
            await driver.press("escape")  # it gave up what was being opened, or closed a dialog
        await driver.sees("rows", "live")
        await driver.press("down")
        await driver.sees("row 2 of")


@pytest.mark.parametrize("key", ["f3", "ctrl+w"])
async def test_a_dialog_that_is_being_opened_stays_with_its_database(
    project: Path, key: str
) -> None:
    async with driven(project / "berths.db") as driver:
        await _open_the_other(driver)
        for pressed in ("question_mark", key):
            driver.app.post_message(events.Key(pressed, "?" if pressed != key else None))
        await driver.sees("What the keys do here")
        await driver.press("escape")
        await driver.until(lambda: not driver.dialog_is_open)
        await driver.sees("skippers  20 rows", "F3 berths.db")


@pytest.mark.parametrize("key", ["f3", "ctrl+w"])
async def test_what_is_typed_after_going_goes_where_one_went(project: Path, key: str) -> None:
    async with driven(project / "berths.db") as driver:
        await _open_the_other(driver)
        for pressed in (key, "question_mark", "escape", "down"):
            driver.app.post_message(events.Key(pressed, "?" if "mark" in pressed else None))
        await driver.sees("berths  30 rows", "row 2 of 30")


async def test_what_the_list_tells_after_it_was_left_counts_no_more(project: Path) -> None:
    """As where one clicks twice before the first click has had its effect."""
    target = str(project / "skippers.db")
    async with driven(project / "berths.db") as driver:
        await driver.press("ctrl+o")
        await driver.sees("skippers.db")
        for told in (
            OpeningScreen.Opened(target, looked_at(target)),
            OpeningScreen.Left(),
            OpeningScreen.Opened(target, looked_at(target)),
            OpeningScreen.Left(),
        ):
            driver.app.post_message(told)
        await driver.sees("skippers  20 rows", "F3 berths.db")
        await driver.press("down")
        await driver.sees("row 2 of 20")
        assert len(driver.app.open_databases) == 2
