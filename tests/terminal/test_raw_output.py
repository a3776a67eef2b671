"""Nothing stored reaches the terminal as it is: judged by the very bytes that are written to it."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from tmux_terminal import Terminal

from terminal_attacks import ATTACKS, MARK, NUMBER, acting

pytestmark = pytest.mark.terminal

_NAME = f"t{MARK}\x1b]0;{MARK}\x07\u202e"
_COLUMN = f"c{MARK}\x1b[{NUMBER}m\u200b"


@pytest.fixture
def hostile(tmp_path: Path) -> Path:
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(
            f'CREATE TABLE "{_NAME}"(id INTEGER PRIMARY KEY, "{_COLUMN}" TEXT UNIQUE, at TEXT)'
        )
        connection.execute(f'CREATE TABLE other(id INTEGER PRIMARY KEY, of REFERENCES "{_NAME}")')
        for attack in ATTACKS.values():
            connection.execute(
                f'INSERT INTO "{_NAME}"("{_COLUMN}", at) VALUES (?, ?)', [attack] * 2
            )
        connection.execute("INSERT INTO other(of) VALUES (1)")
        connection.commit()
    return path


def test_the_check_sees_what_a_terminal_would_act_on() -> None:
    for attack in ATTACKS.values():
        if not attack.startswith("\u0301"):
            assert acting(f"\x1b[1m some text {attack}".encode())
    assert not acting("\x1b[?1049h\x1b[38;2;1;2;3m plain ∅ ⏎ text\r\n".encode())


@pytest.mark.parametrize("attack", ATTACKS)
def test_every_field_shows_a_value_and_gives_it_back(
    terminal: Callable[..., Terminal], hostile: Path, attack: str
) -> None:
    """In place, in the full editor, in a new record like it, from the card, in a filter."""
    screen = terminal(hostile)
    screen.record_output()
    screen.sees("tables 2")
    row = list(ATTACKS).index(attack)
    screen.press("t", "Home", "Down", "Enter", *["Down"] * row, "Right")
    screen.sees(f"row {row + 1} of {len(ATTACKS)}")
    screen.press("e")
    screen.sees("accept")
    screen.press("End", "Left", "Left", "Home", "Right", "S-Right", "F2")
    screen.sees("Ctrl+S accepts it")
    screen.press("Down", "End", "Home", "Right", "S-Right", "End", "z", "BSpace", "C-s")
    screen.sees_no_more("Ctrl+S accepts it")
    screen.sees_no_more("not written")  # what came back is what was there
    screen.press("e")
    screen.sees("accept")
    screen.press("End", "z", "BSpace", "Enter")
    screen.sees_no_more("accept")
    assert "not written" not in screen.text
    screen.press("P")
    screen.sees("A new record of")
    screen.press("Down", "Enter")
    screen.sees("Ctrl+Y empty text")
    screen.press("End", "Left", "Home", "Right", "Enter", "C-s")
    screen.sees("* 1 not written")
    screen.press("f")
    screen.sees("Filter")
    screen.press("Escape")
    screen.press("Home", *["Down"] * row, "=")
    screen.sees("where ")
    screen.press("f", "Enter", "Escape", "Escape", "q")
    screen.sees("SELECT")
    screen.press("Escape")
    assert acting(screen.output()) == []


def test_every_panel_and_dialog_shows_values_and_names(
    terminal: Callable[..., Terminal], hostile: Path
) -> None:
    screen = terminal(hostile)
    screen.record_output()
    screen.sees("tables 2")
    screen.press("s")
    screen.sees("trail starts")
    with closing(sqlite3.connect(hostile)) as connection:
        connection.execute(
            f'UPDATE "{_NAME}" SET at = at || at, "{_COLUMN}" = "{_COLUMN}" || \'.\''
        )
        connection.execute(f'DELETE FROM "{_NAME}" WHERE id = 4')
        connection.execute(f'ALTER TABLE "{_NAME}" ADD COLUMN "n{_COLUMN}" TEXT')
        connection.commit()
    screen.press("c")
    screen.sees("~")
    for key in ("Down", "Down", "x", "Escape", "u", "Escape", "h", "Escape", "Enter", "BSpace"):
        screen.press(key)
        screen.settles()
    screen.press("r", "t", "Home", "Down", "Enter", "Right")
    for keys in (
        *(["v"], ["v"], ["h"], ["k"], ["j"], ["/", *"zqx", "Enter"], ["y"], ["q"], ["O"], ["L"]),
        *(["Delete", "W"], ["d"], ["A", "x", "Enter"], ["d", "W"], ["?"], ["C-p", *"zq"], ["g"]),
        *(["I"], ["l"], ["R"], ["["], ["R"], ["n"], ["S", *"ab"], ["|"], ["b"], ["F10"], ["U"]),
    ):
        screen.press(*keys)
        screen.settles()
        screen.press("Escape", "Escape")
        screen.settles()
    assert acting(screen.output()) == []
    assert "zqx" in screen.text
