"""A database that is renamed, copied or linked, and the trail it has."""

from __future__ import annotations

import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase
from jondel.core.engines.needed import statements_of
from jondel.core.engines.registry import open_database
from jondel.core.errors import SnapshotNotFound, SnapshotProtected
from jondel.core.snapshots.store import Store
from jondel.core.trail.trail import Trail

_MANY = (
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 500) "
    "INSERT INTO t SELECT i, randomblob(300) FROM n"
)


@pytest.fixture
def path(make: MakeDatabase) -> Path:
    path = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", _MANY)
    with closing(open_database(path)) as database, closing(Trail(str(path))) as trail:
        trail.take(database, "start")
    return path


def _labels(path: Path) -> list[str | None]:
    with closing(Trail(str(path))) as trail:
        return [snapshot.label for snapshot in trail.snapshots()]


def _offered(path: Path) -> str | None:
    with closing(Trail(str(path))) as trail:
        return trail.maybe_moved_from


def test_a_renamed_database_finds_its_trail_and_its_snapshots(path: Path, tmp_path: Path) -> None:
    (tmp_path / "elsewhere").mkdir()
    moved = Path(shutil.move(path, tmp_path / "elsewhere" / "b.db"))
    assert _labels(moved) == ["start"]
    with closing(Trail(str(moved))) as trail, closing(trail.open(trail.find("start"))) as image:
        assert statements_of(image).execute("SELECT count(*) FROM t").rows == ((500,),)
    assert list(Store().damage()) == []


def test_a_new_database_at_the_old_place_begins_a_trail_of_its_own(
    path: Path, make: MakeDatabase, tmp_path: Path
) -> None:
    moved = path.rename(tmp_path / "b.db")
    assert _labels(moved) == ["start"]
    again = make("CREATE TABLE u(x)")
    assert again == path
    assert _labels(again) == []
    with closing(open_database(again)) as database, closing(Trail(str(again))) as trail:
        trail.take(database, "of its own")
        trail.forget()
    assert _labels(moved) == ["start"]
    assert list(Store().damage()) == []


def test_a_copy_has_no_trail_while_the_original_is_there(path: Path, tmp_path: Path) -> None:
    copy = Path(shutil.copy(path, tmp_path / "copy.db"))
    assert (_labels(copy), _offered(copy)) == ([], None)


def test_a_copy_of_what_is_gone_is_asked_about(path: Path, tmp_path: Path) -> None:
    copy = Path(shutil.copy(path, tmp_path / "copy.db"))
    path.unlink()
    assert (_labels(copy), _offered(copy)) == ([], str(path))
    with closing(Trail(str(copy))) as trail:
        trail.take_over(str(path))
    assert _labels(copy) == ["start"]
    with closing(Trail(str(copy))) as trail, pytest.raises(SnapshotProtected):
        trail.take_over(str(path))


def test_another_database_is_not_taken_for_one_that_is_gone(path: Path, make: MakeDatabase) -> None:
    """Its inode may well be the one that was used before."""
    path.unlink()
    other = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", _MANY, name="other.db")
    assert (_labels(other), _offered(other)) == ([], None)
    with closing(Trail(str(other))) as trail, pytest.raises(SnapshotNotFound):
        trail.take_over("/nowhere/app.db")


def test_links_to_one_file_have_one_trail(path: Path, tmp_path: Path) -> None:
    hard, soft = tmp_path / "hard.db", tmp_path / "soft.db"
    os.link(path, hard)
    soft.symlink_to(path)
    with closing(open_database(hard)) as database, closing(Trail(database.location)) as trail:
        trail.take(database, "by the hard link")
    for name in (path, hard, soft.resolve()):
        assert _labels(name) == ["start", "by the hard link"]


def test_a_catalogue_of_the_format_before_is_read(path: Path, home: Path) -> None:
    catalogue = home / "store" / "catalogue.db"
    with closing(sqlite3.connect(catalogue)) as connection:
        for column in ("shelf", "device", "inode"):
            connection.execute(f"ALTER TABLE database DROP COLUMN {column}")
        connection.execute("PRAGMA user_version=2")
    assert _labels(path) == ["start"]
    with closing(Trail(str(path))) as trail, closing(trail.open(trail.find("start"))) as image:
        assert statements_of(image).execute("SELECT count(*) FROM t").rows == ((500,),)
