"""Watching: each app action becomes one step, and nothing is missed."""

from __future__ import annotations

import os
import queue
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.diff.compare import Scope
from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.registry import open_database
from jondel.core.errors import TargetError
from jondel.core.model.changes import ChangeCounts
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import Trail
from jondel.core.trail.watch import Settling, WatchTimes, watch

_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'a')")
_SETTLE = 0.5
_TIMES = WatchTimes(_SETTLE, 20.0)
_STANDSTILL_SECONDS = 60.0


class _Watcher:
    """Watches in a thread of its own."""

    def __init__(self, path: Path) -> None:
        self.steps: queue.Queue[tuple[Snapshot, Snapshot]] = queue.Queue()
        self.troubles: list[TargetError | None] = []
        self.rules = NoiseRules()
        self._stop = threading.Event()
        self._path = path
        self._thread = threading.Thread(target=self._run)
        self.ready = threading.Event()
        self._thread.start()

    def _run(self) -> None:
        with (
            closing(open_database(self._path)) as database,
            closing(Trail(database.location)) as trail,
        ):
            watched = watch(
                trail, database, self._stop, _TIMES, self.troubles.append, lambda: self.rules
            )
            for ends in watched:
                self.steps.put(ends)

    def next(self) -> tuple[Snapshot, Snapshot]:
        return self.steps.get(timeout=10)

    def stop(self) -> None:
        self._stop.set()
        self._thread.join(10)


@pytest.fixture
def watching() -> Iterator[Callable[[Path], _Watcher]]:
    watchers: list[_Watcher] = []

    def begin(path: Path) -> _Watcher:
        watchers.append(_Watcher(path))
        with closing(Trail(str(path.resolve()))) as trail:
            while not trail.snapshots():
                time.sleep(0.02)
        time.sleep(0.1)
        return watchers[-1]

    yield begin
    for watcher in watchers:
        watcher.stop()


def _sum(path: Path) -> tuple[list[ChangeCounts], ChangeCounts]:
    """The sizes of all steps, and of the difference between the first and the last."""
    with closing(Trail(str(path.resolve()))) as trail:
        steps = [trail.step_changes(step, Scope()).counts for step in trail.steps()[1:]]
        snapshots = trail.snapshots()
        return steps, trail.changes(snapshots[0], snapshots[-1]).counts


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
def test_an_action_of_several_transactions_is_one_step(
    make: MakeDatabase, app: OpenApp, watching: Callable[[Path], _Watcher], journal: str
) -> None:
    path = make(*_T, journal=journal)
    writer = app(path)
    watcher = watching(path)
    for number in range(2, 6):
        writer.run("INSERT INTO t VALUES (?, 'x')", number)
        time.sleep(_SETTLE / 4)
    first = watcher.next()
    writer.run("DELETE FROM t WHERE id = 1")
    second = watcher.next()
    assert first[1].number == second[0].number
    assert second[1].trigger.kind == "watch"
    steps, whole = _sum(path)
    assert [counts.marked() for counts in steps] == ["+4", "-1"]
    assert whole.marked() == "+4 -1"


def test_what_leaves_the_database_as_it_was_makes_no_step(
    make: MakeDatabase, app: OpenApp, watching: Callable[[Path], _Watcher]
) -> None:
    path = make(*_T, journal="WAL")
    writer = app(path)
    watcher = watching(path)
    writer.run("BEGIN")
    writer.run("UPDATE t SET v = 'b'")
    writer.run("ROLLBACK")
    with pytest.raises(queue.Empty):
        watcher.steps.get(timeout=3 * _SETTLE)


def test_restarts_checkpoints_and_a_replaced_file_are_followed(
    make: MakeDatabase, app: OpenApp, watching: Callable[[Path], _Watcher], tmp_path: Path
) -> None:
    path = make(*_T, journal="WAL")
    first = app(path)
    watcher = watching(path)
    first.run("INSERT INTO t VALUES (2, 'x')")
    watcher.next()
    first.run("PRAGMA wal_checkpoint(TRUNCATE)")
    first.close()
    second = app(path)
    second.run("INSERT INTO t VALUES (3, 'x')")
    watcher.next()
    second.kill()
    third = app(path)
    third.run("UPDATE t SET v = 'y'")
    watcher.next()
    third.close()
    other = make(*_T, "INSERT INTO t VALUES (9, 'other file')", name="other.db")
    for suffix in ("-wal", "-shm"):
        path.with_name(path.name + suffix).unlink(missing_ok=True)
    os.replace(shutil.copy(other, tmp_path / "third.db"), path)
    watcher.next()
    steps, whole = _sum(path)
    assert [counts.marked() for counts in steps] == ["+1", "+1", "~3", "+1 ~1 -2"]
    assert whole.marked() == "+1"


def test_a_lock_that_is_held_is_waited_for_and_nothing_is_missed(
    make: MakeDatabase, app: OpenApp, watching: Callable[[Path], _Watcher]
) -> None:
    path = make(*_T, journal="DELETE")
    writer = app(path)
    watcher = watching(path)
    writer.run("INSERT INTO t VALUES (2, 'x')")
    # Nothing on the disk tells this from a transaction whose journal is in memory.
    writer.run("BEGIN EXCLUSIVE")
    deadline = time.monotonic() + 20
    while not watcher.troubles and time.monotonic() < deadline:
        time.sleep(0.05)
    assert "held by" in str(watcher.troubles[0])
    writer.run("INSERT INTO t VALUES (3, 'x')")
    writer.run("COMMIT")
    watcher.next()
    while _sum(path)[1].marked() != "+2":  # a slow machine may have seen the first row by itself
        watcher.next()
    assert watcher.troubles[-1] is None


def test_an_action_that_is_all_noise_makes_no_step(
    make: MakeDatabase, app: OpenApp, watching: Callable[[Path], _Watcher]
) -> None:
    path = make(*_T, "CREATE TABLE beats(id INTEGER PRIMARY KEY, at)")
    writer, watcher = app(path), watching(path)
    watcher.rules = NoiseRules(tables=("beats",), only=("t.v",))
    writer.run("INSERT INTO beats VALUES (1, 1)")
    writer.run("UPDATE t SET v = 'seen' WHERE id = 1")
    with pytest.raises(queue.Empty):
        watcher.steps.get(timeout=4 * _SETTLE)
    writer.run("INSERT INTO t VALUES (50, 'x')")
    before, after = watcher.next()
    assert after.number == before.number + 1
    writer.run("CREATE TABLE beats_too(id INTEGER PRIMARY KEY)")
    watcher.next()  # what changes the schema is never noise
    assert [counts.marked() for counts in _sum(path)[0]] == ["+2 ~1", ""]


def test_settling_waits_for_a_pause_but_not_for_ever() -> None:
    now = [0.0]
    settling = Settling(WatchTimes(0.4, 2.0), lambda: now[0])
    settling.start(0)
    assert not settling.over(0)
    assert not settling.over(1)
    now[0] = 0.3
    assert settling.busy
    assert not settling.over(2)
    now[0] = 0.69
    assert not settling.over(2)
    now[0] = 0.71
    assert settling.over(2)
    settling.start(2)
    assert not settling.busy
    over = []
    for tick in range(50):
        now[0] = 1 + tick * 0.1
        if settling.over(3 + tick):
            over.append(tick)
            settling.start(3 + tick)
    assert over[0] == 20, "an app that never pauses gets a step after the longest time"
    assert over[1] in (41, 42)


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
def test_an_app_that_writes_as_fast_as_it_can_is_followed(
    make: MakeDatabase, watching: Callable[[Path], _Watcher], journal: str
) -> None:
    """In WAL mode it sees no error at all, with no patience for locks whatever."""
    path = make(*_T, journal=journal)
    seconds = float(os.environ.get("JONDEL_BUSY_SECONDS", "2"))
    watcher = watching(path)
    program = (
        "import sqlite3, sys, time\n"
        "c = sqlite3.connect(sys.argv[1], timeout=0, isolation_level=None)\n"
        "end, done, errors = time.time() + float(sys.argv[2]), 0, 0\n"
        "while time.time() < end:\n"
        "    try: c.execute(\"INSERT INTO t(v) VALUES ('x')\"); done += 1\n"
        "    except sqlite3.OperationalError: errors += 1\n"
        "    if float(sys.argv[2]) < 10 and done % 300 == 299: time.sleep(0.5)\n"
        "print(done, errors)\n"
    )
    told = subprocess.run(
        [sys.executable, "-c", program, str(path), str(seconds)],
        capture_output=True,
        text=True,
        check=True,
    )
    done, errors = map(int, told.stdout.split())
    started = time.monotonic()
    while _sum(path)[1].added < done and time.monotonic() - started < _STANDSTILL_SECONDS:
        time.sleep(_SETTLE)
    watcher.stop()
    steps, whole = _sum(path)
    assert sum(counts.added for counts in steps) == whole.added == done
    if journal == "WAL":
        assert errors == 0
    assert errors <= done / 50
