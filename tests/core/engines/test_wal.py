"""The write-ahead log as it lies on the disk, read while an app writes it."""

from __future__ import annotations

import shutil
import sqlite3
import struct
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from jondel.core.engines.sqlite.wal import FRAME_HEADER_BYTES, HEADER_BYTES, Log, read_log


class _Bytes:
    def __init__(self, content: bytes) -> None:
        self._content = content

    def size(self) -> int:
        return len(self._content)

    def read(self, offset: int, amount: int) -> bytes:
        return self._content[offset : offset + amount]


class _App:
    """An app in WAL mode that never checkpoints by itself."""

    def __init__(self, path: Path, page_size: int = 1024) -> None:
        self.path = path
        self.db = sqlite3.connect(path, isolation_level=None)
        for statement in (
            f"PRAGMA page_size={page_size}",
            "PRAGMA journal_mode=WAL",
            "PRAGMA wal_autocheckpoint=0",
            "CREATE TABLE t(id INTEGER PRIMARY KEY, v)",
        ):
            self.db.execute(statement).fetchall()

    def write(self, rows: int) -> None:
        self.db.execute("BEGIN")
        self.db.executemany("INSERT INTO t(v) VALUES (randomblob(400))", [()] * rows)
        self.db.execute("COMMIT")

    def log(self) -> bytes:
        return self.path.with_name(self.path.name + "-wal").read_bytes()


@pytest.fixture
def app(tmp_path: Path) -> Iterator[_App]:
    made = _App(tmp_path / "app.db")
    with closing(made.db):
        yield made


def _read(content: bytes, after: Log | None = None) -> Log:
    log = read_log(_Bytes(content), after.end if after else None)
    assert log is not None
    return log


def _plain(content: bytes) -> tuple[int, dict[int, int]]:
    """Committed frames and pages, straight from the description of the format."""
    page_size, salts = struct.unpack_from(">I", content, 8)[0], content[16:24]
    order = ">" if content[3] & 1 else "<"

    def add(sums: tuple[int, int], data: bytes) -> tuple[int, int]:
        first, second = sums
        words = struct.unpack(f"{order}{len(data) // 4}I", data)
        for one, other in zip(words[::2], words[1::2], strict=True):
            first = (first + one + second) & 0xFFFFFFFF
            second = (second + other + first) & 0xFFFFFFFF
        return first, second

    sums = add((0, 0), content[:24])
    at, count, committed = HEADER_BYTES, 0, 0
    pages: dict[int, int] = {}
    waiting: dict[int, int] = {}
    while at + FRAME_HEADER_BYTES + page_size <= len(content):
        head = content[at : at + FRAME_HEADER_BYTES]
        body = content[at + FRAME_HEADER_BYTES : at + FRAME_HEADER_BYTES + page_size]
        sums = add(add(sums, head[:8]), body)
        if head[8:16] != salts or struct.unpack(">2I", head[16:]) != sums:
            break
        count += 1
        waiting[struct.unpack(">I", head[:4])[0]] = at + FRAME_HEADER_BYTES
        if struct.unpack(">I", head[4:8])[0]:
            committed = count
            pages.update(waiting)
            waiting.clear()
        at += FRAME_HEADER_BYTES + page_size
    return committed, pages


@pytest.mark.parametrize("page_size", [512, 4096, 65536])
def test_committed_frames_are_those_of_a_plain_reading(tmp_path: Path, page_size: int) -> None:
    made = _App(tmp_path / "app.db", page_size)
    with closing(made.db):
        for rows in (1, 40, 3):
            made.write(rows)
        log = _read(made.log())
        assert (log.end.frames, log.offsets) == _plain(made.log())
        assert log.page_size == page_size
        assert log.end.pages == made.db.execute("PRAGMA page_count").fetchone()[0]


def test_reading_goes_on_from_a_mark(app: _App) -> None:
    app.write(5)
    first = _read(app.log())
    app.write(2)
    second = _read(app.log(), first)
    assert second.start == first.end
    assert second.end == _read(app.log()).end
    assert 0 < len(second.offsets) < len(_read(app.log()).offsets)
    assert min(second.offsets.values()) > max(first.offsets.values())
    third = _read(app.log(), second)
    assert third.start == third.end == second.end
    assert third.offsets == {}


def test_what_is_not_committed_is_not_seen(app: _App) -> None:
    app.write(5)
    known = _read(app.log())
    app.db.execute("PRAGMA cache_size=1")
    app.db.execute("BEGIN")
    app.db.executemany("INSERT INTO t(v) VALUES (randomblob(900))", [()] * 100)
    assert len(app.log()) > HEADER_BYTES + known.end.frames * (FRAME_HEADER_BYTES + 1024)
    assert _read(app.log()).end == known.end
    app.db.execute("ROLLBACK")
    app.write(1)
    assert _read(app.log(), known).end == _read(app.log()).end


def test_a_log_begun_anew_is_told_from_one_that_grew(app: _App) -> None:
    app.write(50)
    known = _read(app.log())
    app.db.execute("PRAGMA wal_checkpoint(RESTART)").fetchall()
    app.write(1)
    anew = _read(app.log(), known)
    assert anew.start.frames == 0
    assert anew.end.salts != known.end.salts
    assert anew.end.frames < known.end.frames


def test_a_mark_of_a_longer_log_of_the_same_generation_is_not_trusted(app: _App) -> None:
    app.write(3)
    shorter = app.log()
    app.write(3)
    longer = _read(app.log())
    again = _read(shorter, longer)
    assert again.start.frames == 0
    assert again.end == _read(shorter).end


@pytest.mark.parametrize("at", [3, 9, 40, 60, 2000])
def test_a_flipped_byte_ends_the_log_before_it(app: _App, at: int) -> None:
    app.write(1)
    app.write(1)
    whole = app.log()
    damaged = bytearray(whole)
    damaged[at] ^= 0x41
    found = read_log(_Bytes(bytes(damaged)))
    assert found is None or found.end.frames < _read(whole).end.frames


@pytest.mark.parametrize("content", [b"", b"\x00" * 32, b"not a log" * 20])
def test_what_is_no_log_is_none(content: bytes) -> None:
    assert read_log(_Bytes(content)) is None


def test_a_log_cut_short_ends_with_its_last_whole_transaction(app: _App, tmp_path: Path) -> None:
    app.write(1)
    first = _read(app.log())
    app.write(30)
    cut = app.log()[:-100]
    assert _read(cut).end == first.end
    shutil.copy(app.path, tmp_path / "copy.db")
