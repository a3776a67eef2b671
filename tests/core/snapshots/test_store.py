"""The store as a whole: its budget, moving and emptying it, and what older versions wrote."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import SnapshotProtected, StoreUnavailable
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts
from jondel.core.snapshots.settings import change_store_settings, parse_size, store_settings
from jondel.core.snapshots.store import Store
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]
_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, zeroblob(400000))")


def _grow(trail: Trail, database: Database, writer: object, labels: list[str | None]) -> None:
    for label in labels:
        writer.run("UPDATE t SET v = randomblob(400000)")  # type: ignore[attr-defined]
        trail.take(database, label)


def test_the_oldest_unprotected_snapshots_go_to_keep_within_the_budget(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    _grow(trail, database, app(path), ["start", None, None, None, "fuel", None, None])
    trail.pin(trail.find("s3"))
    change_store_settings(budget="2.2MB")
    gone, still_over = trail_of(database).keep_within_budget()
    assert not still_over
    assert [snapshot.id for snapshot in gone] == ["s2", "s4"]
    left = trail.snapshots()
    assert [snapshot.id for snapshot in left] == ["s1", "s3", "s5", "s6", "s7"]
    assert Store().size() < 2_200_000
    for snapshot in left:
        with closing(trail.open(snapshot)) as image:
            assert statements_of(image).execute("SELECT length(v) FROM t").rows == ((400000,),)


def test_a_budget_that_labels_exceed_removes_nothing_with_a_label(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    _grow(trail, database, app(path), ["a", None, "b", "c", None, None])
    change_store_settings(budget="1KB")
    assert trail_of(database).keep_within_budget()[1], "a person must decide now"
    assert [s.label or s.id for s in trail.snapshots()] == ["a", "b", "c", "s5", "s6"]


def test_a_snapshot_with_a_label_or_a_pin_is_deleted_only_when_that_is_asked_for(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    labelled, pinned = trail.take(database, "start"), trail.take(database)
    trail.pin(pinned)
    for name, reason in (("start", "label 'start'"), (pinned.id, "pinned")):
        with pytest.raises(SnapshotProtected, match=reason):
            trail.delete([trail.find(name)])
    assert len(trail.snapshots()) == 2
    trail.delete([labelled], protected_too=True)
    assert [s.id for s in trail.snapshots()] == [pinned.id]


def test_the_store_can_be_moved_and_goes_on_there(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, tmp_path: Path
) -> None:
    database = opened(make(*_T))
    trail_of(database).take(database, "start")
    old, new = Store().folder, tmp_path / "elsewhere" / "store"
    with pytest.raises(StoreUnavailable, match="into itself"):
        Store().move(old / "below")
    Store().move(new)
    assert not old.exists()
    assert Store().folder == new
    trail = trail_of(database)
    trail.take(database, "later")
    with closing(trail.open(trail.find("start"))) as image:
        assert statements_of(image).execute("SELECT count(*) FROM t").rows == ((1,),)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "file").touch()
    with pytest.raises(StoreUnavailable, match="not empty"):
        Store().move(tmp_path / "full")


def test_one_databases_snapshots_or_all_can_be_thrown_away(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    one, other = opened(make(*_T, name="one.db")), opened(make(*_T, name="other.db"))
    for database in (one, other):
        trail_of(database).take(database, "start")
    assert [usage.snapshots for usage in Store().usage()] == [1, 1]
    Store().empty(one.location)
    assert [usage.location for usage in Store().usage()] == [other.location]
    Store().empty()
    assert Store().usage() == []
    assert Store().size() == 0
    assert trail_of(one).take(one, "start").label == "start"


def test_damage_is_told_by_snapshot(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp, home: Path
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    _grow(trail, database, app(path), ["a", "b"])
    assert list(Store().damage()) == []
    (pack,) = home.rglob("*.pages")
    content = bytearray(pack.read_bytes())
    content[-10] ^= 1
    pack.write_bytes(content)
    ((location, snapshot, problem),) = Store().damage()
    assert (location, snapshot.label) == (database.location, "b")
    assert "damaged" in problem


def test_settings_keep_what_else_is_in_their_file(home: Path) -> None:
    home.mkdir()
    (home / "settings.toml").write_text('# mine\n[other]\nkey = "value"\n')
    change_store_settings(budget="3GB")
    text = (home / "settings.toml").read_text()
    assert "# mine" in text
    assert 'key = "value"' in text
    assert store_settings().budget_bytes == 3_000_000_000
    (home / "settings.toml").write_text("not toml")
    with pytest.raises(StoreUnavailable, match=r"settings\.toml"):
        store_settings()


@pytest.mark.parametrize(
    ("text", "size"), [("5", 5), ("10KB", 10_000), ("2.5 GB", 2_500_000_000), ("1tb", 10**12)]
)
def test_a_size_is_read_with_its_unit(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize("text", ["", "much", "5 parsecs", "-3MB"])
def test_what_is_no_size_is_refused(text: str) -> None:
    with pytest.raises(StoreUnavailable, match="not a size"):
        parse_size(text)


def test_what_the_first_version_stored_is_still_there(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    folder = Store().shelf_folder(database.location)
    folder.mkdir(parents=True)
    with (
        closing(sqlite3.connect(path)) as live,
        closing(sqlite3.connect(folder / "0a1b.image")) as image,
    ):
        live.backup(image)
    with closing(sqlite3.connect(home / "store" / "catalogue.db")) as catalogue:
        catalogue.executescript(
            """
            CREATE TABLE database(id INTEGER PRIMARY KEY, location TEXT NOT NULL UNIQUE) STRICT;
            CREATE TABLE snapshot(database_id INTEGER NOT NULL, number INTEGER NOT NULL,
                label TEXT, taken_at TEXT NOT NULL, trigger_kind TEXT NOT NULL,
                trigger_text TEXT NOT NULL, image TEXT NOT NULL,
                PRIMARY KEY (database_id, number), UNIQUE (database_id, label)) STRICT;
            CREATE TABLE table_summary(database_id INTEGER NOT NULL, number INTEGER NOT NULL,
                table_name TEXT NOT NULL, added INTEGER NOT NULL, changed INTEGER NOT NULL,
                removed INTEGER NOT NULL, PRIMARY KEY (database_id, number, table_name)) STRICT;
            CREATE TABLE step_summary(database_id INTEGER NOT NULL, number INTEGER NOT NULL,
                schema_changes INTEGER NOT NULL, PRIMARY KEY (database_id, number)) STRICT;
            PRAGMA user_version=1;
            """
        )
        catalogue.execute("INSERT INTO database VALUES (1, ?)", (database.location,))
        catalogue.execute(
            "INSERT INTO snapshot VALUES (1, 4, 'old', '2026-01-02T03:04:05+00:00', "
            "'by hand', '', '0a1b.image')"
        )
        catalogue.commit()
    trail = trail_of(database)
    old = trail.find("old")
    assert (old.id, old.note, old.pinned) == ("s4", "", False)
    app(path).run("INSERT INTO t VALUES (2, 'x')")
    assert trail.changes(old, database).counts.marked() == "+1"
    assert trail.take(database).id == "s5"
    trail.delete([old], protected_too=True)
    assert not (folder / "0a1b.image").exists()


def test_sizes_kept_under_names_of_tables_are_found(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    database = opened(make("CREATE TABLE t(id)"))
    trail = trail_of(database)
    trail.take(database)
    names = ("boats", "odd.name", 'with "quotes"', "")
    with closing(sqlite3.connect(home / "store" / "catalogue.db")) as catalogue, catalogue:
        catalogue.execute("INSERT INTO step_summary VALUES (1, 1, 0, '')")
        for added, name in enumerate(names):
            catalogue.execute("INSERT INTO table_summary VALUES (1, 1, ?, ?, 0, 0)", (name, added))
        catalogue.execute("PRAGMA user_version=3")
    (step,) = trail_of(database).steps()
    assert step.summary is not None
    assert step.summary.tables == {TableId(name): ChangeCounts(n) for n, name in enumerate(names)}
