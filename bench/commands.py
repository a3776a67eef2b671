"""What commands cost as whole processes on a small database, against importing the SQLite binding.

The runs of the commands and of the baseline take turns; each figure is a ratio of medians.
"""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path
from statistics import median

_RUNS = 15
_TARGET = 1.5
_LIBRARY = "argparse, dataclasses, enum, json, pathlib, re, typing"
"""What of the standard library every command needs; shown to tell what is left of a figure."""


def main() -> int:
    """Print a line for each command; exit with 1 where one misses the target."""
    with tempfile.TemporaryDirectory(prefix="jondel-bench-") as folder:
        path = Path(folder, "small.db")
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, v)")
            connection.execute("INSERT INTO t VALUES (1, 2)")
            connection.commit()
        environment = {**os.environ, "JONDEL_HOME": str(Path(folder, "home"))}
        environment.pop("PYTHONDONTWRITEBYTECODE", None)
        jondel = [sys.executable, "-m", "jondel"]
        commands = {
            "import apsw": [sys.executable, "-c", "import apsw"],
            "(library)": [sys.executable, "-c", f"import apsw, {_LIBRARY}"],
            "snapshot": [*jondel, "snapshot", str(path)],
            "diff": [*jondel, "diff", str(path), "s1"],
            "query": [*jondel, "query", str(path), "SELECT * FROM t"],
            "trail": [*jondel, "trail", str(path)],
        }
        taken: dict[str, list[float]] = {name: [] for name in commands}
        for run in range(-2, _RUNS):  # the first two fill caches
            for name, command in commands.items():
                started = time.perf_counter()
                subprocess.run(command, env=environment, capture_output=True, check=True)
                if run >= 0:
                    taken[name].append(time.perf_counter() - started)
    base = median(taken.pop("import apsw"))
    ratios = {name: median(times) / base for name, times in taken.items()}
    library = ratios.pop("(library)")
    print(f"the standard library's part alone takes {library:.2f} × import apsw")
    for name, ratio in ratios.items():
        print(f"{name:<10} {ratio:5.2f} × import apsw (target {_TARGET})")
    return int(max(ratios.values()) > _TARGET)


if __name__ == "__main__":
    sys.exit(main())
