"""Stores that lost something: what is kept next is whole, and what is lost is let go."""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.snapshots import pack_marks
from jondel.core.snapshots.store import Store
from jondel.core.trail.trail import Trail

_MANY = (
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500) "
    "INSERT INTO t SELECT i, randomblob(300) FROM n"
)
_ALL = "SELECT id, hex(v) FROM t"


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    return make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", _MANY)


def _write(path: Path, sql: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(sql)
        connection.commit()
        return connection.execute(_ALL).fetchall()


@pytest.fixture
def shelf(path: Path) -> Path:
    """The folder of a database's pages, with three snapshots."""
    with closing(open_database(path)) as database, closing(Trail(str(path))) as trail:
        for number in range(3):
            trail.take(database, f"step {number}")
            _write(path, f"UPDATE t SET v = randomblob(300) WHERE id % 9 = {number}")
    return Store().shelf_folder(str(path))


def _taken(path: Path, label: str) -> None:
    with closing(open_database(path)) as database, closing(Trail(str(path))) as trail:
        trail.take(database, label)


def _rows(path: Path, label: str) -> list[tuple[object, ...]]:
    with closing(Trail(str(path))) as trail, closing(trail.open(trail.find(label))) as image:
        return list(statements_of(image).execute(_ALL).rows)


def _cut(shelf: Path) -> None:
    pack = max((shelf / "packs").glob("*.pages"))
    os.truncate(pack, pack.stat().st_size - 70_000)


def _emptied_end(shelf: Path) -> None:
    pack = max((shelf / "packs").glob("*.pages"))
    with pack.open("r+b") as file:
        file.seek(pack.stat().st_size - 70_000)
        file.write(bytes(70_000))


def _lists(shelf: Path) -> None:
    for manifest in (shelf / "manifests").iterdir():
        content = bytearray(manifest.read_bytes())
        content[len(content) // 2] ^= 0xFF
        manifest.write_bytes(content)


def _gone(shelf: Path) -> None:
    shutil.rmtree(shelf / "packs")


@pytest.mark.parametrize("lose", [_cut, _emptied_end, _lists, _gone])
def test_what_is_kept_after_a_loss_can_be_read(
    path: Path, shelf: Path, lose: Callable[[Path], None]
) -> None:
    lose(shelf)
    expected = _write(path, "UPDATE t SET v = v")
    _taken(path, "as before the loss")
    assert _rows(path, "as before the loss") == expected
    expected = _write(path, "UPDATE t SET v = randomblob(300) WHERE id = 5")
    _taken(path, "next")
    assert _rows(path, "next") == expected


@pytest.mark.parametrize("lose", [_cut, _emptied_end, _lists, _gone])
def test_mending_finds_pages_anew_and_lets_go_of_the_rest(
    path: Path, shelf: Path, lose: Callable[[Path], None]
) -> None:
    lose(shelf)
    assert list(Store().damage())
    asked = []
    with closing(open_database(path)) as database:
        left = Store().mend(str(path), database, lambda lost: not asked.append(len(lost)))
    assert left == []
    assert len(asked) <= 1
    assert list(Store().damage()) == []
    with closing(Trail(str(path))) as trail:
        for snapshot in trail.snapshots():
            with closing(trail.open(snapshot)) as image:
                assert statements_of(image).execute("PRAGMA integrity_check").rows == (("ok",),)


def test_a_page_that_is_in_the_live_database_still_mends_a_snapshot(path: Path) -> None:
    _taken(path, "only")
    expected = _rows(path, "only")
    _cut(Store().shelf_folder(str(path)))
    with closing(open_database(path)) as database:
        assert Store().mend(str(path), database, lambda _: pytest.fail("nothing is lost")) == []
    assert _rows(path, "only") == expected


def test_after_a_new_start_only_what_had_not_reached_the_disk_is_verified(
    path: Path, shelf: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All of it had, so a damage that leaves no other sign costs nothing to look for."""
    synced = pack_marks.read_synced(shelf / "synced")
    packs = pack_marks.identities(shelf / "packs", ".pages")
    assert synced == {name: identity[1] for name, identity in packs.items()}
    left = {"packs": packs, "boot": pack_marks.boot_id()}
    assert pack_marks.doubtful(left, packs, {}) == {}
    monkeypatch.setattr(pack_marks, "boot_id", lambda: "another start")
    assert pack_marks.doubtful(left, packs, synced) == {}
    name = max(packs)
    assert pack_marks.doubtful(left, packs, {**synced, name: 4096}) == {int(name): 4096}
    longer = {**packs, name: [*packs[name][:1], packs[name][1] + 1, *packs[name][2:]]}
    assert pack_marks.doubtful(left, longer, synced) == {int(name): 0}


def test_an_open_step_outlives_compaction_by_another_process(path: Path) -> None:
    """The pages of a state that was opened can be read, though nobody had read them before."""
    with closing(open_database(path)) as database, closing(Trail(str(path))) as trail:
        first = trail.take(database)
        expected = _write(path, "UPDATE t SET v = randomblob(300)")
        second = trail.take(database)
        with closing(trail.open(second)) as image:
            other = Trail(str(path))
            other.delete([first])
            other.delete([second])
            other.take(database, "makes a new pack")
            other.close()
            assert list(statements_of(image).execute(_ALL).rows) == expected


def test_peeking_at_pages_agrees_with_opening(path: Path) -> None:
    """Which the history of a record relies on to pass states by."""
    with closing(open_database(path)) as database, closing(Trail(str(path))) as trail:
        taken = [trail.take(database)]
        for number in (400, 3, 400):
            _write(path, f"UPDATE t SET v = randomblob(300) WHERE id = {number}")
            taken.append(trail.take(database))

        def row(of: Database) -> object:
            return statements_of(of).execute("SELECT hex(v) FROM t WHERE id = 400").rows

        for one in taken:
            for other in taken:
                with closing(trail.open(one)) as image, closing(trail.open(other)) as second:
                    found = row(image)
                    peek = trail.peek(other)
                    assert peek is not None
                    assert image.scanner.reads_alike(peek) == (found == row(second))
