"""Databases whose app was killed in a transaction: read as SQLite itself rolls them back."""

from __future__ import annotations

import random
import shutil
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path

import pytest

import outside
from conftest import MakeDatabase
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.capture import capture_pages
from jondel.core.engines.sqlite.private_copy import PrivateCopy
from seeds import seeds

Opened = Callable[[Path], Database]
_MAGIC = bytes.fromhex("d9d505f920a163d7")
_APP = """
import os, random, sqlite3, sys
path, journal, seed = sys.argv[1], sys.argv[2], int(sys.argv[3])
chance = random.Random(seed)
c = sqlite3.connect(path, isolation_level=None)
c.execute(f"PRAGMA journal_mode={journal}")
c.execute(f"PRAGMA synchronous={chance.choice(['OFF', 'NORMAL', 'FULL'])}")
c.execute(f"PRAGMA cache_size={chance.choice([2, 5, 20])}")
for _ in range(3):
    c.execute("UPDATE t SET v = v || 'x' WHERE id % 5 = 0")
c.execute("BEGIN")
for _ in range(chance.randrange(1, 12)):
    match chance.randrange(4):
        case 0: c.execute("UPDATE t SET v = randomblob(700) WHERE id % 3 = 1")
        case 1: c.execute("DELETE FROM t WHERE id % 4 = ?", (chance.randrange(4),))
        case 2: c.execute("INSERT INTO t(v) SELECT randomblob(400) FROM t LIMIT 200")
        case 3:
            c.execute("SAVEPOINT s"); c.execute("UPDATE t SET v = 1"); c.execute("ROLLBACK TO s")
os.kill(os.getpid(), 9)
"""


def _killed(tmp_path: Path, seed: int, journal: str) -> Path:
    """A database that its app was killed over, in the middle of a transaction."""
    path = tmp_path / "app.db"
    chance = random.Random(seed)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(f"PRAGMA page_size={chance.choice([512, 1024, 4096, 65536])}")
        connection.execute(f"PRAGMA auto_vacuum={chance.choice([0, 1])}")
        connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, v)")
        connection.execute(
            "WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 600) "
            "INSERT INTO t SELECT i, hex(zeroblob(i % 300)) FROM n"
        )
        connection.commit()
    subprocess.run([sys.executable, "-c", _APP, path, journal, str(seed)], check=False)
    return path


def _as_sqlite_has_it(path: Path, folder: Path) -> bytes:
    """The file after SQLite rolled a copy back, whatever is left of it."""
    folder.mkdir()
    for file in path.parent.glob("app.db*"):
        shutil.copy(file, folder / file.name)
    copy = folder / "app.db"
    pages = None
    with closing(sqlite3.connect(copy)) as connection, suppress(sqlite3.DatabaseError):
        (pages,) = connection.execute("PRAGMA page_count").fetchone()
        connection.execute("SELECT 1 FROM sqlite_schema").fetchall()
    content = copy.read_bytes()
    return content if pages is None else content[: pages * _page_size(copy)]


def _as_jondel_has_it(path: Path) -> bytes:
    """What is captured, nothing on the disk touched."""
    before = {file.name: file.read_bytes() for file in path.parent.glob("app.db*")}
    with closing(PrivateCopy()) as copy:
        capture_pages(path, copy, threading.Event())
        found = b"".join([copy.read(index) for index in range(copy.page_count)])
    assert {file.name: file.read_bytes() for file in path.parent.glob("app.db*")} == before
    return found


@pytest.mark.parametrize("journal", ["DELETE", "TRUNCATE", "PERSIST"])
@pytest.mark.parametrize("seed", seeds("JONDEL_JOURNAL_SEEDS", 8))
def test_what_a_kill_left_is_read_as_sqlite_rolls_it_back(
    tmp_path: Path, seed: int, journal: str
) -> None:
    path = _killed(tmp_path, seed, journal)
    assert _as_jondel_has_it(path) == _as_sqlite_has_it(path, tmp_path / "copy")


@pytest.mark.parametrize("seed", seeds("JONDEL_JOURNAL_SEEDS", 8))
def test_a_journal_that_was_cut_short_or_damaged_counts_as_far_as_sqlite_goes(
    tmp_path: Path, seed: int
) -> None:
    path = _killed(tmp_path, seed, "DELETE")
    journal = path.with_name("app.db-journal")
    content, chance = bytearray(journal.read_bytes()), random.Random(seed)
    for number in range(6):
        damaged = content[: chance.randrange(len(content))]
        if number % 2 and damaged:
            damaged[chance.randrange(len(damaged))] ^= 0xFF
        journal.write_bytes(damaged)
        if path.stat().st_size % (pages_of := _page_size(path)):
            continue  # a file that ends in the middle of a page is refused
        assert pages_of
        assert _as_jondel_has_it(path) == _as_sqlite_has_it(path, tmp_path / f"copy {number}")


def _page_size(path: Path) -> int:
    found = int.from_bytes(path.read_bytes()[16:18], "big")
    return 65536 if found == 1 else found


@pytest.mark.parametrize("there", [True, False], ids=["under way", "committed"])
def test_a_transaction_over_several_files_counts_as_its_super_journal_says(
    tmp_path: Path, there: bool
) -> None:
    path = _killed(tmp_path, 3, "DELETE")
    journal = path.with_name("app.db-journal")
    super_journal = tmp_path / "app.db-mj1A2B3C4D"
    if there:
        super_journal.write_bytes(bytes(journal) + b"\0")
    name = bytes(super_journal)
    trailer = len(name).to_bytes(4, "big") + sum(name).to_bytes(4, "big") + _MAGIC
    journal.write_bytes(journal.read_bytes() + b"\x00\x00\x00\x00" + name + trailer)
    assert _as_jondel_has_it(path) == _as_sqlite_has_it(path, tmp_path / "copy")


def test_an_old_log_beside_a_file_of_another_mode_is_played_as_sqlite_plays_it(
    make: MakeDatabase, opened: Opened, tmp_path: Path
) -> None:
    program = (
        "import os, sqlite3, sys\nc = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
        "c.execute('PRAGMA wal_autocheckpoint=0')\nc.execute('INSERT INTO t VALUES (2)')\n"
        "os.kill(os.getpid(), 9)"
    )
    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)", journal="WAL")
    subprocess.run([sys.executable, "-c", program, path], check=False)
    content = bytearray(path.read_bytes())
    content[18:20] = b"\x01\x01"
    path.write_bytes(content)
    found = statements_of(opened(path)).execute("SELECT v FROM t").rows
    assert found == tuple(map(tuple, outside.rows(path, "SELECT v FROM t")))
