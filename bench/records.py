"""What looking at a large table costs, as ratios to baselines measured in the same run.

    .venv/bin/python bench/records.py [--rows N] [--runs N] [--pages N]

Whole processes in a terminal of 160×47 cells; times are from the start, or from a key, until the
frame that shows the result was written to the terminal.
"""

from __future__ import annotations

import argparse
import os
import sqlite3
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path
from statistics import median, quantiles

import apsw

from in_terminal import Terminal
from jondel.core.engines.registry import open_database
from jondel.core.model.filters import Arrangement, OrderKey

_PAGE_DOWN, _END, _HOME = b"\x1b[6~", b"\x1b[F", b"\x1b[H"
_ROWS_A_PAGE = 38


def main() -> None:
    parser = argparse.ArgumentParser(description="The sheet on a large table.")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--pages", type=int, default=150)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="jondel-bench-") as folder:
        environment = {**os.environ, "JONDEL_HOME": folder, "TERM": "xterm-256color"}
        for name in ("COLUMNS", "LINES", "PYTHONDONTWRITEBYTECODE"):
            environment.pop(name, None)
        large, small = Path(folder, "large.db"), Path(folder, "small.db")
        make(large, given.rows)
        make(small, 10)
        opening(large, small, environment, given.runs)
        paging(large, environment, given.rows, given.pages)
        sorting(large, given.runs)
        memory(large, small, environment)


def make(path: Path, rows: int) -> None:
    """A table of twelve columns whose row numbers have gaps, so that none is found by counting."""
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(
            "CREATE TABLE readings(id INTEGER PRIMARY KEY, name TEXT, berth INTEGER, status TEXT, "
            "height REAL, volts REAL, note TEXT, taken_at INTEGER, sent_at TEXT, a INTEGER, "
            "b INTEGER, code TEXT)"
        )
        connection.execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) "
            "INSERT INTO readings SELECT i * 3, printf('row-%07d', i), i % 60, "
            "CASE i % 3 WHEN 0 THEN 'paid' WHEN 1 THEN 'held' END, (i * 37 % 1000) / 7.0, i * 1.5, "
            "CASE WHEN i % 5 = 0 THEN 'some words' ELSE '' END, 1700000000 + i * 60, "
            "datetime(1700000000 + i * 60, 'unixepoch'), i * 104729 % 1000003, i % 97, "
            "printf('%08x', i * 7919 % 1000003) FROM n",
            (rows,),
        )
        connection.commit()


def opening(large: Path | str, small: Path | str, environment: dict[str, str], runs: int) -> None:
    seconds: dict[Path | str, list[float]] = {large: [], small: []}
    for run in range(runs + 1):
        for path, taken in seconds.items():
            with Terminal([sys.executable, "-m", "jondel", str(path)], environment) as terminal:
                found = terminal.seconds_until(b"row-0000007")
            if run:
                taken.append(found)
    ratio = median(seconds[large]) / median(seconds[small])
    print(f"opening, against the same with ten rows: {ratio:.2f} times (target at most 1.2)")


def paging(large: Path | str, environment: dict[str, str], rows: int, pages: int) -> None:
    with Terminal([sys.executable, "-m", "jondel", str(large)], environment) as terminal:
        terminal.seconds_until(b"row-0000007")
        terminal.settle()
        ends = []
        for _ in range(5):
            ends.append(terminal.press(_END, b"row-%07d" % rows))
            terminal.settle(0.1)
            terminal.press(_HOME, b"row-0000001")
            terminal.settle(0.1)
        taken = []
        for page in range(1, pages + 1):
            taken.append(terminal.press(_PAGE_DOWN, b"row-%07d" % ((page + 1) * _ROWS_A_PAGE)))
    worst = quantiles(taken, n=20)[-1] * 1000
    print(
        f"key to painted frame, {pages} pages: median {median(taken) * 1000:.0f} ms, "
        f"95th percentile {worst:.0f} ms (target at most 33)"
    )
    print(f"End: median {median(ends) * 1000:.0f} ms (target at most 100)")


def sorting(large: Path, runs: int) -> None:
    sql = "SELECT rowid FROM readings ORDER BY code"
    ours, plain = [], []
    with closing(open_database(large)) as database:
        table = database.schema().named("readings")
        assert table is not None
        with closing(apsw.Connection(str(large), flags=apsw.SQLITE_OPEN_READONLY)) as connection:
            for _ in range(max(3, runs // 2)):
                started = time.perf_counter()
                for _ in connection.execute(sql):
                    pass
                plain.append(time.perf_counter() - started)
                started = time.perf_counter()
                database.finder.arrange(table, Arrangement(None, (OrderKey("code"),)))
                ours.append(time.perf_counter() - started)
    print(
        f"unindexed sort, against SELECT rowid … ORDER BY: {median(ours) / median(plain):.2f} "
        "times (target at most 1.5)"
    )


def memory(large: Path | str, small: Path | str, environment: dict[str, str]) -> None:
    held = []
    for path in (small, large):
        with Terminal([sys.executable, "-m", "jondel", str(path)], environment) as terminal:
            terminal.seconds_until(b"row-0000007")
            terminal.settle(1.0)
            terminal.type(b"\x1b[1;5F")
            terminal.settle()
            terminal.type(b"o")
            terminal.seconds_until(b"sorted by")
            terminal.settle(3.0)
            terminal.type(_END)
            terminal.settle(2.0)
            held.append(terminal.resident_bytes())
    more = (held[1] - held[0]) / 1e6
    print(
        f"memory with the table open and sorted, beyond the same with ten rows: {more:.0f} MB "
        "(target at most 60 beyond the bare interface)"
    )


if __name__ == "__main__":
    main()
