"""How long until the first rows are on the screen, against a bare Textual app.

    .venv/bin/python bench/start_up.py [--runs N] [--rows N]

Both run as whole processes in a terminal of 160×47 cells, in turn; the time is from the start of
the process until the words that tell that it is ready have been written to the terminal. Prints
the ratio of the medians; target: at most 1.5.
"""

from __future__ import annotations

import argparse
import os
import sqlite3
import statistics
import sys
import tempfile
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from in_terminal import Terminal

_BARE = """
from textual.app import App
from textual.widgets import Static

class Bare(App):
    def compose(self):
        yield Static("all is ready")

Bare().run()
"""


def main() -> None:
    parser = argparse.ArgumentParser(description="Start-up against a bare Textual app.")
    parser.add_argument("--runs", type=int, default=9)
    parser.add_argument("--rows", type=int, default=1_000_000)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "big.db")
        make_database(path, given.rows)
        environment = {**os.environ, "JONDEL_HOME": folder, "TERM": "xterm-256color"}
        # What would hide the terminal's size, or have Python compile every module anew.
        for name in ("COLUMNS", "LINES", "PYTHONDONTWRITEBYTECODE"):
            environment.pop(name, None)
        commands = {
            "bare Textual app": ([sys.executable, "-c", _BARE], b"all is ready"),
            "jondel big.db": ([sys.executable, "-m", "jondel", str(path)], b"row-000007"),
        }
        seconds: dict[str, list[float]] = {name: [] for name in commands}
        for run in range(given.runs + 1):
            for name, (command, words) in commands.items():
                taken = seconds_until(command, words, environment)
                if run:  # the first of each warms the file cache
                    seconds[name].append(taken)
    medians = {name: statistics.median(taken) for name, taken in seconds.items()}
    for name, taken in seconds.items():
        print(
            f"{name:<18} median {medians[name]:.3f} s  (from {min(taken):.3f} to {max(taken):.3f})"
        )
    bare, jondel = medians.values()
    print(f"ratio {jondel / bare:.2f} with {given.rows:,} rows, {given.runs} runs; target 1.5")


def make_database(path: Path, rows: int) -> None:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE readings(id INTEGER PRIMARY KEY, name TEXT, a, b, c, d)")
        connection.execute(
            "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) "
            "INSERT INTO readings SELECT i, printf('row-%06d', i), i % 7, i * 0.5, "
            "'some words of text', NULL FROM n",
            (rows,),
        )
        connection.commit()


def seconds_until(command: Sequence[str], words: bytes, environment: dict[str, str]) -> float:
    """Run a command in a terminal until it has written the words; returns how long that took."""
    with Terminal(command, environment) as terminal:
        return terminal.seconds_until(words)


if __name__ == "__main__":
    main()
