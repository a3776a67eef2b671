"""States kept page by page: each page once, damage named, and safe against a kill at any time."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.engines import pages
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database, open_pages
from jondel.core.errors import JondelError, StoreUnavailable
from jondel.core.snapshots.shelf import Shelf
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]
_T = (
    "CREATE TABLE t(id INTEGER PRIMARY KEY, v)",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000) "
    "INSERT INTO t SELECT i, randomblob(200) FROM n",
)
_KILLS = int(os.environ.get("JONDEL_KILLS", "12"))


@pytest.fixture
def shelf(tmp_path: Path) -> Iterator[Shelf]:
    with closing(Shelf(tmp_path / "shelf")) as made:
        yield made


def _capture(shelf: Shelf, database: Database) -> str:
    with shelf.captured(database) as name:
        return name


def _sum(shelf: Shelf, name: str) -> object:
    with closing(open_pages(shelf.open(name, "it"), location="app.db")) as image:
        assert statements_of(image).execute("PRAGMA integrity_check").rows == (("ok",),)
        return (
            statements_of(image).execute("SELECT count(*), sum(length(v)), max(id) FROM t").rows[0]
        )


@pytest.fixture(params=["page by page", "as arrays"], autouse=True)
def _states_are_handled(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    if request.param == "as arrays":
        monkeypatch.setattr(pages, "MOST_SMALL_PAGES", 0)


def test_a_page_that_did_not_change_is_stored_once(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf
) -> None:
    path = make(*_T)
    database = opened(path)
    _capture(shelf, database)
    first = shelf.size()
    app(path).run("UPDATE t SET v = zeroblob(200) WHERE id = 1000")
    _capture(shelf, database)
    assert shelf.size() - first < 0.1 * first


def test_a_state_that_comes_again_is_the_same_state(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf
) -> None:
    path = make(*_T)
    database, writer = opened(path), app(path)
    content = path.read_bytes()
    first = _capture(shelf, database)
    writer.run("DELETE FROM t WHERE id > 900")
    _capture(shelf, database)
    size = shelf.size()
    writer.close()
    path.write_bytes(content)
    assert _capture(shelf, database) == first
    assert shelf.size() - size < 5000


def test_a_passing_state_leaves_nothing_behind(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf, tmp_path: Path
) -> None:
    path = make(*_T)
    database = opened(path)
    _capture(shelf, database)
    size, files = shelf.size(), sorted(tmp_path.rglob("*"))
    app(path).run("UPDATE t SET v = randomblob(9000)")
    with shelf.passing(database) as passing:
        with closing(open_pages(passing.image, location="app.db")) as image:
            assert statements_of(image).execute("SELECT min(length(v)) FROM t").rows == ((9000,),)
        assert _capture(shelf, database) == passing.name
        shelf.keep_only(list)
    assert shelf.size() < size
    assert {p for p in sorted(tmp_path.rglob("*")) if p.suffix not in (".pages", "")} <= set(files)


def test_what_is_no_longer_needed_goes_and_the_rest_stays(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf
) -> None:
    path = make(*_T)
    database, writer = opened(path), app(path)
    names, sums = [], []
    for number in range(6):
        writer.run(f"UPDATE t SET v = randomblob({100 + number}) WHERE id % 3 = {number % 3}")
        names.append(_capture(shelf, database))
        sums.append(_sum(shelf, names[-1]))
    full = shelf.size()
    kept = [names[0], names[4]]
    shelf.keep_only(lambda: kept)
    assert shelf.size() < 0.75 * full
    for number in (0, 4):
        assert _sum(shelf, names[number]) == sums[number]
    with pytest.raises(StoreUnavailable):
        shelf.open(names[2], "it")
    assert _sum(shelf, _capture(shelf, database)) == sums[5]


def test_states_are_the_same_however_they_are_taken_in(
    make: MakeDatabase,
    opened: Opened,
    app: OpenApp,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Page by page, as arrays, and by turns, while the database grows and shrinks."""
    path = make(*_T, journal="WAL")
    database, writer, chance = opened(path), app(path), random.Random(5)
    shelves = [Shelf(tmp_path / name) for name in ("small", "large", "either")]
    for _ in range(12):
        first, count = chance.randrange(4000), chance.randrange(1, 900)
        last = first + count
        writer.run(
            chance.choice(
                [
                    f"UPDATE t SET v = randomblob(200) WHERE id BETWEEN {first} AND {last}",
                    f"DELETE FROM t WHERE id BETWEEN {first} AND {last}",
                    f"INSERT INTO t(v) SELECT randomblob(300) FROM t LIMIT {count}",
                    "VACUUM",
                    "UPDATE t SET v = v WHERE id = 1",
                ]
            )
        )
        names = []
        for shelf, most in zip(shelves, (1 << 30, 0, chance.choice([0, 1 << 30])), strict=True):
            monkeypatch.setattr(pages, "MOST_SMALL_PAGES", most)
            names.append(_capture(shelf, database))
            monkeypatch.setattr(pages, "MOST_SMALL_PAGES", chance.choice([0, 1 << 30]))
            assert shelf.problem_of(names[-1]) is None
        assert len(set(names)) == 1
        sums = [_sum(shelf, names[0]) for shelf in shelves]
        assert (
            sums
            == [
                statements_of(database)
                .execute("SELECT count(*), sum(length(v)), max(id) FROM t")
                .rows[0]
            ]
            * 3
        )
    sizes = [shelf.size() for shelf in shelves]
    assert max(sizes) < 1.05 * min(sizes)
    for shelf in shelves:
        shelf.close()


@pytest.mark.parametrize("how", ["flipped", "cut short", "gone"])
def test_damage_is_found_named_and_confined(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf, tmp_path: Path, how: str
) -> None:
    path = make(*_T)
    database = opened(path)
    first = _capture(shelf, database)
    (pack,) = tmp_path.rglob("*.pages")
    end = pack.stat().st_size
    app(path).run("UPDATE t SET v = zeroblob(200) WHERE id = 1999")
    second = _capture(shelf, database)
    if how == "flipped":
        content = bytearray(pack.read_bytes())
        content[end + 30] ^= 1
        pack.write_bytes(content)
    elif how == "cut short":
        os.truncate(pack, end)
    else:
        pack.unlink()
    assert shelf.problem_of(second)
    with closing(Shelf(tmp_path / "shelf")) as anew:
        if how == "gone":
            with pytest.raises(JondelError, match="missing"):
                _sum(anew, first)
            return
        assert anew.problem_of(first) is None
        assert _sum(anew, first)
        with pytest.raises(StoreUnavailable, match=r"page \d+ is damaged in the store"):
            _sum(anew, second)


def test_a_torn_end_of_pack_and_index_harms_nothing(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf, tmp_path: Path
) -> None:
    path = make(*_T)
    database = opened(path)
    first = _capture(shelf, database)
    (pack,) = tmp_path.rglob("*.pages")
    for file in (pack, pack.with_name("index")):
        with file.open("ab") as torn:
            torn.write(b"half a page that a crash left" * 9)
    app(path).run("UPDATE t SET v = zeroblob(200) WHERE id < 300")
    second = _capture(shelf, database)
    assert _sum(shelf, first) == _sum(shelf, second)
    assert shelf.problem_of(first) is shelf.problem_of(second) is None


def test_an_index_that_lies_is_not_believed(
    make: MakeDatabase, opened: Opened, app: OpenApp, shelf: Shelf, tmp_path: Path
) -> None:
    path = make(*_T)
    database, writer = opened(path), app(path)
    _capture(shelf, database)
    writer.run("UPDATE t SET v = zeroblob(199)")
    (pack,) = tmp_path.rglob("*.pages")
    with shelf.passing(database) as passing:
        hashes = passing.image.hashes
    lies = b"".join(
        hashes[at : at + 16] + (1 << 40).to_bytes(8, "little") for at in range(0, len(hashes), 16)
    )
    pack.with_name("index").write_bytes(lies)
    name = _capture(shelf, database)
    assert shelf.problem_of(name) is None
    assert _sum(shelf, name) == (2000, 2000 * 199, 2000)


_WORK = """
import random, sys, time
from contextlib import closing
from pathlib import Path
from jondel.core.engines import pages
from jondel.core.engines.needed import commits_of, restorer_of
from jondel.core.engines.registry import open_database
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail
chance = random.Random(int(sys.argv[2]))
pages.MOST_SMALL_PAGES = int(sys.argv[3])
with closing(open_database(sys.argv[1])) as database, closing(Trail(database.location)) as trail:
    print("ready", flush=True)
    while True:
        kind = chance.choice(["take", "take", "take", "delete", "restore", "copy"])
        known = trail.snapshots()
        if kind == "take" or len(known) < 4:
            trail.take(database)
        elif kind == "delete":
            spare = [s for s in known if not s.label]
            trail.delete(spare[: len(spare) // 2])
        elif kind == "restore":
            restore(trail, database, chance.choice([s for s in known if s.label]))
        else:
            with closing(trail.open(known[0])) as image:
                restorer_of(database).restore_from(image, commits_of(database).mark())
"""


def test_states_are_opened_by_several_threads_at_once(
    make: MakeDatabase,
    opened: Opened,
    trail_of: TrailOf,
    app: OpenApp,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("jondel.core.snapshots.manifests._MOST_REMEMBERED", 2)
    interval = sys.getswitchinterval()
    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (0)")
    database = opened(path)
    writer = app(path)
    taking = trail_of(database)
    for number in range(12):
        writer.run(f"UPDATE t SET v = {number}")
        taking.take(database)
    snapshots = taking.snapshots()
    trail = trail_of(database)

    def read(_: int) -> list[object]:
        values = []
        for snapshot in snapshots:
            with closing(trail.open(snapshot)) as state:
                values.append(statements_of(state).execute("SELECT v FROM t").rows[0][0])
        return values

    sys.setswitchinterval(1e-6)
    try:
        with ThreadPoolExecutor(8) as threads:
            told = list(threads.map(read, range(40)))
    finally:
        sys.setswitchinterval(interval)
    assert told == [list(range(12))] * 40


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
def test_a_kill_at_any_instant_loses_no_earlier_snapshot(
    make: MakeDatabase, app: OpenApp, journal: str
) -> None:
    """Captures, deletions and restores are killed at random; labelled snapshots stay whole."""
    path = make(*_T, journal=journal)
    chance = random.Random(journal)
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        sums = {}
        for number in range(3):
            with closing(sqlite3.connect(path)) as connection:
                connection.execute(f"UPDATE t SET v = randomblob({150 + number}) WHERE id % 4 = 1")
                connection.commit()
            taken = trail.take(database, f"kept {number}")
            with closing(trail.open(taken)) as image:
                sums[taken.label] = (
                    statements_of(image).execute("SELECT sum(length(v)) FROM t").rows
                )
    for number in range(_KILLS):
        working = subprocess.Popen(
            [sys.executable, "-c", _WORK, str(path), f"{number}", str(number % 2 * 512)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        assert working.stdout is not None
        assert working.stderr is not None
        assert working.stdout.readline() == "ready\n"
        time.sleep(chance.uniform(0, 0.4))
        assert working.poll() is None, working.stderr.read()
        working.send_signal(signal.SIGKILL)
        working.communicate()
        with closing(sqlite3.connect(path)) as connection:  # rolls back what was half written
            assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
            connection.execute("UPDATE t SET v = randomblob(99) WHERE id % 5 = ?", (number % 5,))
            connection.commit()
        with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
            for label, expected in sums.items():
                with closing(trail.open(trail.find(label))) as image:
                    assert statements_of(image).execute("PRAGMA integrity_check").rows == (("ok",),)
                    assert (
                        statements_of(image).execute("SELECT sum(length(v)) FROM t").rows
                        == expected
                    )
            for snapshot in trail.snapshots():
                with closing(trail.open(snapshot)) as image:
                    assert statements_of(image).execute("SELECT count(*) FROM t").rows == ((2000,),)
