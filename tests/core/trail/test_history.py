"""One record over the trail, and asking several states at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import MakeDatabase, OpenApp
from jondel.core.engines.protocol import Database
from jondel.core.errors import SnapshotNotFound, StatementFailed, StatementRefused
from jondel.core.model.addresses import TableId
from jondel.core.trail.history import record_history
from jondel.core.trail.step_statements import mentioned, run_at
from jondel.core.trail.trail import Trail

Opened = Callable[[Path], Database]
TrailOf = Callable[[Database], Trail]
_T = (
    "CREATE TABLE t(id INTEGER PRIMARY KEY, v, w)",
    "CREATE TABLE by_two(a, b, v, PRIMARY KEY (a, b)) WITHOUT ROWID",
    "CREATE TABLE no_key(v)",
    "INSERT INTO by_two VALUES (1, 'x', 'first')",
    "INSERT INTO no_key VALUES ('first')",
)


@pytest.fixture
def trail(make: MakeDatabase, opened: Opened, trail_of: TrailOf, app: OpenApp) -> Trail:
    path = make(*_T)
    database, writer = opened(path), app(path)
    made = trail_of(database)
    made.take(database, "start")
    for number, statement in enumerate(
        (
            "INSERT INTO t VALUES (1, 'a', NULL)",
            "UPDATE t SET v = 'b', w = 2 WHERE id = 1",
            "UPDATE by_two SET v = 'second'",
            "DELETE FROM t",
            "ALTER TABLE t ADD COLUMN more DEFAULT 'filled in'",
            "INSERT INTO t VALUES (1, 'a', 2.0, 'x')",
            "UPDATE no_key SET v = 'second'",
        )
    ):
        writer.run(statement)
        made.take(database, f"step {number}")
    writer.run("UPDATE t SET w = 2 WHERE id = 1")
    made.live = database  # type: ignore[attr-defined]
    return made


def test_every_version_comes_with_the_step_that_wrote_it_and_its_cells(trail: Trail) -> None:
    live = trail.live  # type: ignore[attr-defined]
    versions = list(record_history(trail, TableId("t"), ("id",), (1,), live))
    assert [(v.kind, v.snapshot and v.snapshot.label) for v in versions] == [
        ("added", "step 0"),
        ("changed", "step 1"),
        ("removed", "step 3"),
        ("added", "step 5"),
        ("changed", None),
    ]
    assert [(c.column, c.before, c.after) for c in versions[1].cells] == [
        ("v", "a", "b"),
        ("w", None, 2),
    ]
    assert [(c.column, c.before, c.after) for c in versions[4].cells] == [("w", 2.0, 2)]
    assert versions[3].row == (1, "a", 2.0, "x")


@pytest.mark.parametrize(
    ("table", "columns", "key"),
    [("by_two", ("a", "b"), (1, "x")), ("no_key", ("rowid",), (1,))],
)
def test_a_record_is_followed_by_whatever_key_it_has(
    trail: Trail, table: str, columns: tuple[str, ...], key: tuple[object, ...]
) -> None:
    versions = list(record_history(trail, TableId(table), columns, key))  # type: ignore[arg-type]
    assert [version.kind for version in versions] == [None, "changed"]


def test_what_was_never_there_has_no_versions(trail: Trail) -> None:
    assert list(record_history(trail, TableId("t"), ("id",), (99,))) == []
    assert list(record_history(trail, TableId("nowhere"), ("id",), (1,))) == []
    assert list(record_history(trail, TableId("t"), ("nowhere",), (1,))) == []


def test_a_state_that_is_damaged_is_named_and_the_others_are_told(trail: Trail, home: Path) -> None:
    (manifest,) = home.rglob(trail.find("step 1").image)
    manifest.unlink()
    versions = list(record_history(trail, TableId("t"), ("id",), (1,)))
    assert [v.kind for v in versions if not v.problem] == ["added", "changed", "removed", "added"]
    assert sum(1 for v in versions if v.problem) == 1


def test_a_statement_can_be_asked_of_a_past_step_and_of_two_at_once(trail: Trail) -> None:
    live = trail.live  # type: ignore[attr-defined]
    assert run_at(trail, lambda: live, "SELECT v FROM t", "step 1").rows == (("b",),)
    assert run_at(trail, lambda: live, "SELECT count(*) FROM t", "s5").rows == ((0,),)
    told = run_at(
        trail,
        lambda: live,
        'SELECT now.t.w, live.w, s3.t.w, "step 0".t.w FROM main.t AS live '
        'JOIN s3.t ON s3.t.id = live.id JOIN "step 0".t ON "step 0".t.id = live.id '
        "JOIN now.t ON now.t.id = live.id",
    )
    assert told.rows == ((2, 2, 2, None),)
    gone = run_at(trail, lambda: live, "SELECT v FROM s2.t EXCEPT SELECT v FROM t", "step 3")
    assert gone.rows == (("a",),)
    between = "SELECT v FROM s3.t EXCEPT SELECT v FROM s2.t"
    assert run_at(trail, lambda: live, between).rows == (("b",),)


def test_a_state_that_is_not_there_is_named(trail: Trail) -> None:
    live = trail.live  # type: ignore[attr-defined]
    with pytest.raises(SnapshotNotFound, match="s99"):
        run_at(trail, lambda: live, "SELECT 1", "s99")
    with pytest.raises(StatementFailed, match="s99"):
        run_at(trail, lambda: live, "SELECT * FROM s99.t")
    with pytest.raises(StatementRefused, match="would write"):
        run_at(trail, lambda: live, "DELETE FROM s3.t")
    assert run_at(trail, lambda: live, "SELECT count(*) FROM t").rows == ((1,),)


def test_states_are_recognised_before_a_dot() -> None:
    assert mentioned('SELECT s3.t.v, "a b".t.w FROM s3.t, x . y') >= {"s3", "a b", "x"}
