"""What the query view does, against the engine doing the same by itself in the same run.

    first rows of a large SELECT      against the engine's own first 100 rows, opening included
    CSV of a million rows             against a bare loop over the same cursor with the csv module
    importing that CSV                against a bare executemany of what the csv module reads of it
    rehearsing an UPDATE of 100 of a million rows, and comparing     against running it
    completion on a schema of 500 tables, and stopping what never ends, in milliseconds

Each is the median of some runs in turn. Exits with 1 where a target is missed.
"""

from __future__ import annotations

import csv
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

import apsw

from jondel.core.browse.links import Link
from jondel.core.diff.compare import compare
from jondel.core.engines.needed import scripts_of, statements_of
from jondel.core.engines.registry import open_database
from jondel.core.engines.sqlite.dialect import DIALECT
from jondel.core.errors import Cancelled
from jondel.core.formats.row_writers import writer_to
from jondel.core.imports.destination import plan_for_table
from jondel.core.imports.plan import import_statements
from jondel.core.imports.preview import sample_of
from jondel.core.imports.rejects import Rejects
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.outcomes import CollectedRows, ResultColumn
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow
from jondel.core.query.completion import ways_at
from jondel.core.query.rehearsal import rehearsed
from jondel.core.query.scripts import script_of
from jondel.core.trail.trail import Trail

_RUNS = 5
_ROWS = int(os.environ.get("JONDEL_BENCH_ROWS", "1000000"))
_SELECT = "SELECT * FROM readings"
_UPDATE = "UPDATE readings SET height = height + 1 WHERE id % 10000 = 3"


class _Enough:
    """A sink that wants the first rows alone."""

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        pass

    def take(self, rows: Sequence[ShownRow]) -> bool:
        return False

    def end(self, complete: bool) -> None:
        pass


def _seconds(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _ratio(
    what: str, ours: Callable[[], object], theirs: Callable[[], object], most: float
) -> bool:
    times = [(_seconds(ours), _seconds(theirs)) for _ in range(_RUNS)]
    ratio = statistics.median(one for one, _ in times) / statistics.median(two for _, two in times)
    shown = " ".join(f"{one:.3f}/{two:.3f}" for one, two in times)
    print(f"{what}: {ratio:.2f} (at most {most}); {shown}")
    return ratio <= most


def _make(path: Path) -> None:
    with closing(apsw.Connection(str(path))) as connection:
        connection.execute("PRAGMA journal_mode=wal")
        connection.execute(
            "CREATE TABLE readings(id INTEGER PRIMARY KEY, station TEXT, height REAL, note TEXT)"
        )
        connection.execute(
            "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n WHERE x < ?) "
            "INSERT INTO readings "
            "SELECT x, 'station ' || x % 40, x / 7.0, 'read by hand ' || x FROM n",
            (_ROWS,),
        )


def _first_rows(path: Path) -> bool:
    def ours() -> None:
        with closing(open_database(path)) as database:
            statements_of(database).stream(Statement((_SELECT,)), _Enough())

    def theirs() -> None:
        with closing(apsw.Connection(str(path))) as connection:
            cursor = connection.execute(_SELECT)
            for _ in range(100):
                next(cursor)

    with closing(open_database(path)) as database:
        runner = statements_of(database)
        opened = apsw.Connection(str(path))

        def ours_open() -> None:
            runner.stream(Statement((_SELECT,)), _Enough())

        def theirs_open() -> None:
            cursor = opened.execute(_SELECT)
            for _ in range(100):
                next(cursor)
            cursor.close(True)

        print(f"  open already: {_seconds(ours_open):.4f} s against {_seconds(theirs_open):.4f} s")
        opened.close()
    return _ratio("first rows", ours, theirs, 1.5)


def _export(path: Path, folder: Path) -> bool:
    with closing(open_database(path)) as database:

        def ours() -> None:
            with (folder / "ours.csv").open("w", encoding="utf-8", newline="") as out:
                statements_of(database).stream(Statement((_SELECT,)), writer_to("csv", out))

        def theirs() -> None:
            with (
                closing(apsw.Connection(str(path))) as connection,
                (folder / "theirs.csv").open("w", encoding="utf-8", newline="") as out,
            ):
                writer = csv.writer(out, lineterminator="\n")
                writer.writerow(["id", "station", "height", "note"])
                for row in connection.execute(_SELECT):
                    writer.writerow(row)

        kept = _ratio("CSV", ours, theirs, 1.5)
    same = (folder / "ours.csv").read_bytes() == (folder / "theirs.csv").read_bytes()
    print("  both files are the same" if same else "  THE FILES DIFFER")
    return kept and same


def _import(folder: Path) -> bool:
    made = "CREATE TABLE ours(id INTEGER PRIMARY KEY, station TEXT, height REAL, note TEXT)"
    targets = []

    def emptied(name: str) -> Path:
        path = folder / f"{name}.db"
        path.unlink(missing_ok=True)
        with closing(apsw.Connection(str(path))) as connection:
            connection.execute(made)
        targets.append(path)
        return path

    def ours() -> None:
        with closing(open_database(emptied("into"))) as database:
            table = database.schema().by_id[TableId("ours")]
            plan = plan_for_table(sample_of(folder / "ours.csv"), table)
            statements = import_statements(plan, DIALECT, Rejects())
            outcome = scripts_of(database).run(statements, lambda number: None)
            assert outcome.outcomes[0].affected == _ROWS

    def theirs() -> None:
        with (
            closing(apsw.Connection(str(emptied("bare")))) as connection,
            (folder / "ours.csv").open(encoding="utf-8", newline="") as file,
        ):
            rows = csv.reader(file)
            next(rows)
            with connection:
                connection.executemany("INSERT INTO ours VALUES (?, ?, ?, ?)", rows)

    kept = _ratio("import", ours, theirs, 2)
    print(f"  most memory: {_most_memory('import', folder)} MB; of a tenth: "
          f"{_most_memory('import a tenth', folder)} MB")  # fmt: skip
    return kept


def _most_memory(what: str, folder: Path) -> int:
    """The most memory that a process takes which imports the file, or its first tenth."""
    source = folder / "ours.csv"
    if what != "import":
        tenth = folder / "tenth"
        tenth.mkdir(exist_ok=True)
        with source.open() as file, (tenth / "ours.csv").open("w") as out:
            out.writelines(line for _, line in zip(range(_ROWS // 10), file, strict=False))
        source = tenth / "ours.csv"
    program = (
        "import resource, sys; from jondel.cli.main import main\n"
        "try: main()\n"
        "finally: print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)"
    )
    target = folder / "memory.db"
    target.unlink(missing_ok=True)
    apsw.Connection(str(target)).close()
    words = ["import", str(target), str(source), "--new", "--write"]
    done = subprocess.run(
        [sys.executable, "-c", program, *words], capture_output=True, text=True, check=True
    )
    return int(done.stdout.split()[-1])


def _rehearsal(path: Path) -> bool:
    statements = script_of(_UPDATE, DIALECT).with_values({})
    with closing(open_database(path)) as database, closing(Trail(database.location)) as trail:
        trail.take(database)

        def ours() -> None:
            with rehearsed(trail, database, statements, lambda number: None) as rehearsal:
                changes = compare(rehearsal.before, rehearsal.after)
            assert changes.counts.total == _ROWS // 10_000

        def theirs() -> None:
            with closing(apsw.Connection(str(path))) as connection:
                connection.execute(_UPDATE)

        return _ratio("rehearsing", ours, theirs, 1.5)


def _completion() -> bool:
    kind = ColumnType("TEXT", "text")
    columns = tuple(Column(f"column_{n}", kind) for n in range(20))
    schema = Schema(tuple(Table(TableId(f"table_{n}"), "table", columns) for n in range(500)))
    links = [Link(TableId(f"table_{n}"), ("column_1",), TableId(f"table_{n + 1}"), ("column_0",))
             for n in range(499)]  # fmt: skip
    text = "SELECT a.column_1, b.c FROM table_1 a JOIN table_2 b ON a.column_1 = b.column_0 JOIN "
    times = [_seconds(lambda at=at: ways_at(text, at, schema, links, DIALECT)) * 1000
             for at in range(len(text) + 1)]  # fmt: skip
    worst = max(times[1:])
    print(f"completion on 500 tables: {statistics.median(times):.1f} ms, at worst {worst:.1f} (50)")
    return worst <= 50


def _stopping(path: Path) -> bool:
    endless = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT max(x) FROM n"
    times: list[float] = []
    for _ in range(_RUNS):
        with closing(open_database(path)) as database:
            asked: list[float] = []

            def stop() -> None:
                time.sleep(0.3)
                asked.append(time.perf_counter())  # noqa: B023 - of this round
                database.interrupt()

            thread = threading.Thread(target=stop)
            thread.start()
            try:
                statements_of(database).stream(Statement((endless,)), CollectedRows())
            except Cancelled:
                times.append((time.perf_counter() - asked[0]) * 1000)
            thread.join()
    print(f"stopping: {statistics.median(times):.1f} ms, at worst {max(times):.1f} (200)")
    return max(times) <= 200


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="jondel-bench-") as made:
        folder = Path(made)
        os.environ["JONDEL_HOME"] = str(folder / "home")
        path = folder / "readings.db"
        _make(path)
        kept = [
            _first_rows(path),
            _export(path, folder),
            _import(folder),
            _rehearsal(path),
            _completion(),
            _stopping(path),
        ]
    sys.exit(0 if all(kept) else 1)


if __name__ == "__main__":
    main()
