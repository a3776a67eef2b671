"""What snapshots, diffs and watching cost on a server, as ratios to baselines of the same run.

    python bench/server.py [--rows N] [--more-rows N] [--runs N]

Machines are noisy: each pair is measured in turns, and the medians are compared. The server is one
of our own; its programs must be installed.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import closing
from functools import partial
from pathlib import Path
from statistics import median
from typing import Any

import psycopg

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.model.addresses import TableId
from jondel.core.model.filters import Arrangement, OrderKey
from jondel.core.model.schema import Table
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.trail import Trail
from jondel.core.trail.watch import watch
from jondel.demo.private_server import private_server
from records import memory, opening, paging

_MAKE = """
CREATE TABLE {name}(id bigserial PRIMARY KEY, gauge text NOT NULL, at timestamp NOT NULL,
    height int NOT NULL, surge numeric(6, 2), level double precision, note text, ok boolean);
INSERT INTO {name}(gauge, at, height, surge, level, note, ok)
SELECT 'gauge ' || i % 7, timestamp '2026-01-01' + i * interval '6 min', (i::bigint * 7919) % 7001,
    (i % 997) / 100.0, i * 0.37, CASE WHEN i % 3 = 0 THEN 'reading ' || i END, i % 2 = 0
FROM generate_series(1, {rows}) i;
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--more-rows", type=int, default=0, help="0 leaves these out")
    parser.add_argument("--runs", type=int, default=5)
    given = parser.parse_args()
    with private_server() as url, tempfile.TemporaryDirectory(prefix="jondel-bench-") as folder:
        bench = Bench(url, Path(folder), given.runs)
        diff = bench.snapshots(given.rows)
        bench.reading(given.rows)
        bench.watching()
        bench.painted(given.rows)
        if given.more_rows:
            larger = bench.snapshots(given.more_rows)
            _tell("diff, against the same on fewer rows", larger, diff, 3)


class Bench:
    """Measures on a server; each measurement has a database of its own."""

    def __init__(self, url: str, folder: Path, runs: int) -> None:
        self._server, self._folder, self._runs = url, folder, runs

    def _made(self, *tables: tuple[str, int]) -> tuple[str, psycopg.Connection[Any]]:
        with psycopg.connect(self._server, autocommit=True) as connection:
            name = f"bench{time.monotonic_ns()}"
            connection.execute(f"CREATE DATABASE {name}")
        url = self._server.replace("/postgres?", f"/{name}?")
        app = psycopg.connect(url, autocommit=True)
        for table, rows in tables:
            app.execute(_MAKE.format(name=table, rows=rows))
        app.execute("VACUUM ANALYZE")
        return url, app

    def snapshots(self, rows: int) -> float:
        """Snapshots of one table; returns the seconds of a diff."""
        url, app = self._made(("readings", rows))
        print(f"{rows:,} rows")
        copies, firsts, quiet, changed, diffs = [], [], [], [], []
        for number in range(self._runs):
            copies.append(_seconds(lambda: _copy(app)))
            home = self._folder / f"home{rows}-{number}"
            with (
                closing(open_database(url)) as database,
                closing(Trail(database.location, home)) as trail,
            ):
                firsts.append(_seconds(lambda t=trail, d=database: t.take(d)))
                quiet.append(
                    _seconds(lambda t=trail, d=database: t.take_unless_unchanged(d, Trigger()))
                )
                first = number * 1000
                app.execute(f"DELETE FROM readings WHERE id % {rows // 100} = {first + 1}")
                app.execute(
                    f"UPDATE readings SET height = -1 WHERE id % {rows // 100} = {first + 2}"
                )
                app.execute(
                    "INSERT INTO readings(gauge, at, height) "
                    "SELECT 'new', now(), i FROM generate_series(1, 100) i"
                )
                changed.append(_seconds(lambda t=trail, d=database: t.take(d)))
                before, after = trail.snapshots()[-2:]
                diffs.append(
                    _seconds(lambda t=trail, b=before, a=after: _told(t.changes(b, a), 250))
                )
        copy = median(copies)
        _tell("first snapshot, against COPY through the driver", median(firsts), copy, 3)
        _tell("next after 300 changed rows, against COPY", median(changed), copy, 0.25)
        _tell("next with nothing written in between, against COPY", median(quiet), copy, 0.02)
        _tell("diff of two steps after 300 changed rows, against 50 ms", median(diffs), 0.05, 1)
        app.close()
        return median(diffs)

    def reading(self, rows: int) -> None:
        """The first rows of a sheet, sorted and not."""
        url, app = self._made(("readings", rows), ("few", 10))
        times: dict[str, list[float]] = {"large": [], "small": [], "ours": [], "theirs": []}
        with closing(open_database(url)) as database:
            table = database.schema().by_id[TableId("public", "readings")]
            few = database.schema().by_id[TableId("public", "few")]
            order = Arrangement(order=(OrderKey("height", True),))
            for _ in range(self._runs):
                times["large"].append(_seconds(partial(_first_rows, database, table)))
                times["small"].append(_seconds(partial(_first_rows, database, few)))
                first = partial(database.finder.first_rows, table, order, 100)
                times["ours"].append(_seconds(first))
                times["theirs"].append(_seconds(partial(_highest, app)))
        medians = {name: median(taken) for name, taken in times.items()}
        _tell("first rows of the table, against ten rows'", medians["large"], medians["small"], 1.3)
        _tell("first rows of an unindexed sort, against ORDER BY … LIMIT 100",
              medians["ours"], medians["theirs"], 1.3)  # fmt: skip
        app.close()

    def painted(self, rows: int) -> None:
        """The interface in a terminal: opening, paging, memory. Targets of files are printed with
        them; a server's are 1.3, 40 ms and 60 MB."""
        urls = []
        for count in (rows, 10):
            url, app = self._made()
            app.execute(
                # So wide that it has a bar below, as the file that is measured alike.
                "CREATE TABLE readings(id bigserial PRIMARY KEY, code text, note text, "
                "value numeric, taken_at timestamptz, berth int, status text, volts float8, "
                "sent_at timestamp, a int, b int, c uuid); "
                "INSERT INTO readings(code, note, value, taken_at, berth, status, volts, sent_at, "
                "a, b, c) SELECT 'row-' || lpad(i::text, 7, '0'), repeat('n', i % 40), i / 7.0, "
                "timestamptz '2026-01-01 00:00+00' + i * interval '1 min', i % 60, 'held', "
                "i * 1.5, "
                "timestamp '2026-01-01' + i * interval '1 min', i % 1003, i % 97, "
                f"md5(i::text)::uuid FROM generate_series(1, {count}) i"
            )
            app.execute("VACUUM ANALYZE")
            app.close()
            urls.append(url)
        environment = {
            **os.environ,
            "JONDEL_HOME": str(self._folder / "painted"),
            "TERM": "xterm-256color",
            "COLORTERM": "truecolor",
        }
        opening(urls[0], urls[1], environment, self._runs)
        paging(urls[0], environment, rows, 60)
        memory(urls[0], urls[1], environment)

    def watching(self) -> None:
        """From a commit to its step, and what is asked of a database in which nothing happens."""
        url, app = self._made(*((f"t{number}", 100) for number in range(50)))
        stop = threading.Event()
        steps: list[float] = []
        with (
            closing(open_database(url)) as database,
            closing(Trail(database.location, self._folder / "watch")) as trail,
        ):

            def follow() -> None:
                for _ in watch(trail, database, stop):
                    steps.append(time.perf_counter())

            following = threading.Thread(target=follow)
            following.start()
            time.sleep(3)
            asked = _asked_in(5) / 5
            waits = []
            for number in range(self._runs):
                known = len(steps)
                committed = time.perf_counter()
                app.execute(f"UPDATE t{number} SET height = height + 1 WHERE id = 1")
                while len(steps) == known and time.perf_counter() - committed < 10:
                    time.sleep(0.005)
                waits.append(steps[-1] - committed)
                time.sleep(1)
            stop.set()
            following.join()
        _tell("watching: commit to step, against 1 s", median(waits), 1, 1)
        _tell("watching: questions a second while idle, against 5", asked, 5, 1)
        app.close()


def _asked_in(seconds: float) -> int:
    """How many statements are run in this process meanwhile."""
    asked = 0
    execute = psycopg.Connection.execute

    def counted(*arguments: Any, **more: Any) -> Any:
        nonlocal asked
        asked += 1
        return execute(*arguments, **more)

    psycopg.Connection.execute = counted  # type: ignore[method-assign]
    time.sleep(seconds)
    psycopg.Connection.execute = execute  # type: ignore[method-assign]
    return asked


def _highest(app: psycopg.Connection[Any]) -> None:
    app.execute("SELECT * FROM readings ORDER BY height DESC LIMIT 100").fetchall()


def _first_rows(database: Database, table: Table) -> None:
    extent = database.rows.measure(table, quick=True)
    database.rows.read_window(table, 0, 128, extent=extent)


def _copy(app: psycopg.Connection[Any]) -> None:
    with app.cursor() as cursor, cursor.copy("COPY readings TO STDOUT") as copy:
        for _ in copy:
            pass


def _told(changes: Any, least: int) -> None:
    assert changes.counts.total >= least, changes.counts


def _seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _tell(what: str, ours: float, theirs: float, target: float) -> None:
    ratio = ours / theirs
    verdict = "" if ratio <= target else "   MISSED"
    print(f"  {what}: {ratio:.2f} (at most {target:g}){verdict}")


if __name__ == "__main__":
    main()
