"""Large values: compared without being held, and told apart to their last byte."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.registry import open_database
from jondel.core.model.values import Clipped
from jondel.core.trail.trail import Trail

_SIZE = 6_000_000


@pytest.mark.parametrize("kind", ["BLOB", "TEXT"])
@pytest.mark.parametrize("by_pages", [True, False])
def test_a_large_value_differs_where_one_of_its_bytes_does(
    tmp_path: Path, kind: str, by_pages: bool
) -> None:
    path = tmp_path / "app.db"
    value = "x" * _SIZE
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, v, big)")
        for number in range(1, 5):
            connection.execute(f"INSERT INTO t VALUES (?, 1, CAST(? AS {kind}))", (number, value))
        connection.commit()
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        before = trail.take(database)
        with closing(sqlite3.connect(path)) as connection:
            run = connection.execute
            run("UPDATE t SET v = 2 WHERE id = 1")
            run(f"UPDATE t SET big = CAST(? AS {kind}) WHERE id = 2", (value[:-1] + "y",))
            run("UPDATE t SET big = 'small' WHERE id = 3")
            run("DELETE FROM t WHERE id = 4")
            connection.commit()
        with trail.both_sides(before, database) as sides:
            assert sides is not None
            (found,) = compare(*sides, Scope(by_pages=by_pages)).tables
            (short,) = compare(*sides, Scope(by_pages=by_pages, keep_value_bytes=100)).tables
    changed = {record.key[0]: record for record in found.records}
    assert [cell.column for cell in changed[1].cells] == ["v"]
    ((column, was, now, _),) = changed[2].cells
    assert column == "big"
    assert not isinstance(was, Clipped)
    assert (len(was), now[-1:]) == (_SIZE, "y" if kind == "TEXT" else b"y")  # type: ignore
    assert changed[3].cells[0].after == "small"
    assert changed[4].kind == "removed"
    assert len(changed[4].before[2]) == _SIZE  # type: ignore[index, arg-type]
    assert [r.kind for r in short.records] == [r.kind for r in found.records]
    assert all(isinstance(r.before[2], Clipped) for r in short.records if r.before)


def test_a_large_value_that_stayed_takes_no_memory(tmp_path: Path) -> None:
    path, size = tmp_path / "app.db", 150_000_000
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE t(id INTEGER PRIMARY KEY, v, big)")
        connection.execute("INSERT INTO t VALUES (1, 1, zeroblob(?))", (size,))
        connection.commit()
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        trail.take(database)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("UPDATE t SET v = 2")
        connection.commit()
    program = (
        "import resource, subprocess, sys\n"
        "subprocess.run([sys.executable, '-m', 'jondel', 'diff', sys.argv[1], 's1'], check=True)\n"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    told = subprocess.run(
        [sys.executable, "-c", program, path], capture_output=True, text=True, check=True
    ).stdout
    assert "v  1 → 2" in told
    unit = 1 if sys.platform == "darwin" else 1024
    assert int(told.split()[-1]) * unit < size
