"""What snapshots, diffs and restores cost, as ratios to baselines measured in the same run.

    python bench/time_travel.py [--rows N] [--more-rows N] [--runs N]

Machines are noisy: each pair is measured in turns, and the medians are compared. Memory is the
most that a process of its own held, beyond one that only opened the database.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from itertools import pairwise
from pathlib import Path
from statistics import median

import apsw

from jondel.core.diff.compare import compare
from jondel.core.engines.needed import statements_of
from jondel.core.engines.registry import open_database, open_pages
from jondel.core.snapshots.shelf import Shelf
from jondel.core.trail import restore as restoring
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail

_CHANGED_ROWS = 100


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--more-rows", type=int, default=10_000_000, help="0 leaves these out")
    parser.add_argument("--runs", type=int, default=7)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="jondel-bench-") as folder:
        bench = Bench(Path(folder), given.runs)
        original = bench.make(given.rows)
        print(f"{given.rows:,} rows, {original.stat().st_size / 1e6:.0f} MB, {given.runs} runs")
        bench.captures(original)
        diff_seconds = bench.diffs(original)
        bench.restores(original)
        bench.processes()
        bench.memory(original, given.rows)
        if given.more_rows:
            larger = bench.make(given.more_rows)
            print(f"{given.more_rows:,} rows, {larger.stat().st_size / 1e6:.0f} MB")
            seconds = bench.diff_seconds(larger)
            _tell("diff, against the same on fewer rows", seconds, diff_seconds, 3)
            bench.memory(larger, given.more_rows)


def _tell(what: str, measured: float, baseline: float, target: float) -> None:
    """Print a measure in ms, its baseline, their ratio and the ratio to reach."""
    ratio = measured / baseline
    sign = "" if ratio <= target else "   not reached"
    print(
        f"  {what:<48} {measured * 1e3:9.1f} ms / {baseline * 1e3:8.1f} ms = {ratio:7.3f}"
        f"  (at most {target}){sign}",
        flush=True,
    )


class Bench:
    """Databases in a folder, and measures of what is done with them."""

    def __init__(self, folder: Path, runs: int) -> None:
        self._folder = folder
        self._runs = runs
        os.environ["JONDEL_HOME"] = str(folder / "home")
        os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # nobody who uses Jondel has it set

    def make(self, rows: int) -> Path:
        """A database of tide readings, in WAL mode and closed."""
        path = self._folder / f"{rows}.db"
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute("PRAGMA journal_mode=WAL").fetchall()
            connection.execute(
                "CREATE TABLE tide_readings(id INTEGER PRIMARY KEY, station TEXT, "
                "taken_at TEXT, level REAL, note TEXT, checked INTEGER)"
            )
            connection.execute(
                "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) "
                "INSERT INTO tide_readings SELECT i, 'gauge ' || (i % 97), "
                "datetime(i * 60, 'unixepoch'), (i % 1000) / 7.0, "
                "'pier ' || i || ', calm, light airs', i % 3 FROM n",
                (rows,),
            )
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchall()
        return path

    def copied(self, path: Path) -> float:
        """How long ``cp`` takes, in seconds."""
        target = self._folder / "copy.db"
        target.unlink(missing_ok=True)
        os.sync()
        started = time.perf_counter()
        subprocess.run(["cp", path, target], check=True)
        return time.perf_counter() - started

    @contextmanager
    def app(self, original: Path, journal: str) -> Iterator[tuple[Path, Callable[[], None]]]:
        """A fresh copy, and a way to have an app change rows all over it."""
        path = self._folder / f"app-{journal}.db"
        for suffix in ("", "-wal", "-shm", "-journal"):
            path.with_name(path.name + suffix).unlink(missing_ok=True)
        shutil.copy(original, path)
        writer = subprocess.Popen(
            [sys.executable, "-c", _APP, str(path), journal, str(_CHANGED_ROWS)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert writer.stdin is not None
        assert writer.stdout is not None

        def change() -> None:
            writer.stdin.write("\n")  # type: ignore[union-attr]
            writer.stdin.flush()  # type: ignore[union-attr]
            writer.stdout.readline()  # type: ignore[union-attr]

        writer.stdout.readline()
        try:
            yield path, change
        finally:
            writer.communicate("")

    def captures(self, original: Path) -> None:
        copies, firsts = [], []
        with self.app(original, "wal") as (path, _), closing(open_database(path)) as database:
            for number in range(self._runs):
                copies.append(self.copied(path))
                with closing(Shelf(self._folder / f"shelf-{number}")) as shelf:
                    firsts.append(_timed(lambda s=shelf: _capture(s, database)))  # type: ignore[misc]
                shutil.rmtree(self._folder / f"shelf-{number}")
        cp = median(copies)
        _tell("first snapshot, against cp", median(firsts), cp, 3)
        for journal, target in (("wal", 0.3), ("delete", 1.5)):
            copies, nexts, agains = [], [], []
            with (
                self.app(original, journal) as (path, change),
                closing(open_database(path)) as database,
                closing(Shelf(self._folder / f"shelf-{journal}")) as shelf,
            ):
                for number in range(self._runs + 2):
                    change()
                    time.sleep(0.05)
                    taken = _timed(lambda: _capture(shelf, database))
                    again = _timed(lambda: _capture(shelf, database))
                    if number > 1:  # the first one is another measure, the second warms up
                        nexts.append(taken)
                        agains.append(again)
                        copies.append(self.copied(path))
            cp = median(copies)
            _tell(
                f"next after {_CHANGED_ROWS} rows, {journal} mode, against cp",
                median(nexts),
                cp,
                target,
            )
            _tell(f"again with nothing committed, {journal} mode", median(agains), cp, 0.3)

    def diffs(self, original: Path) -> float:
        seconds = self.diff_seconds(original)
        excepts = []
        with self.app(original, "wal") as (path, change):
            before = self._folder / "before.db"
            shutil.copy(original, before)
            change()
            with closing(apsw.Connection(str(path))) as connection:
                connection.execute("ATTACH ? AS b", (str(before),))
                for _ in range(min(3, self._runs)):
                    excepts.append(_timed(lambda: _except_both_ways(connection)))
        _tell("diff, against EXCEPT both ways", seconds, median(excepts), 0.01)
        return seconds

    def diff_seconds(self, original: Path) -> float:
        """How long it takes to compare two states that differ in a few rows, in this process."""
        found, opened = [], []
        with (
            self.app(original, "wal") as (path, change),
            closing(open_database(path)) as database,
            closing(Shelf(self._folder / f"shelf-{original.stem}")) as shelf,
        ):
            names = [_capture(shelf, database)]
            for _ in range(self._runs + 1):
                change()
                names.append(_capture(shelf, database))
            for before, after in pairwise(names[1:]):
                started = time.perf_counter()
                one = open_pages(shelf.open(before, "it"), location="it")
                assert (
                    len(statements_of(one).execute("SELECT * FROM tide_readings LIMIT 50").rows)
                    == 50
                )
                opened.append(time.perf_counter() - started)
                with (
                    closing(one),
                    closing(open_pages(shelf.open(after, "it"), location="it")) as other,
                ):
                    started = time.perf_counter()
                    changes = compare(one, other)
                    found.append(time.perf_counter() - started)
                assert changes.method == "pages"
                assert changes.counts.total == _CHANGED_ROWS
        shutil.rmtree(self._folder / f"shelf-{original.stem}")
        _tell("open a step, first 50 rows, against 50 ms", median(opened), 0.05, 1)
        return median(found)

    def restores(self, original: Path) -> None:
        for journal in ("wal", "delete"):
            self._restores(
                original, journal, restoring._MOST_RECORDS, f"after {_CHANGED_ROWS} rows"
            )
            self._restores(original, journal, 0, "by copying over")

    def _restores(self, original: Path, journal: str, most_records: int, how: str) -> None:
        """``most_records`` above which the database is copied over as a whole."""
        copies, times = [], []
        usual, restoring._MOST_RECORDS = restoring._MOST_RECORDS, most_records
        with (
            self.app(original, journal) as (path, change),
            closing(open_database(path)) as database,
            closing(Trail(database.location)) as trail,
        ):
            start = trail.take(database)
            for _ in range(self._runs):
                copies.append(self.copied(path))
                change()
                times.append(_timed(lambda: restore(trail, database, start)))
            trail.forget()
        restoring._MOST_RECORDS = usual
        _tell(f"restore {how}, {journal} mode, against cp", median(times), median(copies), 4)

    def processes(self) -> None:
        """Whole commands on a small database."""
        path = self._folder / "small.db"
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute("CREATE TABLE berths(id INTEGER PRIMARY KEY, state)")
            connection.execute("INSERT INTO berths VALUES (1, 'free')")
        jondel = [sys.executable, "-m", "jondel"]
        commands = {
            "import": [sys.executable, "-c", "import apsw, numpy"],
            "snapshot": [*jondel, "snapshot", str(path)],
            "diff": [*jondel, "diff", str(path), "s1"],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        for _ in range(self._runs + 1):
            for name, command in commands.items():
                times[name].append(
                    _timed(lambda c=command: subprocess.run(c, check=True, capture_output=True))  # type: ignore[misc]
                )
        baseline = median(times["import"][1:])
        for name in ("snapshot", "diff"):
            _tell(f"jondel {name}, whole process", median(times[name][1:]), baseline, 2.5)

    def memory(self, original: Path, rows: int) -> None:
        with self.app(original, "wal") as (path, change):
            change()
            idle = _peak_mb("open", path, self._folder / "shelf-memory")
            first = _peak_mb("capture", path, self._folder / "shelf-memory")
            change()
            both = _peak_mb("diff", path, self._folder / "shelf-memory")
        manifests = 32 * original.stat().st_size / 4096 / 1e6
        print(
            f"  memory beyond an idle process: first capture {first - idle:.1f} MB, capture and "
            f"diff {both - idle:.1f} MB (32 bytes a page are {manifests:.1f} MB)",
            flush=True,
        )
        shutil.rmtree(self._folder / "shelf-memory")


def _timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _capture(shelf: Shelf, database: object) -> str:
    with shelf.captured(database) as name:  # type: ignore[arg-type]
        return name


def _except_both_ways(connection: apsw.Connection) -> None:
    for one, other in (("main", "b"), ("b", "main")):
        found = connection.execute(
            f"SELECT * FROM {one}.tide_readings EXCEPT SELECT * FROM {other}.tide_readings"
        ).fetchall()
        assert len(found) == _CHANGED_ROWS


_APP = """
import random, sqlite3, sys
path, journal, rows = sys.argv[1], sys.argv[2], int(sys.argv[3])
c = sqlite3.connect(path, isolation_level=None)
c.execute("PRAGMA journal_mode=" + journal)
c.execute("PRAGMA wal_autocheckpoint=0")
last = c.execute("SELECT max(id) FROM tide_readings").fetchone()[0]
print("ready", flush=True)
for line in sys.stdin:
    c.execute("BEGIN")
    for id in random.sample(range(1, last + 1), rows):
        c.execute("UPDATE tide_readings SET level = level + 1 WHERE id = ?", (id,))
    c.execute("COMMIT")
    print("done", flush=True)
"""
_MEMORY = """
import sys
from contextlib import closing
from pathlib import Path
from jondel.core.diff.compare import compare
from jondel.core.engines.registry import open_database, open_pages
import jondel.core.engines.sqlite.image, jondel.core.engines.sqlite.capture
from jondel.core.snapshots.shelf import Shelf
what, path, folder = sys.argv[1:]
with closing(open_database(path)) as database, closing(Shelf(Path(folder))) as shelf:
    database.schema()
    if what != "open":
        known = shelf.names()
        with shelf.captured(database) as name:
            pass
        if what == "diff":
            one = open_pages(shelf.open(known[0], "it"), location="it")
            other = open_pages(shelf.open(name, "it"), location="it")
            assert compare(one, other).counts.total
status = Path("/proc/self/status").read_text()  # of this program alone, unlike getrusage
print(next(line.split()[1] for line in status.splitlines() if line.startswith("VmHWM")))
"""


def _peak_mb(what: str, path: Path, shelf: Path) -> float:
    told = subprocess.run(
        [sys.executable, "-c", _MEMORY, what, str(path), str(shelf)],
        check=True,
        capture_output=True,
        text=True,
    )
    return int(told.stdout) * 1024 / 1e6


if __name__ == "__main__":
    random.seed(1)
    main()
