"""Odd homes, names and terminals: one clear line or a right answer, and never a traceback."""

from __future__ import annotations

import json
import os
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import JondelCommand, MakeDatabase

_ROWS = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'ä🚢')")
_EVERYTHING = (
    ("snapshot",),
    ("trail",),
    ("diff", "s1"),
    ("query", "SELECT v FROM t"),
    ("query", "SELECT v FROM t", "--json"),
    ("history", "t", "1"),
    ("noise",),
)


def _in_one_line(told: str) -> bool:
    return told.count("\n") <= 1 and "failed" not in told


@pytest.mark.parametrize("name", [b"n\xff\xfe.db", b"x" * 249 + b".db", "ä⚓.db".encode()])
def test_any_name_of_a_file_works_everywhere(
    jondel: JondelCommand, make: MakeDatabase, tmp_path: Path, name: bytes
) -> None:
    path = Path(os.fsdecode(os.fsencode(tmp_path) + b"/" + name))
    make(*_ROWS, name="made.db").rename(path)
    for command, *words in _EVERYTHING:
        told = jondel(command, path, *words)
        assert told.returncode == 0, (command, told.stderr)
    assert jondel("store", "check").returncode == 0
    assert json.loads(jondel("store", "--json").stdout)["databases"][0]["size_bytes"] > 0
    assert json.loads(jondel("diff", path, "s1", "--json").stdout)["tables"] == []
    assert len(json.loads(jondel("find", tmp_path, "--json").stdout)) >= 1


@pytest.mark.parametrize("name", ["y" * 300, "/a" * 3000, "a\nb", ""])
def test_a_name_that_cannot_be_is_refused_in_one_line(jondel: JondelCommand, name: str) -> None:
    for command, *words in _EVERYTHING[:6]:
        told = jondel(command, name, *words)
        assert told.returncode in (1, 2)
        assert told.stdout == ""
        assert _in_one_line(told.stderr), told.stderr


@pytest.mark.parametrize("kind", ["file", "too long", "below a file"])
def test_a_home_that_cannot_be_is_named_in_one_line(
    jondel: JondelCommand, make: MakeDatabase, tmp_path: Path, kind: str
) -> None:
    path = make(*_ROWS)
    (tmp_path / "a file").touch()
    homes = {
        "file": tmp_path / "a file",
        "too long": tmp_path / ("z" * 300),
        "below a file": tmp_path / "a file" / "home",
    }
    environment = {**os.environ, "JONDEL_HOME": str(homes[kind])}
    for words in (("snapshot", path), ("trail", path), ("store",), ("store", "check")):
        told = jondel(*words, env=environment)
        assert told.returncode == 1
        assert "JONDEL_HOME" in told.stderr
        assert _in_one_line(told.stderr), told.stderr


@pytest.mark.parametrize("encoding", ["ascii", "latin-1"])
def test_a_terminal_of_another_encoding_gets_what_it_can_show(
    jondel: JondelCommand, make: MakeDatabase, encoding: str
) -> None:
    path = make(*_ROWS)
    environment = {**os.environ, "PYTHONIOENCODING": encoding}
    for command, *words in _EVERYTHING:
        told = jondel(command, path, *words, env=environment, encoding="latin-1")
        assert told.returncode == 0, told.stderr
    told = jondel("query", path, "SELECT v FROM t", "--json", env=environment, encoding="utf-8")
    assert json.loads(told.stdout)["rows"] == [["ä🚢"]]


def test_a_word_that_is_no_text_is_refused_in_one_line(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    told = jondel("query", make(*_ROWS), "SELECT '\udcff'")
    assert (told.returncode, "not valid UTF-8" in told.stderr) == (2, True)


def test_what_is_recorded_can_be_asked_where_nothing_can_be_written(
    jondel: JondelCommand, make: MakeDatabase, home: Path
) -> None:
    """The superuser may write anywhere, so that is tried where it is somebody else."""
    if os.getuid() == 0:
        pytest.skip("no permission stops the superuser")
    path = make(*_ROWS)
    jondel("snapshot", path)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("UPDATE t SET v = 'b'")
        connection.commit()
    folders = [home, *(p for p in home.rglob("*") if p.is_dir())]
    for folder in folders:
        folder.chmod(0o500)
    try:
        for words in (("trail", path), ("store",), ("store", "check"), ("diff", path, "s1"),
                      ("query", path, "SELECT v FROM t", "--at", "s1")):  # fmt: skip
            assert jondel(*words).returncode == 0
        refused = jondel("snapshot", path)
        assert (refused.returncode, "not writable" in refused.stderr) == (1, True)
    finally:
        for folder in folders:
            folder.chmod(0o700)
