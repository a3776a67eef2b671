"""Taking snapshots, naming and finding them, and what changed between them."""

from __future__ import annotations

import os
import resource
import signal
import stat
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.diff.compare import Scope
from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import (
    Cancelled,
    JondelError,
    LabelInvalid,
    LabelTaken,
    SnapshotNotFound,
    StoreUnavailable,
    TargetLocked,
)
from jondel.core.model.addresses import TableId
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]
_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'a')")


def _files(folder: Path) -> list[Path]:
    return sorted(path for path in folder.rglob("*") if path.is_file())


def _stored(home: Path) -> list[Path]:
    """The files that hold pages, or lists of them."""
    return [*home.rglob("*.pages"), *home.rglob("manifests/*")]


def test_a_step_tells_what_was_written_between_two_snapshots(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database, "start")
    app(path).run("UPDATE t SET v = 'b'")
    second = trail.take(database, trigger=Trigger("action", "rename the boat"))
    assert (first.id, first.title, second.id, second.title) == (
        "s1",
        "start",
        "s2",
        "rename the boat",
    )
    start, step = trail.steps()
    assert start.before is None
    assert step.summary is None
    changes = trail.step_changes(step, Scope())
    assert changes.counts.marked() == "~1"
    assert changes.tables[0].records[0].cells[0].after == "b"
    assert trail.steps()[1].summary is not None
    assert trail.changes(first, database).counts.marked() == "~1"
    assert trail.changes(second, database).empty


@pytest.mark.parametrize("journal", ["DELETE", "WAL"])
def test_a_snapshot_is_consistent_while_the_app_is_in_a_transaction(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp, journal: str
) -> None:
    path = make(*_T, journal=journal)
    writer = app(path)
    writer.run("INSERT INTO t VALUES (2, 'committed')")
    writer.run("BEGIN IMMEDIATE")
    writer.run("INSERT INTO t VALUES (3, 'not yet')")
    database = opened(path)
    trail = trail_of(database)
    taken = trail.take(database)
    writer.run("COMMIT")
    with closing(trail.open(taken)) as image:
        rows = statements_of(image).execute("SELECT id FROM t ORDER BY id").rows
    assert rows == ((1,), (2,))


def test_snapshots_and_labels_are_there_again_after_a_restart(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    earlier = trail_of(database)
    earlier.take(database, "start")
    app(path).run("DELETE FROM t")
    earlier.take(database)
    earlier.step_changes(earlier.steps()[1], Scope())
    earlier.close()
    later = trail_of(database)
    assert [snapshot.label for snapshot in later.snapshots()] == ["start", None]
    summary = later.steps()[1].summary
    assert summary is not None
    assert summary.tables[TableId("t")].removed == 1
    assert later.changes(later.find("start"), database).counts.marked() == "-1"


def test_each_database_has_a_trail_of_its_own(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    one, other = opened(make(*_T, name="one.db")), opened(make(*_T, name="other.db"))
    trail_of(one).take(one, "start")
    assert trail_of(other).snapshots() == []
    assert trail_of(other).take(other, "start").id == "s1"


def test_one_file_has_one_trail_by_whichever_way_it_is_reached(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, tmp_path: Path
) -> None:
    path = make(*_T)
    link = tmp_path / "link.db"
    link.symlink_to(path)
    database = opened(path)
    trail_of(database).take(database, "start")
    assert [s.label for s in trail_of(opened(link)).snapshots()] == ["start"]


def test_a_label_is_taken_once_and_the_error_names_its_holder(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    trail.take(database, "start")
    kept = _files(home)
    with pytest.raises(LabelTaken, match=r"'start' is the label of snapshot s1 of \d{4}-"):
        trail.take(database, "start")
    assert _files(home) == kept


@pytest.mark.parametrize("label", ["", "  ", "now", "last", "s12", "x" * 101, "a\nb", "a\x1b[0m"])
def test_what_cannot_be_a_label_is_refused(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, label: str
) -> None:
    database = opened(make(*_T))
    with pytest.raises(LabelInvalid):
        trail_of(database).take(database, label)
    assert trail_of(database).snapshots() == []


def test_snapshots_are_found_by_label_id_and_last(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    with pytest.raises(SnapshotNotFound, match=r"none of .* yet"):
        trail.find("last")
    trail.take(database, "start")
    trail.take(database)
    assert [trail.find(name).number for name in ("start", "s1", "s2", "last")] == [1, 1, 2, 2]
    with pytest.raises(SnapshotNotFound, match=r"'nowhere'.*start, s2"):
        trail.find("nowhere")


def test_an_unchanged_database_is_stored_once(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    first, second = trail.take(database), trail.take(database)
    assert first.image == second.image
    assert len(list(home.rglob("manifests/*"))) == 1
    assert trail.changes(first, second).method == "same"
    assert trail.take_unless_unchanged(database, Trigger()).number == second.number


def test_everything_kept_is_private_to_the_user(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    database = opened(make(*_T))
    trail_of(database).take(database)
    for path in home.rglob("*"):
        allowed = 0o700 if path.is_dir() else 0o600
        assert stat.S_IMODE(path.stat().st_mode) & ~allowed == 0, path


def test_a_comparison_with_now_leaves_nothing_behind(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database)
    kept = [path.name for path in _files(home)]
    app(path).run("DELETE FROM t")
    assert trail.changes(first, database).counts.removed == 1
    assert [path.name for path in _files(home)] == kept


def test_an_image_that_is_gone_or_damaged_is_named_and_the_others_work(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path, app: OpenApp
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database, "start")
    app(path).run("UPDATE t SET v = 2")
    second = trail.take(database)
    (manifest,) = home.rglob(first.image)
    manifest.write_bytes(manifest.read_bytes()[:-1] + b"x")
    with pytest.raises(StoreUnavailable, match=first.image):
        trail.changes(first, second)
    manifest.unlink()
    with pytest.raises(StoreUnavailable, match=first.image):
        trail.open(first)
    assert trail.changes(second, database).empty


def test_a_home_that_cannot_be_used_is_named_with_what_to_do(
    make: MakeDatabase, opened: Opened, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "file").touch()
    monkeypatch.setenv("JONDEL_HOME", str(tmp_path / "file" / "below"))
    database = opened(make(*_T))
    with pytest.raises(StoreUnavailable, match="JONDEL_HOME"):
        Trail(database.location)


def test_a_catalogue_that_is_no_database_is_named(
    make: MakeDatabase, opened: Opened, home: Path
) -> None:
    (home / "store").mkdir(parents=True)
    (home / "store" / "catalogue.db").write_bytes(os.urandom(4096))
    database = opened(make(*_T))
    with pytest.raises(StoreUnavailable, match=r"catalogue\.db"):
        Trail(database.location)


def test_a_locked_database_gives_an_error_and_no_snapshot(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp, home: Path
) -> None:
    path = make(*_T)
    database = opened(path)
    trail = trail_of(database)
    holder = app(path)
    holder.run("BEGIN EXCLUSIVE")
    with pytest.raises(TargetLocked):
        trail.take(database)
    assert trail.snapshots() == []
    assert _stored(home) == []
    holder.run("ROLLBACK")
    assert trail.take(database).id == "s1"


def test_forgetting_empties_the_trail_and_the_store(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    trail.take(database, "start")
    trail.forget()
    assert trail.snapshots() == []
    assert _stored(home) == []
    assert trail.take(database, "start").id == "s1"


def test_the_id_of_a_deleted_snapshot_is_not_used_again(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(make(*_T))
    trail = trail_of(database)
    trail.take(database)
    trail.delete([trail.take(database)])
    assert trail.take(database).id == "s3"


def test_two_processes_may_take_snapshots_of_one_database(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf
) -> None:
    database = opened(make(*_T))
    one, other = trail_of(database), trail_of(database)
    numbers = [trail.take(database).number for trail in (one, other, one, other)]
    assert numbers == [1, 2, 3, 4]
    assert [s.number for s in one.snapshots()] == numbers


def test_every_error_is_a_jondel_error() -> None:
    for error in (LabelTaken, SnapshotNotFound, StoreUnavailable, TargetLocked):
        assert issubclass(error, JondelError)


def test_a_disk_without_room_leaves_no_snapshot_and_says_so(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    path = make(*_T, "CREATE TABLE u(v)", "INSERT INTO u VALUES (zeroblob(3000000))")
    database = opened(path)
    trail = trail_of(database)
    trail.snapshots()
    limits, ignored = resource.getrlimit(resource.RLIMIT_FSIZE), signal.SIG_IGN
    previous = signal.signal(signal.SIGXFSZ, ignored)
    resource.setrlimit(resource.RLIMIT_FSIZE, (1_000_000, limits[1]))
    try:
        with pytest.raises(StoreUnavailable, match="make room"):
            trail.take(database, "start")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, limits)
        signal.signal(signal.SIGXFSZ, previous)
    assert trail.snapshots() == []
    assert _stored(home) == []
    assert trail.take(database, "start").id == "s1"


def test_an_interrupt_stops_a_capture_and_leaves_nothing(
    make: MakeDatabase, opened: Opened, trail_of: TrailOf, home: Path
) -> None:
    path = make(
        "CREATE TABLE t(v)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 60) "
        "INSERT INTO t SELECT zeroblob(1000000) FROM n",
    )
    database = opened(path)
    trail = trail_of(database)

    def stop_soon() -> None:
        while not _stored(home):
            pass
        database.interrupt()

    stopper = threading.Thread(target=stop_soon)
    stopper.start()
    try:
        with pytest.raises(Cancelled):
            trail.take(database)
    finally:
        stopper.join()
    assert trail.snapshots() == []
    assert _stored(home) == []
    database.resume()
    assert trail.take(database).id == "s1"


def test_a_trail_may_begin_with_an_empty_file(
    tmp_path: Path, opened: Opened, trail_of: TrailOf, app: OpenApp
) -> None:
    path = tmp_path / "new.db"
    path.touch()
    database = opened(path)
    trail = trail_of(database)
    first = trail.take(database, "nothing")
    writer = app(path)
    writer.run("CREATE TABLE t(id INTEGER PRIMARY KEY)")
    writer.run("INSERT INTO t VALUES (1)")
    second = trail.take(database)
    changes = trail.changes(first, second)
    assert [change.kind for change in changes.schema_changes] == ["table added"]
    assert changes.counts.marked() == "+1"
    assert restore(trail, database, first).method == "copy"
    assert writer.run("SELECT count(*) FROM sqlite_schema") == [[0]]
