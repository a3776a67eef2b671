"""Snapshots are there when the live database is not."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

import outside
from conftest import JondelCommand, MakeDatabase, OpenApp

_ROWS = (
    "CREATE TABLE t(id INTEGER PRIMARY KEY, v)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500) "
    "INSERT INTO t SELECT i, 'row ' || i FROM n",
)


def _gone(path: Path) -> None:
    path.unlink()


def _folder(path: Path) -> None:
    path.unlink()
    path.mkdir()
    (path / "something").touch()


def _rubbish(path: Path) -> None:
    path.write_bytes(os.urandom(9000))


def _cut(path: Path) -> None:
    os.truncate(path, path.stat().st_size // 2)


def _holes(path: Path) -> None:
    content = bytearray(path.read_bytes())
    content[4096:12288] = b"\xee" * 8192
    path.write_bytes(content)


@pytest.fixture
def path(make: MakeDatabase, jondel: JondelCommand) -> Path:
    made = make(*_ROWS, journal="WAL")
    assert jondel("snapshot", made, "--label", "one").returncode == 0
    with closing(sqlite3.connect(made)) as connection:
        connection.execute("DELETE FROM t WHERE id = 7")
        connection.commit()
    assert jondel("snapshot", made, "--label", "two").returncode == 0
    return made


@pytest.mark.parametrize("spoil", [_gone, _folder, _rubbish, _cut, _holes])
def test_the_past_is_looked_at_and_put_back(
    jondel: JondelCommand, path: Path, spoil: Callable[[Path], None]
) -> None:
    spoil(path)
    assert jondel("trail", path).stdout.count("\n") == 2
    assert "499" in jondel("query", path, "SELECT count(*) FROM t", "--at", "two").stdout
    assert "- 7" in jondel("diff", path, "one", "two").stdout
    assert "row 7" in jondel("history", path, "t", "7").stdout
    told = jondel("restore", path, "one", "--yes")
    assert told.returncode == 0, told.stderr
    assert outside.rows(path, "SELECT count(*) FROM t") == [[500]]
    assert outside.rows(path, "PRAGMA journal_mode") == [["wal"]]
    aside = [name for name in path.parent.iterdir() if ".replaced-" in name.name]
    # What can be opened at all is in the snapshot that was taken first.
    assert len(aside) == (spoil in (_folder, _rubbish, _cut))
    for name in aside:
        assert str(name) in told.stderr


def test_where_nothing_is_recorded_the_error_is_that_of_the_database(
    jondel: JondelCommand, tmp_path: Path
) -> None:
    for words in (("trail",), ("restore", "s1"), ("history", "t", "1")):
        told = jondel(words[0], tmp_path / "never.db", *words[1:])
        assert (told.returncode, "no such file" in told.stderr) == (1, True)


def test_a_log_of_another_file_is_not_played_over_what_is_restored(
    jondel: JondelCommand, path: Path
) -> None:
    wal = path.with_name("app.db-wal")
    program = (
        "import os, sqlite3, sys\nc = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
        "c.execute('PRAGMA wal_autocheckpoint=0')\nc.execute('DELETE FROM t')\n"
        "os.kill(os.getpid(), 9)"
    )
    subprocess.run([sys.executable, "-c", program, path], check=False)
    assert wal.stat().st_size
    path.unlink()
    assert jondel("restore", path, "one", "--yes").returncode == 0
    assert outside.rows(path, "SELECT count(*) FROM t") == [[500]]


def test_the_page_size_is_restored_where_nobody_else_has_the_file_open(
    jondel: JondelCommand, path: Path, app: OpenApp
) -> None:
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        for statement in (
            "PRAGMA journal_mode=DELETE",
            "PRAGMA page_size=1024",
            "VACUUM",
            "PRAGMA journal_mode=WAL",
        ):
            connection.execute(statement)
    holder = app(path)
    holder.run("SELECT count(*) FROM t")
    refused = jondel("restore", path, "one", "--yes")
    assert (refused.returncode, f"pid {holder.pid}" in refused.stderr) == (1, True)
    holder.close()
    assert jondel("restore", path, "one", "--yes").returncode == 0
    assert outside.rows(path, "PRAGMA page_size") == [[4096]]
    assert outside.rows(path, "PRAGMA journal_mode") == [["wal"]]
    assert outside.rows(path, "SELECT count(*) FROM t") == [[500]]


def test_a_snapshot_is_written_out_as_a_file_of_its_own(
    jondel: JondelCommand, path: Path, tmp_path: Path
) -> None:
    to = tmp_path / "out.db"
    assert jondel("trail", path, "export", "one", to).returncode == 0
    assert outside.rows(to, "SELECT count(*) FROM t") == [[500]]
    assert to.stat().st_mode & 0o777 == 0o600
    content = to.read_bytes()
    again = jondel("trail", path, "export", "two", to)
    assert (again.returncode, "there is a file already" in again.stderr) == (1, True)
    assert to.read_bytes() == content
    assert not list(tmp_path.glob(".*unfinished"))


def test_the_history_of_a_record_that_never_was_fails(jondel: JondelCommand, path: Path) -> None:
    for words in ((), ("--json",)):
        told = jondel("history", path, "t", "9999", *words)
        assert (told.returncode, told.stdout) == (1, "")
        assert "9999" in told.stderr
