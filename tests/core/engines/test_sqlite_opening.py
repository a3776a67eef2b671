"""Opening a SQLite file to look at it: what is refused, and that nothing is ever changed."""

from __future__ import annotations

import hashlib
import os
import sqlite3
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.engines.needed import commits_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import (
    DatabaseDamaged,
    JondelError,
    NotADatabase,
    PermissionMissing,
    TableUnreadable,
    TargetLocked,
    TargetNotFound,
)

_ROWS = (
    "CREATE TABLE berths(id INTEGER PRIMARY KEY, name TEXT)",
    "INSERT INTO berths(name) VALUES ('a'), ('b'), ('c')",
)


def _folder_state(folder: Path) -> dict[str, tuple[int, int, str]]:
    """Every file's size, modification time and content."""
    return {
        path.name: (
            path.stat().st_size,
            path.stat().st_mtime_ns,
            hashlib.sha256(path.read_bytes()).hexdigest(),
        )
        for path in folder.iterdir()
        if path.is_file()
    }


def _look_around(path: Path) -> int:
    """Do everything that looking does; returns how many rows there were."""
    database = open_database(path)
    with closing(database):
        commits_of(database).change_token()
        seen = 0
        for table in database.schema().tables:
            if not table.internal:
                extent = database.rows.measure(table)
                seen += len(database.rows.read_window(table, 0, 100, extent=extent).rows)
                for batch in database.scanner.stream_rows(table, table.column_names, ()):
                    assert batch
    return seen


def _as_somebody_else(folder: Path, look: Callable[[], object]) -> str:
    """What looking says to a user who owns nothing: its result, or the error's type and words.

    Runs in a forked process where we are root, whom no permission stops; else as ourselves.
    """
    for entered in (folder, *folder.parents):
        if entered.stat().st_uid == os.getuid() and entered not in (Path("/"), Path("/tmp")):
            entered.chmod(entered.stat().st_mode | 0o055)
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            if os.getuid() == 0:
                os.setgid(65534)
                os.setuid(65534)
            try:
                said = str(look())
            except JondelError as error:
                said = f"{type(error).__name__} {error}"
            os.write(writing, said.encode())
        finally:
            os._exit(0)
    os.close(writing)
    os.waitpid(child, 0)
    with os.fdopen(reading, "rb") as pipe:
        return pipe.read().decode()


def _count_berths(path: Path) -> tuple[int, tuple[str, ...]]:
    with closing(open_database(path)) as database:
        table = database.schema().named("berths")
        assert table is not None
        return database.rows.measure(table).rows, database.notices


@pytest.mark.parametrize(
    ("prepare", "error", "words"),
    [
        pytest.param(lambda p: None, TargetNotFound, "no such file", id="missing"),
        pytest.param(lambda p: p.mkdir(), NotADatabase, "a directory", id="directory"),
        pytest.param(
            lambda p: p.write_text("berth;boat\n" * 200), NotADatabase, "not a SQLite", id="text"
        ),
        pytest.param(
            lambda p: p.write_bytes(os.urandom(5000)), NotADatabase, "not a SQLite", id="noise"
        ),
        pytest.param(
            lambda p: p.symlink_to("nowhere.db"), TargetNotFound, "link", id="dangling-link"
        ),
        pytest.param(lambda p: os.mkfifo(p), NotADatabase, "not a regular file", id="pipe"),
    ],
)
def test_what_is_no_database_is_refused_in_one_line(
    tmp_path: Path, prepare: Callable[[Path], object], error: type[JondelError], words: str
) -> None:
    path = tmp_path / "target.db"
    prepare(path)
    with pytest.raises(error, match=words) as raised:
        open_database(path)
    assert str(path) in str(raised.value)
    assert "\n" not in str(raised.value)


def test_a_file_without_permission_is_refused(tmp_path: Path, make: MakeDatabase) -> None:
    path = make(*_ROWS)
    path.chmod(0)
    said = _as_somebody_else(tmp_path, lambda: _count_berths(path))
    assert said.startswith(PermissionMissing.__name__)
    assert str(path) in said


def test_an_empty_file_is_a_valid_new_database(tmp_path: Path) -> None:
    path = tmp_path / "new.db"
    path.touch()
    before = _folder_state(tmp_path)
    with closing(open_database(path)) as database:
        assert all(table.internal for table in database.schema().tables)
    assert _folder_state(tmp_path) == before


@pytest.mark.parametrize("name", ["with space.db", "⚓ hafen.db", "a?b=c#d%41.db", "'quoted\".db"])
def test_any_file_name_can_be_opened(make: MakeDatabase, name: str) -> None:
    assert _look_around(make(*_ROWS, name=name, journal="WAL")) == 3


def test_a_truncated_file_is_reported_as_damaged(make: MakeDatabase) -> None:
    path = make(
        *_ROWS,
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000) "
        "INSERT INTO berths(name) SELECT 'berth ' || i FROM n",
    )
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    with pytest.raises((DatabaseDamaged, TableUnreadable), match="damaged") as raised:
        _look_around(path)
    assert str(path) in str(raised.value)


def test_damage_in_one_table_leaves_the_others_readable(make: MakeDatabase) -> None:
    path = make(*_ROWS, "CREATE TABLE boats(id INTEGER PRIMARY KEY)", "INSERT INTO boats VALUES(7)")
    with closing(sqlite3.connect(path)) as connection:
        root, size = connection.execute(
            "SELECT rootpage, (SELECT page_size FROM pragma_page_size) "
            "FROM sqlite_schema WHERE name = 'berths'"
        ).fetchone()
    content = bytearray(path.read_bytes())
    content[(root - 1) * size : root * size] = b"\xee" * size
    path.write_bytes(content)
    with closing(open_database(path)) as database:
        berths, boats = (database.schema().named(name) for name in ("berths", "boats"))
        assert berths is not None
        assert boats is not None
        with pytest.raises(TableUnreadable, match="berths"):
            database.rows.measure(berths)
        assert database.rows.measure(boats).rows == 1


@pytest.mark.parametrize("journal", ["DELETE", "TRUNCATE", "PERSIST", "WAL"])
def test_looking_changes_nothing(make: MakeDatabase, tmp_path: Path, journal: str) -> None:
    path = make(*_ROWS, journal=journal)
    before = _folder_state(tmp_path)
    assert _look_around(path) == 3
    assert _folder_state(tmp_path) == before


def test_looking_at_what_a_crash_left_in_the_wal_keeps_it_there(
    make: MakeDatabase, tmp_path: Path, app: OpenApp
) -> None:
    path = make(*_ROWS, journal="WAL")
    writer = app(path)
    writer.run("INSERT INTO berths(name) VALUES ('only in the WAL')")
    writer.kill()
    wal = path.with_name(path.name + "-wal")
    before = (path.read_bytes(), wal.read_bytes())
    assert _look_around(path) == 4
    assert (path.read_bytes(), wal.read_bytes()) == before


def test_a_running_app_goes_on_undisturbed_while_it_is_looked_at(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_ROWS, journal="WAL")
    writer = app(path, timeout=0.0)
    writer.run("BEGIN IMMEDIATE")
    writer.run("INSERT INTO berths(name) VALUES ('unfinished')")
    assert _look_around(path) == 3
    writer.run("COMMIT")
    assert _look_around(path) == 4


@pytest.mark.parametrize("companion", ["none", "empty wal"])
def test_a_wal_database_in_a_read_only_folder_is_read(
    make: MakeDatabase, tmp_path: Path, companion: str
) -> None:
    folder = tmp_path / "readonly"
    folder.mkdir()
    path = Path(make(*_ROWS, journal="WAL").rename(folder / "app.db"))
    if companion == "empty wal":
        (folder / "app.db-wal").touch()
    path.chmod(0o444)
    folder.chmod(0o555)
    try:
        said = _as_somebody_else(tmp_path, lambda: _count_berths(path))
        assert said == "(3, ())"
        assert sorted(entry.name for entry in folder.iterdir()) == (
            ["app.db"] if companion == "none" else ["app.db", "app.db-wal"]
        )
    finally:
        folder.chmod(0o755)


def test_what_is_in_the_log_alone_is_read_in_a_read_only_folder_too(
    make: MakeDatabase, tmp_path: Path, app: OpenApp
) -> None:
    path = make(*_ROWS, journal="WAL")
    writer = app(path)
    writer.run("INSERT INTO berths(name) VALUES ('only in the WAL')")
    writer.kill()
    folder = tmp_path / "readonly"
    folder.mkdir()
    for name in ("app.db", "app.db-wal"):
        (tmp_path / name).rename(folder / name)
    folder.chmod(0o555)
    try:
        said = _as_somebody_else(tmp_path, lambda: _count_berths(folder / "app.db"))
        assert said == "(4, ())"
    finally:
        folder.chmod(0o755)


def test_a_database_held_locked_is_reported_with_who_holds_it(
    make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_ROWS)
    holder = app(path)
    holder.run("BEGIN EXCLUSIVE")
    with pytest.raises(TargetLocked) as raised:
        open_database(path)
    if sys.platform == "linux":
        assert f"pid {holder.pid}" in str(raised.value)
    holder.run("COMMIT")
    assert _look_around(path) == 3


def test_an_interrupted_transaction_is_read_past_and_left_for_the_app_to_roll_back(
    make: MakeDatabase, tmp_path: Path, app: OpenApp
) -> None:
    path = make(*_ROWS, "PRAGMA cache_size=1")
    writer = app(path)
    writer.run("PRAGMA cache_size=1")
    writer.run("PRAGMA cache_spill=1")
    writer.run("BEGIN")
    writer.run(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20000) "
        "INSERT INTO berths(name) SELECT 'half written ' || i FROM n"
    )
    writer.run("UPDATE berths SET name = 'half written' WHERE id = 1")
    writer.kill()
    journal = path.with_name(path.name + "-journal")
    assert journal.stat().st_size > 0
    before = (path.read_bytes(), journal.read_bytes())
    assert _look_around(path) == 3
    assert (path.read_bytes(), journal.read_bytes()) == before


def test_a_replaced_file_is_noticed_and_read(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    path = make(*_ROWS)
    database = opened(path)
    token = commits_of(database).change_token()
    make("CREATE TABLE boats(id INTEGER PRIMARY KEY)", name="other.db").rename(path)
    assert commits_of(database).change_token() != token
    assert [table.name for table in database.schema().tables] == ["boats", "sqlite_schema"]


def test_a_file_that_vanished_is_reported(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    path = make(*_ROWS)
    database = opened(path)
    path.unlink()
    with pytest.raises(TargetNotFound, match="gone"):
        commits_of(database).change_token()


@pytest.mark.parametrize("journal", ["DELETE", "WAL"])
def test_the_change_token_differs_after_each_commit_and_only_then(
    make: MakeDatabase, opened: Callable[[Path], Database], app: OpenApp, journal: str
) -> None:
    path = make(*_ROWS, journal=journal)
    database, writer = opened(path), app(path)
    seen = {commits_of(database).change_token()}
    for _ in range(20):
        assert commits_of(database).change_token() in seen
        writer.run("UPDATE berths SET name = name || '.'")
        token = commits_of(database).change_token()
        assert token not in seen
        seen.add(token)
    writer.run("BEGIN IMMEDIATE")
    writer.run("UPDATE berths SET name = 'no'")
    if journal == "WAL":
        assert commits_of(database).change_token() in seen
    writer.run("ROLLBACK")
    assert commits_of(database).change_token() in seen
