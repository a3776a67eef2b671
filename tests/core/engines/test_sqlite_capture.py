"""Capturing pages while an app writes: consistent, and no more of them than needed."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.engines.needed import capturer_of
from jondel.core.engines.pages import Origin
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetError
from outside import rows

Opened = Callable[[Path], Database]
_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'a')")
_MANY = (
    "WITH RECURSIVE n(i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) "
    "INSERT INTO t SELECT i, randomblob(300) FROM n"
)
_TICK = 0.03


class _Sink:
    """Keeps everything it is given."""

    def __init__(self, before: _Sink | None = None) -> None:
        self.known: Origin | None = before.origin if before else None
        self._before = before
        self.origin: Origin | None = None
        self.partial = False
        self.put_pages = 0
        self.pages: list[bytes] = []
        self._page_size = 0

    def begin(self, page_size: int, page_count: int, *, partial: bool) -> None:
        self._page_size, self.partial, self.put_pages = page_size, partial, 0
        self.pages = [b""] * page_count
        if partial and self._before is not None:
            known = self._before.pages[:page_count]
            self.pages[: len(known)] = known

    def put(self, indexes: Sequence[int], data: bytes | bytearray) -> None:
        self.put_pages += len(indexes)
        for number, index in enumerate(indexes):
            self.pages[index] = bytes(data[number * self._page_size :][: self._page_size])

    def end(self, origin: Origin) -> None:
        self.origin = origin

    def image(self, path: Path) -> Path:
        """The captured pages as a file of their own."""
        content = bytearray(b"".join(self.pages))
        if content:
            content[18:20] = b"\x01\x01"
        path.write_bytes(content)
        return path


def _rows(path: Path, sql: str = "SELECT id, typeof(v), hex(v) FROM t ORDER BY id") -> list[Any]:
    assert rows(path, "PRAGMA integrity_check") == [["ok"]]
    return rows(path, sql)


def _captured(database: Database, before: _Sink | None = None) -> _Sink:
    sink = _Sink(before)
    capturer_of(database).capture(sink)
    return sink


@pytest.mark.parametrize("journal", ["DELETE", "TRUNCATE", "PERSIST", "MEMORY", "WAL"])
@pytest.mark.parametrize("page_size", [512, 4096, 65536])
def test_what_is_captured_is_what_was_committed(
    opened: Opened, app: OpenApp, tmp_path: Path, journal: str, page_size: int
) -> None:
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(f"PRAGMA page_size={page_size}")
        connection.execute(f"PRAGMA journal_mode={journal}")
        for statement in (*_T, _MANY):
            connection.execute(statement)
        connection.commit()
    writer = app(path)
    writer.run(f"PRAGMA journal_mode={journal}")
    writer.run("PRAGMA cache_spill=OFF")  # a spilled transaction locks readers out
    database = opened(path)
    sink = _captured(database)
    assert not sink.partial
    assert len(sink.pages[0]) == page_size
    writer.run("INSERT INTO t VALUES (7000, 'later')")
    writer.run("BEGIN IMMEDIATE")
    writer.run("UPDATE t SET v = 'not yet'")
    second = _captured(database, sink)
    writer.run("ROLLBACK")
    assert len(_rows(sink.image(tmp_path / "one.db"))) == 3000
    assert _rows(second.image(tmp_path / "two.db")) == _rows(path)


@pytest.mark.parametrize("journal", ["DELETE", "WAL"])
def test_nothing_is_read_where_nothing_was_committed(
    make: MakeDatabase, opened: Opened, app: OpenApp, journal: str
) -> None:
    path = make(*_T, _MANY, journal=journal)
    app(path).run("INSERT INTO t VALUES (9000, 'in the log')")
    time.sleep(_TICK)
    database = opened(path)
    first = _captured(database)
    second = _captured(database, first)
    assert (second.partial, second.put_pages) == (True, 0)
    assert second.pages == first.pages


def test_of_a_log_that_grew_only_the_new_pages_are_read(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path
) -> None:
    path = make(*_T, _MANY, journal="WAL")
    writer = app(path)
    writer.run("PRAGMA wal_autocheckpoint=0")
    writer.run("UPDATE t SET v = 'x' WHERE id < 2000")
    database = opened(path)
    first = _captured(database)
    for number in range(3):
        writer.run("UPDATE t SET v = ? WHERE id = 5", number)
        writer.run("INSERT INTO t(v) VALUES (randomblob(2000))")
        if number == 2:  # what goes into the file meanwhile changes nothing
            writer.run("PRAGMA wal_checkpoint(PASSIVE)")
        second = _captured(database, first)
        assert second.partial
        assert 0 < second.put_pages < 10
        assert _rows(second.image(tmp_path / "image.db")) == _rows(path)
        first = second


def test_the_first_log_after_a_settled_file_names_the_pages_too(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path
) -> None:
    path = make(*_T, _MANY, journal="WAL")
    time.sleep(_TICK)
    database = opened(path)
    first = _captured(database)
    app(path).run("UPDATE t SET v = 'x' WHERE id = 5")
    second = _captured(database, first)
    assert (second.partial, second.put_pages < 10) == (True, True)
    assert _rows(second.image(tmp_path / "image.db")) == _rows(path)


@pytest.mark.parametrize("how", ["RESTART", "TRUNCATE"])
def test_a_log_that_began_anew_has_everything_read(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path, how: str
) -> None:
    path = make(*_T, _MANY, journal="WAL")
    writer = app(path)
    writer.run("UPDATE t SET v = 'x' WHERE id < 9")
    database = opened(path)
    first = _captured(database)
    writer.run("UPDATE t SET v = 'unseen' WHERE id = 2500")
    writer.run(f"PRAGMA wal_checkpoint({how})")
    writer.run("UPDATE t SET v = 'y' WHERE id = 3")
    second = _captured(database, first)
    assert not second.partial
    assert _rows(second.image(tmp_path / "image.db")) == _rows(path)


def test_a_file_put_in_the_place_of_another_is_read_anew(
    make: MakeDatabase, opened: Opened, tmp_path: Path
) -> None:
    path = make(*_T, journal="DELETE")
    other = make(*_T, _MANY, name="other.db")
    time.sleep(_TICK)
    database = opened(path)
    first = _captured(database)
    other.replace(path)
    second = _captured(database, first)
    assert not second.partial
    assert len(_rows(second.image(tmp_path / "image.db"))) == 3000


@pytest.mark.parametrize("journal", ["DELETE", "WAL"])
def test_a_state_is_whole_however_fast_the_app_writes(
    make: MakeDatabase, opened: Opened, tmp_path: Path, journal: str
) -> None:
    """Values that only ever change together, all over the file, agree in each capture."""
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v, w)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 60) "
        "INSERT INTO t SELECT i, 0, zeroblob(2000) FROM n",
        journal=journal,
    )
    database = opened(path)
    program = (
        "import sqlite3,sys,time\n"
        "c=sqlite3.connect(sys.argv[1],timeout=10,isolation_level=None)\n"
        "c.execute('PRAGMA synchronous=OFF')\n"
        "while True: c.execute('UPDATE t SET v = v + 1'); time.sleep(0.001)\n"
    )
    running = subprocess.Popen([sys.executable, "-c", program, str(path)])
    try:
        sink: _Sink | None = None
        seen = set()
        for number in range(10):
            sink = _captured(database, sink)
            image = sink.image(tmp_path / f"{number}.db")
            values = {row[0] for row in _rows(image, "SELECT DISTINCT v FROM t")}
            assert len(values) == 1, "a half of one transaction and a half of another"
            seen |= values
            time.sleep(0.02)
    finally:
        running.kill()
        running.wait()
    assert len(seen) > 5, "the app was writing all the while"


def test_an_empty_file_has_no_pages(opened: Opened, tmp_path: Path) -> None:
    path = tmp_path / "empty.db"
    path.touch()
    sink = _captured(opened(path))
    assert sink.pages == []


def test_a_file_cut_short_is_refused(make: MakeDatabase, opened: Opened) -> None:
    path = make(*_T, _MANY)
    database = opened(path)
    path.write_bytes(path.read_bytes()[:-9000])
    with pytest.raises(TargetError, match=r"cut short|damaged|malformed"):
        _captured(database)
