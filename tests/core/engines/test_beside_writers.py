"""Looking beside an app that writes without a pause: no lock, no refusal, no torn state."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

import busy_app
import outside
from conftest import JondelCommand, MakeDatabase, OpenApp
from jondel.core.engines.needed import commits_of, statements_of, writer_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database, open_pages
from jondel.core.engines.sqlite import committed_state, file_times
from jondel.core.errors import Cancelled, TargetBusy, TargetLocked
from jondel.core.model.addresses import TableId
from jondel.core.snapshots.shelf import Shelf

_SECONDS = float(os.environ.get("JONDEL_BUSY_SECONDS", "1.5"))
_STANDSTILL_SECONDS = 60.0
_MODES = ["WAL", "DELETE", "TRUNCATE", "PERSIST"]
Opened = Callable[[Path], Database]


@contextmanager
def _busy(path: Path, journal: str, locking: str = "NORMAL", pause: str = "0") -> Iterator[None]:
    """Have the app write while the block runs; nothing it wants may be refused."""
    running = subprocess.Popen(
        [sys.executable, busy_app.__file__, str(path), journal, locking, pause],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert running.stdout is not None
    assert running.stdin is not None
    try:
        assert running.stdout.readline() == "ready\n"
        yield
        running.stdin.close()
        done, refused = running.stdout.readline().split(maxsplit=1)
        assert refused.strip() == "0 []"
        assert int(done) > 2
    finally:
        running.kill()
        running.wait()
        running.stdin.close()
        running.stdout.close()


def _check(found: tuple[object, ...]) -> int:
    a, b, total, below_zero = found
    assert (b, total, below_zero) == (a, a, 0), "parts of several transactions"
    assert isinstance(a, int)
    return a


def _read_states(wanted: int, database: Database, folder: Path) -> None:
    """Read in several ways, for ``_SECONDS`` and then on until so many states have been read.

    How many a second there are is a matter of the machine, so only a stand-still fails.
    """
    seen, last, number, started = set(), 0, 0, time.monotonic()
    with closing(Shelf(folder / "shelf")) as shelf:
        while len(seen) < wanted or time.monotonic() - started < _SECONDS:
            assert time.monotonic() - started < _SECONDS + _STANDSTILL_SECONDS, seen
            number += 1
            try:
                if number % 4 == 0:
                    with (
                        shelf.passing(database) as state,
                        closing(open_pages(state.image, location="it")) as image,
                    ):
                        assert statements_of(image).execute("PRAGMA integrity_check").rows == (
                            ("ok",),
                        )
                        found = _check(statements_of(image).execute(busy_app.INVARIANT).rows[0])
                elif number % 4 == 1:
                    table = database.schema().named("a")
                    assert table is not None
                    window = database.rows.read_window(table, 0, busy_app.ROWS)
                    assert [row[0] for row in window.rows] == list(range(busy_app.ROWS))
                    found = sum(row[1] for row in window.rows)  # type: ignore[misc]
                else:
                    found = _check(statements_of(database).execute(busy_app.INVARIANT).rows[0])
            except TargetBusy:
                continue
            assert found >= last, "an older state after a newer one"
            last = found
            seen.add(found)


@pytest.mark.parametrize("locking", ["NORMAL", "EXCLUSIVE"])
@pytest.mark.parametrize("journal", _MODES)
def test_only_committed_states_are_read_and_the_app_is_refused_nothing(
    opened: Opened, tmp_path: Path, journal: str, locking: str
) -> None:
    path = busy_app.make(tmp_path / "app.db")
    database = opened(path)
    with _busy(path, journal, locking):
        _read_states(4, database, tmp_path)
    assert sorted(p.name for p in tmp_path.glob("app.db*")) in (
        ["app.db"],
        ["app.db", "app.db-journal"],
    ), "the app's last close leaves what it leaves without us"


@pytest.mark.parametrize("journal", ["DELETE", "PERSIST"])
def test_where_the_times_of_files_are_coarse_nothing_torn_is_read_either(
    opened: Opened, tmp_path: Path, journal: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    class _Never(set[int]):
        def add(self, device: int) -> None: ...

    monkeypatch.setattr(file_times, "_fine_devices", _Never())
    path = busy_app.make(tmp_path / "app.db")
    with _busy(path, journal, pause="0.004"):
        _read_states(2, opened(path), tmp_path)


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
def test_commands_beside_a_busy_app_succeed_or_say_that_it_is_busy(
    jondel: JondelCommand, tmp_path: Path, journal: str
) -> None:
    path = busy_app.make(tmp_path / "app.db")
    assert jondel("snapshot", path, "--label", "start").returncode == 0
    with _busy(path, journal, pause="0.001"):
        for words in (
            ("snapshot", path),
            ("diff", path, "start", "now", "--json"),
            ("query", path, busy_app.INVARIANT, "--json"),
            ("compare", path, path),
            ("history", path, "total", "1"),
            ("record", path, "--", "true"),
        ):
            told = jondel(*words)
            assert told.returncode == 0 or "without a pause" in told.stderr, told.stderr


@pytest.mark.parametrize("journal", ["WAL", "DELETE"])
def test_an_exclusive_app_can_start_and_go_beside_an_open_database(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path, journal: str
) -> None:
    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)", journal=journal)
    database = opened(path)
    assert statements_of(database).execute("SELECT v FROM t").rows == ((1,),)
    for number in range(3):
        holder = app(path, timeout=0.0)
        holder.run("PRAGMA locking_mode=EXCLUSIVE")
        holder.run("UPDATE t SET v = v + 1")
        assert statements_of(database).execute("SELECT v FROM t").rows == ((number + 2,),)
        holder.close()
        assert [p.name for p in tmp_path.glob("app.db*")] == ["app.db"]


def test_an_app_changes_its_journal_mode_and_migrates_beside_an_open_database(
    make: MakeDatabase, opened: Opened, app: OpenApp
) -> None:
    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)", journal="WAL")
    database, writer = opened(path), app(path, timeout=0.0)
    for mode in ("DELETE", "WAL", "TRUNCATE", "WAL"):
        assert writer.run(f"PRAGMA journal_mode={mode}") == [[mode.lower()]]
        writer.run("UPDATE t SET v = v + 1")
        assert statements_of(database).execute("SELECT v FROM t").rows == tuple(
            map(tuple, writer.run("SELECT v FROM t"))
        )
        expected = "wal" if mode == "WAL" else "delete"
        assert statements_of(database).execute("PRAGMA journal_mode").rows == ((expected,),)
    for statement in ("VACUUM", "ALTER TABLE t ADD COLUMN w", "DROP TABLE t", "CREATE TABLE u(x)"):
        writer.run(statement)
        tables = [t.name for t in database.schema().tables if not t.internal]
        assert tables == (["u"] if statement.startswith("CREATE") else ["t"] if "DROP" not in
                          statement else [])  # fmt: skip


def test_a_transaction_with_its_journal_in_memory_is_waited_for_and_named(
    make: MakeDatabase, opened: Opened, app: OpenApp
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY, v)",
        "WITH n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000) "
        "INSERT INTO t SELECT i, 'a' FROM n",
    )
    writer = app(path)
    for statement in ("PRAGMA journal_mode=MEMORY", "PRAGMA cache_size=3", "BEGIN"):
        writer.run(statement)
    writer.run("UPDATE t SET v = 'half'")  # goes to the file before it is committed
    with pytest.raises(TargetLocked, match=f"pid {writer.pid}"):
        opened(path)
    writer.run("COMMIT")
    assert statements_of(opened(path)).execute("SELECT DISTINCT v FROM t").rows == (("half",),)


def test_a_reader_of_its_own_lock_is_taken_only_when_it_is_allowed(
    make: MakeDatabase, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from jondel.core.engines.sqlite import state_wait

    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)")
    monkeypatch.setattr(state_wait, "PATIENCE_SECONDS", 0.05)
    found = committed_state.LiveFiles.find

    def never_without_a_lock(files: committed_state.LiveFiles) -> object:
        held = path.with_name("held").exists()
        return found(files) if held else committed_state.NotYet(0.001)

    monkeypatch.setattr(committed_state.LiveFiles, "find", never_without_a_lock)
    with pytest.raises(TargetBusy, match="without a pause"):
        open_database(path)
    from jondel.core.engines.sqlite import capture

    real = capture.reading_lock

    @contextmanager
    def noted(target: Path) -> Iterator[None]:
        with real(target):
            path.with_name("held").touch()
            refused = subprocess.run(
                [sys.executable, "-c",
                 "import sqlite3, sys; c = sqlite3.connect(sys.argv[1], timeout=0)\n"
                 "c.execute('INSERT INTO t VALUES (2)'); c.commit()", str(path)],
                capture_output=True, text=True, check=False,
            )  # fmt: skip
            assert "locked" in refused.stderr, "the lock is a real one"
            yield
            path.with_name("held").unlink()

    monkeypatch.setattr(capture, "reading_lock", noted)
    with closing(open_database(path, lock=True)) as database:
        assert statements_of(database).execute("SELECT v FROM t").rows == ((1,),)
    assert outside.rows(path, "SELECT v FROM t") == [[1]]


def test_a_hard_link_is_read_with_the_log_of_the_name_that_the_app_opened(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path
) -> None:
    path = make("CREATE TABLE t(v)", journal="WAL")
    writer = app(path)
    writer.run("INSERT INTO t VALUES ('in the log')")
    for folder in (tmp_path, tmp_path / "elsewhere"):
        folder.mkdir(exist_ok=True)
        other = folder / "other.db"
        os.link(path, other)
        database = opened(other)
        assert statements_of(database).execute("SELECT v FROM t").rows == (("in the log",),)
        assert any("app.db" in notice for notice in database.notices)


def test_a_file_copied_over_another_of_the_same_schema_version_is_read_anew(
    make: MakeDatabase, opened: Opened
) -> None:
    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)")
    other = make("CREATE TABLE u(w)", "INSERT INTO u VALUES (2)", name="other.db")
    database = opened(path)
    assert statements_of(database).execute("SELECT * FROM t").rows == ((1,),)
    path.write_bytes(other.read_bytes())
    assert [t.name for t in database.schema().tables if not t.internal] == ["u"]
    assert statements_of(database).execute("SELECT * FROM u").rows == ((2,),)


@pytest.mark.parametrize("journal", ["WAL", "DELETE", "PERSIST", "TRUNCATE"])
def test_writing_leaves_the_companions_as_they_were(
    make: MakeDatabase, opened: Opened, app: OpenApp, tmp_path: Path, journal: str
) -> None:
    from jondel.core.model.writes import RowWrite, WritePlan

    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", journal=journal)
    database = opened(path)

    def insert(number: int) -> set[str]:
        write = RowWrite("insert", TableId("t"), (), (("id", number),), str(number))
        writer_of(database).apply(
            WritePlan((write,), (), triggers=False), commits_of(database).mark()
        )
        return {p.name for p in tmp_path.glob("app.db*")}

    before = {p.name for p in tmp_path.glob("app.db*")}
    assert insert(1) == before
    writer = app(path)
    writer.run(f"PRAGMA journal_mode={journal}")
    writer.run("INSERT INTO t VALUES (2, 'app')")
    attended = {p.name for p in tmp_path.glob("app.db*")}
    assert insert(3) == attended
    writer.run("INSERT INTO t VALUES (4, 'app')")
    writer.kill()
    left = {p.name for p in tmp_path.glob("app.db*")}
    assert insert(5) == left
    assert outside.rows(path, "SELECT id FROM t") == [[1], [2], [3], [4], [5]]


def test_work_that_was_stopped_does_not_stop_what_comes_later(
    make: MakeDatabase, opened: Opened, monkeypatch: pytest.MonkeyPatch
) -> None:
    from jondel.core.engines.sqlite.committed_state import LiveFiles, NotYet

    database = opened(make("CREATE TABLE t(v)", "INSERT INTO t VALUES (1)"))
    database.interrupt()
    database.resume()
    found, tries = LiveFiles.find, iter([NotYet(0.001), NotYet(0.001)])
    monkeypatch.setattr(LiveFiles, "find", lambda files: next(tries, None) or found(files))
    assert statements_of(database).execute("SELECT v FROM t").rows == ((1,),)


def test_waiting_for_a_state_is_stopped_at_once(
    make: MakeDatabase, opened: Opened, monkeypatch: pytest.MonkeyPatch
) -> None:
    import threading

    from jondel.core.engines.sqlite.committed_state import LiveFiles, NotYet

    database = opened(make("CREATE TABLE t(v)"))
    monkeypatch.setattr(LiveFiles, "find", lambda files: NotYet(0.01))
    started = time.monotonic()
    threading.Timer(0.2, database.interrupt).start()
    with pytest.raises(Cancelled):
        statements_of(database).execute("SELECT v FROM t")
    assert time.monotonic() - started < 1.5


def test_a_schema_that_was_read_of_no_one_state_is_not_kept(
    make: MakeDatabase, opened: Opened, app: OpenApp, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The number of the schema may be the right one beside a page of the state before."""
    from jondel.core.engines.sqlite.committed_state import CommittedState

    path = make("CREATE TABLE t(v)", "INSERT INTO t VALUES ('kept')", "CREATE TABLE gone(x)")
    database, writer = opened(path), app(path)
    assert statements_of(database).execute("SELECT v FROM t").rows == (("kept",),)
    before = path.read_bytes()
    writer.run("DROP TABLE gone")
    writer.run("CREATE TABLE other(x)")
    writer.run("CREATE INDEX by_v ON t(v)")
    version = path.read_bytes()[40:44]
    read, held = CommittedState.read, CommittedState.held
    torn = [True]

    def half_of_each(state: CommittedState, index: int) -> bytes:
        page = read(state, index)
        if torn[0] and not index:
            old = before[: len(page)]
            return page[:100].replace(page[40:44], version) + old[100:]
        return page

    def held_never_when_torn(state: CommittedState) -> bool:
        was_torn, torn[0] = torn[0], False
        return not was_torn and held(state)

    monkeypatch.setattr(CommittedState, "read", half_of_each)
    monkeypatch.setattr(CommittedState, "held", held_never_when_torn)
    names = [t.name for t in database.schema().tables if not t.internal]
    assert names == ["other", "t"]
    assert statements_of(database).execute("SELECT v FROM t WHERE v = 'kept'").rows == (("kept",),)


def test_a_file_that_grew_while_its_state_was_found_is_not_taken_for_damaged(
    opened: Opened, make: MakeDatabase, app: OpenApp, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between a look at the file and one at its journal the app commits, and begins anew."""
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'first')")
    writer = app(path)
    writer.run("PRAGMA journal_mode=TRUNCATE")
    writer.run("PRAGMA synchronous=FULL")  # a journal has no magic number until it is synced
    journal, moved = committed_state.LiveFiles._current_journal, False

    def after_the_app_moved_on(files: committed_state.LiveFiles) -> object:
        nonlocal moved
        if not moved:
            moved = True
            writer.run("INSERT INTO t SELECT id + 1, zeroblob(90000) FROM t")
            writer.run("BEGIN")
            writer.run("UPDATE t SET v = 'second' WHERE id = 1")
        return journal(files)

    monkeypatch.setattr(committed_state.LiveFiles, "_current_journal", after_the_app_moved_on)
    database = opened(path)
    assert statements_of(database).execute("SELECT count(*), min(v) FROM t").rows == ((2, "first"),)
    assert statements_of(database).execute("PRAGMA integrity_check").rows == (("ok",),)
