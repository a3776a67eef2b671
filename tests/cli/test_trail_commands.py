"""The commands that tend the trail, put things back, and look into the past."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import JondelCommand, MakeDatabase, OpenApp
from outside import rows

_T = (
    "CREATE TABLE t(id INTEGER PRIMARY KEY, v, seen_at)",
    "INSERT INTO t VALUES (1, 'a', 1), (2, 'b', 1)",
)


@pytest.fixture
def path(jondel: JondelCommand, make: MakeDatabase, app: OpenApp) -> Path:
    """A database with two snapshots, and one more commit."""
    made = make(*_T, journal="WAL")
    jondel("snapshot", made, "--label", "start")
    writer = app(made)
    for statement in (
        "UPDATE t SET v = 'x', seen_at = 2 WHERE id = 1",
        "DELETE FROM t WHERE id = 2",
    ):
        writer.run(statement)
    jondel("snapshot", made)
    writer.run("INSERT INTO t VALUES (3, 'c', 1)")
    return made


def _json(told: subprocess.CompletedProcess[str]) -> Any:
    assert told.returncode == 0, told.stderr
    return json.loads(told.stdout)


def test_steps_are_labelled_annotated_pinned_and_deleted(jondel: JondelCommand, path: Path) -> None:
    for words in (("label", "s2", "work"), ("note", "work", "two\nlines"), ("pin", "work")):
        assert jondel("trail", path, *words).returncode == 0
    first, second = _json(jondel("trail", path, "--json"))["steps"]
    assert (second["label"], second["note"], second["pinned"]) == ("work", "two\nlines", True)
    assert second["changes"]["tables"] == {"t": {"added": 0, "changed": 1, "removed": 1}}
    assert first["before"] is None
    refused = jondel("trail", path, "delete", "work")
    assert (refused.returncode, "--labelled" in refused.stderr) == (1, True)
    jondel("trail", path, "unpin", "work")
    jondel("trail", path, "label", "work")
    assert jondel("trail", path, "delete", "s2").returncode == 0
    assert [s["id"] for s in _json(jondel("trail", path, "--json"))["steps"]] == ["s1"]


def test_a_restore_says_what_is_lost_and_waits_for_a_yes(jondel: JondelCommand, path: Path) -> None:
    asked = jondel("restore", path, "start")
    assert asked.returncode == 1
    assert "--yes" in asked.stderr
    assert "+ 3" in asked.stdout
    assert rows(path, "SELECT count(*) FROM t") == [[2]]
    done = _json(jondel("restore", path, "start", "--yes", "--json"))
    assert done["undone"] == {"t": {"added": 1, "changed": 1, "removed": 1}}
    assert rows(path, "SELECT * FROM t") == [[1, "a", 1], [2, "b", 1]]
    assert "nothing to do" in jondel("restore", path, "start", "--yes").stdout
    jondel("restore", path, done["before"]["id"], "--yes")
    assert rows(path, "SELECT id FROM t") == [[1], [3]]


def test_a_step_or_one_record_of_it_is_taken_back(jondel: JondelCommand, path: Path) -> None:
    told = jondel("take-back", path, "s2", "--table", "t", "--key", "1", "--yes")
    assert told.returncode == 0, told.stderr
    assert rows(path, "SELECT * FROM t") == [[1, "a", 1], [3, "c", 1]]
    refused = jondel("take-back", path, "s2", "--yes")
    assert (refused.returncode, "t 1" in refused.stderr) == (1, True)
    assert rows(path, "SELECT count(*) FROM t") == [[2]]
    assert jondel("take-back", path, "s1", "--yes").returncode == 1


def test_a_records_history_is_told(jondel: JondelCommand, path: Path) -> None:
    versions = _json(jondel("history", path, "t", "1", "--json"))["versions"]
    assert [version["kind"] for version in versions] == ["start", "changed"]
    assert versions[1]["cells"]["v"] == {"before": "a", "after": "x"}
    assert versions[1]["step"]["id"] == "s2"
    assert "now   + since the last snapshot" in jondel("history", path, "t", "3").stdout
    assert jondel("history", path, "nope", "3").returncode == 1
    assert jondel("history", path, "t", "3", "4").returncode == 2


def test_noise_rules_hide_and_say_how_much(jondel: JondelCommand, path: Path) -> None:
    assert jondel("noise", path, "add", "columns", "*.seen_at").returncode == 0
    told = jondel("diff", path, "start")
    assert "~ 1  v  a → x\n  - 2" in told.stdout
    assert jondel("noise", path, "add", "tables", "t").returncode == 0
    told = jondel("diff", path, "start")
    assert told.stdout == "no changes\n"
    assert "hidden by noise rules: 3 records" in told.stderr
    document = _json(jondel("diff", path, "start", "--json"))
    assert document["tables"] == []
    assert document["hidden"]["records"] == 3
    assert "~1" in jondel("diff", path, "start", "--noise").stdout
    assert [r["name"] for r in _json(jondel("noise", path, "--json"))["rules"]] == [
        "t",
        "*.seen_at",
    ]
    jondel("noise", path, "remove", "tables", "t")
    assert "+1 ~1 -1" in jondel("diff", path, "start").stdout


def test_two_files_are_compared(jondel: JondelCommand, path: Path, make: MakeDatabase) -> None:
    other = make(*_T, "CREATE TABLE u(id)", name="other.db")
    document = _json(jondel("compare", other, path, "--json"))
    (table,) = document["tables"]
    assert [len(table[kind]) for kind in ("added", "changed", "removed")] == [1, 1, 1]
    assert document["schema_changes"][0]["kind"] == "table removed"
    assert document["method"] in ("pages", "pages and rows", "rows")
    assert jondel("compare", path, path).stdout == "no changes\n"
    assert jondel("compare", path, "gone.db").returncode == 1
    assert _json(jondel("trail", other, "--json"))["steps"] == []


def test_states_are_asked_side_by_side(jondel: JondelCommand, path: Path) -> None:
    sql = "SELECT id FROM start.t EXCEPT SELECT id FROM now.t"
    assert _json(jondel("query", path, sql, "--at", "s2", "--json"))["rows"] == [[2]]


def test_watching_prints_one_line_a_step(path: Path, app: OpenApp, jondel: JondelCommand) -> None:
    writer = app(path)
    command = [sys.executable, "-m", "jondel", "watch", str(path), "--json", "--settle", "0.2"]
    watching = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert watching.stdout is not None
    while len(_json(jondel("trail", path, "--json"))["steps"]) < 3:
        time.sleep(0.1)
    lines = []
    for value in ("y", "z"):
        writer.run("UPDATE t SET v = ? WHERE id = 1", value)
        lines.append(json.loads(watching.stdout.readline()))
    watching.send_signal(signal.SIGINT)
    watching.communicate(timeout=10)
    assert watching.returncode == 0
    assert [line["tables"][0]["changed"][0]["cells"]["v"]["after"] for line in lines] == ["y", "z"]
    assert lines[0]["to"]["id"] == lines[1]["from"]["id"]


def test_the_store_is_told_of_limited_checked_and_emptied(
    jondel: JondelCommand, path: Path, tmp_path: Path
) -> None:
    document = _json(jondel("store", "--json"))
    assert document["databases"][0]["snapshots"] == 2
    assert document["size_bytes"] > 0
    assert jondel("store", "check").stdout == "everything is as it was written\n"
    assert jondel("store", "budget", "5GB").returncode == 0
    assert _json(jondel("store", "--json"))["budget_bytes"] == 5_000_000_000
    assert jondel("store", "move", tmp_path / "moved").returncode == 0
    assert _json(jondel("store", "--json"))["folder"] == str(tmp_path / "moved")
    assert "start" in jondel("trail", path).stdout
    assert jondel("store", "empty").returncode == 1
    assert jondel("store", "empty", "--yes").returncode == 0
    assert _json(jondel("store", "--json"))["databases"] == []


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        pytest.param(["trail", "app.db", "paint", "s1"], 2, "paint", id="unknown-verb"),
        pytest.param(["trail", "app.db", "label"], 2, "label STEP", id="label-without-step"),
        pytest.param(["trail", "app.db", "label", "s9", "x"], 1, "'s9'", id="unknown-step"),
        pytest.param(["trail", "app.db", "label", "s2", "start"], 1, "s1", id="label-taken"),
        pytest.param(["restore", "app.db", "s9", "--yes"], 1, "'s9'", id="restore-unknown"),
        pytest.param(["restore", "app.db", "s1", "--table", "u", "--yes"], 1, "'u'", id="no-table"),
        pytest.param(["take-back", "app.db", "s2", "--key", "1"], 2, "--table", id="key-alone"),
        pytest.param(["noise", "app.db", "add", "columns", "v"], 1, "'v'", id="bad-rule"),
        pytest.param(["noise", "app.db", "add"], 2, "NAME", id="rule-without-name"),
        pytest.param(["store", "budget", "much"], 1, "'much'", id="bad-size"),
        pytest.param(["store", "move"], 2, "DIR", id="move-nowhere"),
        pytest.param(["watch", "app.db", "--settle", "soon"], 2, "'soon'", id="bad-seconds"),
        pytest.param(["watch", "gone.db"], 1, "gone.db", id="watch-nothing"),
        pytest.param(["diff", "app.db", "start", "--limit", "-1"], 2, "--limit", id="bad-limit"),
        pytest.param(["record", "app.db"], 2, "no command", id="record-nothing"),
    ],
)
def test_bad_words_get_one_clear_line(
    jondel: JondelCommand, path: Path, arguments: list[str], status: int, words: str
) -> None:
    told = jondel(*arguments)
    assert told.returncode == status, told.stderr
    assert told.stderr.count("\n") == 1
    assert words in told.stderr
    assert told.stdout == ""
