"""What verifying costs: findings beside a bare scan, and tests that record beside plain ones.

    findings in a million rows        what they take beyond reading the rows, in seconds a million
    findings in a step                beside the step's own comparison, in milliseconds
    a test with the fixture           beyond the same test without it, in milliseconds
    restoring after a test            beyond the writing itself, in milliseconds

Each is the median of some runs in turn. Exits with 1 where a target is missed.
"""

from __future__ import annotations

import os
import random
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path

from jondel.core.engines.registry import open_database
from jondel.core.findings.looking import findings_of_recorded_step
from jondel.core.findings.scanning import key_of, whole_profile
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail
from jondel.testing.recorded import DatabasesOfRun

_ROWS = int(os.environ.get("JONDEL_BENCH_ROWS", "1000000"))
_RUNS = 5
_TESTS = 60


def _make(path: Path, rows: int) -> None:
    chance, began = random.Random(1), datetime(2020, 1, 1)  # noqa: DTZ001 (as apps write it)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute(
            "CREATE TABLE readings(id INTEGER PRIMARY KEY, gauge TEXT, at TEXT, height INTEGER, "
            "surge REAL, quality TEXT, code TEXT)"
        )
        connection.executemany(
            "INSERT INTO readings VALUES (?, ?, ?, ?, ?, ?, ?)",
            (
                (
                    number,
                    ("breakwater", "sluice")[number % 2],
                    str(began + timedelta(minutes=number)),
                    chance.randrange(500),
                    chance.random() if number % 50 else None,
                    "raw",
                    f"{chance.getrandbits(64):016x}",
                )
                for number in range(rows)
            ),
        )
        connection.commit()


def _seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _show(what: str, found: float, most: float, unit: str) -> bool:
    missed = found > most
    print(f"{what:<44} {found:8.2f} {unit:<12} at most {most:g}{'   MISSED' if missed else ''}")
    return missed


def _findings(folder: Path) -> bool:
    path = folder / "large.db"
    _make(path, _ROWS)
    beyond = []
    with closing(open_database(str(path))) as database:
        table = next(t for t in database.schema().tables if t.name == "readings")
        key = key_of(database, table)
        columns = [*key.columns_in(table), *table.column_names]

        def scan() -> int:
            rows = database.scanner.stream_rows(table, columns, key.columns_in(table))
            return sum(map(len, rows))

        for _ in range(_RUNS):
            bare = _seconds(scan)
            profiled = _seconds(lambda: whole_profile(database, table, key))
            beyond.append((profiled - bare, profiled / bare))
    seconds = statistics.median(entry[0] for entry in beyond) * 1_000_000 / _ROWS
    ratio = statistics.median(entry[1] for entry in beyond)
    print(f"{'findings against a bare scan':<44} {ratio:8.2f} times")
    return _show("findings in a million rows, beyond the scan", seconds, 1.0, "s")


def _step(folder: Path) -> None:
    path = folder / "large.db"
    with closing(open_database(str(path))) as database, closing(Trail(str(path))) as trail:
        before = trail.take(database)
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("UPDATE readings SET height = 7 WHERE id % 10000 = 3")
            connection.commit()
        after = trail.take(database)
        project = Project(str(path))
        took = [
            _seconds(lambda: list(findings_of_recorded_step(trail, before, after, project)))
            for _ in range(_RUNS)
        ]
    print(f"{'findings in a step of 100 records':<44} {statistics.median(took) * 1000:8.0f} ms")


_PLAIN = """
import sqlite3, pytest
@pytest.mark.parametrize("n", range({tests}))
def test_it({fixture}n):
    {opened}
    {block}
        connection = sqlite3.connect("app.db")
        connection.execute("INSERT INTO readings(gauge) VALUES ('x')"); connection.commit()
        connection.close()
    {after}
"""


def _tests(folder: Path) -> bool:
    suite = folder / "suite"
    suite.mkdir()
    _make(suite / "app.db", 5000)
    (suite / "test_plain.py").write_text(
        _PLAIN.format(tests=_TESTS, fixture="", opened="pass", block="if True:", after="pass")
    )
    (suite / "test_recorded.py").write_text(
        _PLAIN.format(
            tests=_TESTS,
            fixture="jondel_database, ",
            opened="database = jondel_database('app.db')",
            block="with database.record() as step:",
            after="assert step.counts == {'readings': '+1'}",
        )
    )

    def run(name: str) -> float:
        program = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", name]
        return _seconds(lambda: subprocess.run(program, cwd=suite, check=True, capture_output=True))

    for name in ("plain", "recorded"):
        whole = (suite / f"test_{name}.py").read_text()
        (suite / f"test_{name}_once.py").write_text(whole.replace(f"range({_TESTS})", "range(1)"))

    def each(name: str) -> float:
        # What a run as a whole begins with is no test's.
        return (run(f"test_{name}.py") - run(f"test_{name}_once.py")) / (_TESTS - 1)

    taken = [(each("recorded") - each("plain")) * 1000 for _ in range(_RUNS)]
    return _show(
        "a test with the fixture, beyond one without", statistics.median(taken), 10.0, "ms"
    )


def _restoring(folder: Path) -> bool:
    path = folder / "restored.db"
    _make(path, 5000)
    databases = DatabasesOfRun(folder / "run", accept=False)
    database = databases.opened(str(path))
    first = database.snapshot()
    beyond, unchanged = [], []
    with closing(sqlite3.connect(path)) as connection:
        for number in range(_RUNS * 6):

            def write(number: int = number) -> None:
                connection.execute("UPDATE readings SET height = ? WHERE id = 9", (1000 + number,))
                connection.commit()

            wrote = _seconds(write)
            took = _seconds(lambda: database.restore(first))
            beyond.append((took - wrote) * 1000)
            unchanged.append(_seconds(lambda: database.restore(first)) * 1000)
    databases.close()
    print(f"{'restoring where nothing was written':<44} {statistics.median(unchanged):8.2f} ms")
    return _show("restoring after a test, beyond the writing", statistics.median(beyond), 2.0, "ms")


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["JONDEL_HOME"] = str(folder / "home")
        missed = [_findings(folder)]
        _step(folder)
        missed += [_tests(folder), _restoring(folder)]
    return int(any(missed))


if __name__ == "__main__":
    sys.exit(main())
