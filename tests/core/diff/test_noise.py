"""What is noise, what was renamed, and what only has another key."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from stored import stored

from conftest import MakeDatabase
from jondel.core.diff.compare import Scope, compare
from jondel.core.diff.key_changes import rekeyed_records
from jondel.core.diff.noise import NoiseRules
from jondel.core.errors import RuleInvalid
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes

Changed = Callable[..., Changes]
_BOATS = (
    "CREATE TABLE boats(id INTEGER PRIMARY KEY, name, updated_at, seen_at)",
    "CREATE TABLE sessions(token PRIMARY KEY, seen_at)",
    "INSERT INTO boats VALUES (1, 'Curlew', 1, 1), (2, 'Dunlin', 1, 1), (3, 'Teal', 1, 1)",
    "INSERT INTO sessions VALUES ('a', 1)",
)


@pytest.fixture
def changed(make: MakeDatabase, tmp_path: Path) -> Changed:
    """Makes a database, changes it, and finds what changed under noise rules."""

    made: list[Path] = []

    def find(before: tuple[str, ...], *after: str, rules: NoiseRules | None = None) -> Changes:
        made.append(make(*before, name=f"{len(made)}.db"))
        path = made[-1]
        earlier = tmp_path / "earlier.db"
        earlier.write_bytes(path.read_bytes())
        program = (
            "import sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
            "for statement in sys.argv[2:]: c.execute(statement)"
        )
        subprocess.run([sys.executable, "-c", program, str(path), *after], check=True)
        with stored(tmp_path, earlier, path) as sides:
            return compare(*sides, Scope(noise=rules or NoiseRules()))

    return find


_WORK = (
    "UPDATE boats SET updated_at = 2",
    "UPDATE boats SET name = 'Tern' WHERE id = 1",
    "UPDATE boats SET seen_at = 2 WHERE id < 3",
    "UPDATE sessions SET seen_at = 2",
    "INSERT INTO boats VALUES (4, 'Knot', 2, 2)",
)


@pytest.mark.parametrize(
    ("rules", "shown", "hidden"),
    [
        pytest.param(NoiseRules(), {"boats": "+1 ~3", "sessions": "~1"}, 0, id="none"),
        pytest.param(NoiseRules(tables=("sessions",)), {"boats": "+1 ~3"}, 1, id="table"),
        pytest.param(NoiseRules(tables=("SESS*",)), {"boats": "+1 ~3"}, 1, id="table-pattern"),
        pytest.param(
            NoiseRules(columns=("*.updated_at",)),
            {"boats": "+1 ~2", "sessions": "~1"},
            1,
            id="column-everywhere",
        ),
        pytest.param(
            NoiseRules(columns=("*.updated_at", "boats.seen_at")),
            {"boats": "+1 ~1", "sessions": "~1"},
            2,
            id="two-columns",
        ),
        pytest.param(
            NoiseRules(only=("*.updated_at", "*.seen_at")), {"boats": "+1 ~1"}, 3, id="only"
        ),
    ],
)
def test_noise_is_hidden_and_counted(
    changed: Changed, rules: NoiseRules, shown: dict[str, str], hidden: int
) -> None:
    found = changed(_BOATS, *_WORK, rules=rules)
    counts = {str(t.table): t.counts.marked() for t in found.tables if t.counts.total}
    assert (counts, found.hidden) == (shown, hidden)


def test_a_hidden_column_is_left_out_and_one_that_alone_is_noise_is_not(changed: Changed) -> None:
    def cells(rules: NoiseRules) -> list[str]:
        table = changed(_BOATS, *_WORK, rules=rules).table(TableId("boats"))
        assert table is not None
        return [cell.column for cell in table.records[0].cells]

    assert cells(NoiseRules(columns=("boats.updated_at",))) == ["name", "seen_at"]
    assert cells(NoiseRules(only=("boats.updated_at",))) == ["name", "updated_at", "seen_at"]


@pytest.mark.parametrize(("kind", "name"), [("tables", " "), ("columns", "seen_at"), ("only", "")])
def test_a_rule_that_means_nothing_is_refused(kind: str, name: str) -> None:
    with pytest.raises(RuleInvalid):
        NoiseRules().with_rule(kind, name)  # type: ignore[arg-type]


def test_names_with_brackets_and_dots_are_names(changed: Changed) -> None:
    rules = NoiseRules(columns=("[od.d].v[0]",))
    before = ('CREATE TABLE "[od.d]"(id INTEGER PRIMARY KEY, "v[0]")',
              'INSERT INTO "[od.d]" VALUES (1, 1)')  # fmt: skip
    found = changed(before, 'UPDATE "[od.d]" SET "v[0]" = 2', rules=rules)
    assert (found.counts.total, found.hidden) == (0, 1)


def test_records_whose_key_alone_changed_are_paired(changed: Changed) -> None:
    found = changed(
        _BOATS,
        "UPDATE boats SET id = 20 WHERE id = 2",
        "UPDATE boats SET id = 30, name = 'other' WHERE id = 3",
        "INSERT INTO boats VALUES (40, 'Curlew', 1, 1)",
    ).table(TableId("boats"))
    assert found is not None
    assert found.counts.marked() == "+3 -2", "the lists keep removal and addition"
    pairs = [(pair.removed.key, pair.added.key) for pair in rekeyed_records(found)]
    assert pairs == [((2,), (20,))]


def test_a_renamed_table_is_one_table(changed: Changed) -> None:
    found = changed(
        _BOATS,
        "ALTER TABLE boats RENAME TO vessels",
        "UPDATE vessels SET name = 'Tern' WHERE id = 1",
    )
    assert [(c.kind, c.object, c.before, c.after) for c in found.schema_changes] == [
        ("table renamed", "vessels", "boats", "vessels")
    ]
    assert [(str(t.table), t.counts.marked()) for t in found.tables] == [("vessels", "~1")]


def test_a_renamed_column_is_one_column(changed: Changed) -> None:
    found = changed(
        _BOATS,
        "ALTER TABLE boats RENAME COLUMN seen_at TO last_seen",
        "UPDATE boats SET last_seen = 7 WHERE id = 2",
    )
    assert [(c.kind, c.object, c.before) for c in found.schema_changes] == [
        ("column renamed", "boats.last_seen", "seen_at")
    ]
    (table,) = found.tables
    assert table.counts.marked() == "~1"
    assert [(c.column, c.before, c.after) for c in table.records[0].cells] == [("last_seen", 1, 7)]


@pytest.mark.parametrize(
    "after",
    [
        pytest.param(
            ("ALTER TABLE boats DROP COLUMN seen_at", "ALTER TABLE boats ADD COLUMN moored"),
            id="dropped-and-added",
        ),
        pytest.param(
            ("DROP TABLE boats", "CREATE TABLE ports(id INTEGER PRIMARY KEY, code)"),
            id="another-table",
        ),
    ],
)
def test_what_came_for_something_that_went_is_no_renaming(
    changed: Changed, after: tuple[str, ...]
) -> None:
    found = changed(_BOATS, *after)
    assert not [change for change in found.schema_changes if "renamed" in change.kind]
    assert {change.kind.split()[1] for change in found.schema_changes} >= {"added", "removed"}


def test_states_are_closed_by_whoever_opened_them(make: MakeDatabase, tmp_path: Path) -> None:
    path = make(*_BOATS)
    with stored(tmp_path, path, path) as (one, other):
        assert compare(one, other).empty
        with closing(one):
            pass
