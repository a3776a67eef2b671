"""What the commands write to a terminal, and to a pipe, of values that a terminal would act on."""

from __future__ import annotations

import csv
import io
import json
import logging
import os
import sqlite3
import subprocess
import sys
import unicodedata
from contextlib import closing
from pathlib import Path

import pytest

from conftest import JondelCommand
from jondel.cli.crash import describe
from jondel.cli.log import start_log
from pseudo_terminal import on_a_terminal
from terminal_attacks import ATTACKS, acting

_COMMANDS = {
    "query": ("query", "{path}", "SELECT * FROM t"),
    "query as CSV": ("query", "{path}", "SELECT * FROM t", "--format", "csv"),
    "query as JSON": ("query", "{path}", "SELECT * FROM t", "--json"),
    "diff": ("diff", "{path}", "s1"),
    "diff as JSON": ("diff", "{path}", "s1", "--json"),
    "history": ("history", "{path}", "t", "1"),
    "history as JSON": ("history", "{path}", "t", "1", "--json"),
    "trail as JSON": ("trail", "{path}", "--json"),
    "record": ("record", "{path}", "--", "sqlite-writer"),
    "a refusal": ("query", "{path}", "SELECT nothing"),
}


@pytest.fixture
def hostile(tmp_path: Path, jondel: JondelCommand) -> Path:
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)")
        for number, attack in enumerate(ATTACKS.values()):
            connection.execute("INSERT INTO t VALUES (?, ?)", (number, attack))
        connection.commit()
        jondel("snapshot", path, "--label", "start")
        connection.execute("UPDATE t SET v = v || v")
        connection.execute(f'ALTER TABLE t ADD COLUMN "{ATTACKS["title"]}" TEXT')
        connection.commit()
    return path


@pytest.mark.parametrize("command", _COMMANDS)
def test_nothing_stored_reaches_a_terminal_raw(hostile: Path, command: str) -> None:
    arguments = [word.format(path=hostile) for word in _COMMANDS[command]]
    output = on_a_terminal(*arguments)
    assert output
    assert acting(output) == []


def test_json_in_a_pipe_escapes_what_a_terminal_would_act_on(
    hostile: Path, jondel: JondelCommand
) -> None:
    told = jondel("query", hostile, "SELECT v FROM t ORDER BY id", "--json").stdout
    assert not any(unicodedata.category(c) in ("Cc", "Cf", "Zl") and c != "\n" for c in told)
    assert [row[0] for row in json.loads(told)["rows"]] == [a * 2 for a in ATTACKS.values()]


def test_csv_in_a_pipe_is_exact(hostile: Path, home: Path) -> None:
    with closing(sqlite3.connect(hostile)) as connection:
        connection.execute("UPDATE t SET v = CAST(x'61ff62' AS TEXT) WHERE id = 0")
        connection.commit()
    told = subprocess.run(
        [
            *(sys.executable, "-m", "jondel", "query", str(hostile)),
            *("SELECT v FROM t ORDER BY id", "--format=csv"),
        ],
        env={**os.environ, "JONDEL_HOME": str(home), "PYTHONUTF8": "0", "LC_ALL": "C"},
        capture_output=True,
        check=True,
    ).stdout
    text = told.decode("utf-8", "surrogateescape")
    rows = list(csv.reader(io.StringIO(text, newline="")))[1:]
    kept = ["a\udcffb", *(attack * 2 for attack in list(ATTACKS.values())[1:])]
    assert [row[0].replace("\x00", "") for row in rows] == [v.replace("\x00", "") for v in kept]
    assert all(v.encode("utf-8", "surrogateescape") in told for v in kept)


def test_the_log_and_the_crash_log_hold_nothing_raw(home: Path) -> None:
    home.mkdir(exist_ok=True)
    start_log()
    log = logging.getLogger("jondel.test")
    for attack in ATTACKS.values():
        log.warning("value %s", attack)
        try:
            raise ValueError(attack)
        except ValueError as error:
            log.exception("failed")
            describe(error)
    for handler in logging.getLogger("jondel").handlers:
        assert isinstance(handler, logging.StreamHandler)
        handler.stream.close()
    logging.getLogger("jondel").handlers = []
    for name in ("jondel.log", "crash.log"):
        content = (home / name).read_bytes()
        assert content
        assert acting(content) == []
