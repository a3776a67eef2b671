"""The ``jondel`` command as a whole process."""

from __future__ import annotations

import hashlib
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import hostile
from conftest import JondelCommand, MakeDatabase, OpenApp
from jondel.cli.main import COMMANDS

_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v)", "INSERT INTO t VALUES (1, 'a')")


def _write(path: Path, sql: str) -> list[str]:
    program = "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.executescript(sys.argv[2])"
    return [sys.executable, "-c", program, str(path), sql]


def test_the_loop_without_the_interface(
    jondel: JondelCommand, make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    assert jondel("snapshot", path, "--label", "start").stdout == "start\n"
    app(path).run("UPDATE t SET v = NULL")
    app(path).run("INSERT INTO t VALUES (2, '')")
    assert jondel("snapshot", path).stdout == "s2\n"
    told = jondel("diff", path, "start", "s2")
    assert told.stdout == 't  +1 ~1\n  ~ 1  v  a → ∅\n  + 2  v ""\n'
    assert jondel("diff", path, "last").stdout == "no changes\n"
    document = json.loads(jondel("diff", path, "start", "--json").stdout)
    assert document["from"]["label"] == "start"
    assert document["to"]["now"] is True
    assert document["tables"][0]["changed"] == [
        {"key": {"id": 1}, "cells": {"v": {"before": "a", "after": None}}}
    ]


def test_the_trail_is_told_with_labels_and_triggers(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    path = make(*_T)
    jondel("snapshot", path, "--label", "start")
    jondel("record", path, "--", *_write(path, "UPDATE t SET v = 5"))
    lines = jondel("trail", path).stdout.splitlines()
    assert [line.split()[0] for line in lines] == ["s1", "s2"]
    assert "start" in lines[0]
    assert lines[1].endswith("~1")
    document = json.loads(jondel("trail", path, "--json").stdout)
    assert document["target"] == str(path)
    first, second = document["steps"]
    assert (first["label"], first["before"]) == ("start", None)
    assert (second["trigger"]["kind"], second["before"]) == ("command", "s1")
    assert second["changes"]["tables"] == {"t": {"added": 0, "changed": 1, "removed": 0}}


def test_recording_a_command_shows_what_it_wrote_and_exits_as_it_did(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    path = make(*_T)
    program = (
        "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute('DELETE FROM t');"
        "c.commit(); print('the app speaks'); sys.exit(7)"
    )
    command = [sys.executable, "-c", program, str(path)]
    told = jondel("record", path, "--label", "emptied", "--json", "--", *command)
    assert told.returncode == 7
    document = json.loads(told.stdout)
    assert document["tables"][0]["removed"] == [{"key": {"id": 1}, "row": {"id": 1, "v": "a"}}]
    assert document["to"]["label"] == "emptied"
    assert "the app speaks" in told.stderr
    plain = jondel("record", path, "--", *command)
    assert plain.returncode == 7
    assert plain.stdout == "the app speaks\nno changes\n"


def test_a_recorded_command_passes_its_options_through(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    path = make(*_T)
    told = jondel("record", path, "--", sys.executable, "-c", "import sys; print(sys.argv[1:])",
                  "--label", "x", "--json")  # fmt: skip
    assert told.stdout.startswith("['--label', 'x', '--json']\n")


def test_a_command_ended_by_a_signal_exits_like_in_a_shell(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    program = "import os, signal; os.kill(os.getpid(), signal.SIGTERM)"
    told = jondel("record", make(*_T), "--", sys.executable, "-c", program)
    assert told.returncode == 128 + 15


@pytest.mark.parametrize(
    ("form", "expected"),
    [
        ("table", "id  v\n──  ──\n 1  a\n 2  ∅\n 3  \"\"\n3 rows\n"),
        ("json", '{"columns": ["id", "v"],\n "rows": [[1, "a"],\n  [2, null],\n  [3, ""]]}\n'),
        ("csv", 'id,v\n1,a\n2,\n3,""\n'),
    ],
)  # fmt: skip
def test_a_query_prints_rows_in_each_format(
    jondel: JondelCommand, make: MakeDatabase, form: str, expected: str
) -> None:
    path = make(*_T, "INSERT INTO t VALUES (2, NULL), (3, '')")
    assert jondel("query", path, "SELECT * FROM t", "--format", form).stdout == expected


def test_a_query_can_be_asked_of_a_snapshot(
    jondel: JondelCommand, make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    jondel("snapshot", path, "--label", "start")
    app(path).run("DELETE FROM t")
    asked = jondel("query", path, "SELECT v FROM t", "--at", "start", "--json")
    assert json.loads(asked.stdout)["rows"] == [["a"]]
    assert json.loads(jondel("query", path, "SELECT v FROM t", "--json").stdout)["rows"] == []


def test_databases_in_a_folder_are_found(
    jondel: JondelCommand, make: MakeDatabase, tmp_path: Path
) -> None:
    make(*_T, name="one.db")
    (tmp_path / "sub").mkdir()
    make(*_T, name="sub/other.sqlite")
    (tmp_path / "notes.db").write_text("no database at all" * 100)
    found = json.loads(jondel("find", tmp_path, "--json").stdout)
    assert sorted(Path(entry["path"]).name for entry in found) == ["one.db", "other.sqlite"]
    assert jondel("find", tmp_path / "sub").stdout.count("\n") == 1


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        pytest.param(["snapshot", "gone.db"], 1, "gone.db: no such file", id="missing"),
        pytest.param(["snapshot", "."], 1, "a directory", id="directory"),
        pytest.param(["snapshot", "text.db"], 1, "not a SQLite database", id="not-a-database"),
        pytest.param(["trail", "mysql://x/y"], 1, "mysql://", id="other-engine"),
        pytest.param(["diff", "app.db", "nowhere"], 1, "'nowhere'", id="unknown-label"),
        pytest.param(["diff", "app.db", "start", "nope"], 1, "'nope'", id="unknown-second-label"),
        pytest.param(
            ["diff", "app.db", "start", "--table", "tide"], 1, "'tide'", id="unknown-table"
        ),
        pytest.param(["snapshot", "app.db", "--label", "start"], 1, "s1", id="label-taken"),
        pytest.param(["snapshot", "app.db", "--label", "now"], 1, "'now'", id="label-reserved"),
        pytest.param(["query", "app.db", "DELETE FROM t"], 1, "would write", id="writing-query"),
        pytest.param(["query", "app.db", "SELECT x"], 1, "no such column: x", id="wrong-query"),
        pytest.param(["query", "app.db", "SELECT 1", "--at", "s9"], 1, "'s9'", id="query-at"),
        pytest.param(["query", "app.db", "SELECT 1", "--format", "x"], 2, "'x'", id="format"),
        pytest.param(["record", "app.db", "--", "no-such-cmd"], 1, "no-such-cmd", id="command"),
        pytest.param(["snapshot", "app.db", "--tide"], 2, "--tide", id="unknown-option"),
        pytest.param(["snapshot"], 2, "TARGET", id="missing-target"),
        pytest.param(["app.db"], 1, "needs a terminal", id="interface-without-terminal"),
        pytest.param(["gone.db"], 1, "gone.db: no such file", id="interface-on-nothing"),
        pytest.param(["--tide"], 2, "--tide", id="unknown-top-option"),
    ],
)  # fmt: skip
def test_bad_input_gets_one_clear_line_and_changes_nothing(
    jondel: JondelCommand,
    make: MakeDatabase,
    tmp_path: Path,
    arguments: list[str],
    status: int,
    words: str,
) -> None:
    path = make(*_T)
    (tmp_path / "text.db").write_text("berth;boat\n" * 100)
    jondel("snapshot", path, "--label", "start")
    before = hashlib.sha256(path.read_bytes()).digest()
    told = jondel(*arguments)
    assert told.returncode == status
    assert told.stdout == ""
    assert words in told.stderr
    assert "Traceback" not in told.stderr
    assert told.stderr.startswith("jondel: ")
    assert told.stderr.count("\n") == 1
    assert hashlib.sha256(path.read_bytes()).digest() == before
    assert json.loads(jondel("trail", path, "--json").stdout)["steps"][-1]["label"] == "start"


def test_a_recorded_command_that_is_not_there_leaves_no_step(
    jondel: JondelCommand, make: MakeDatabase
) -> None:
    path = make(*_T)
    jondel("record", path, "--", "no-such-command")
    assert json.loads(jondel("trail", path, "--json").stdout)["steps"] == []


def test_a_locked_database_is_reported_and_nothing_hangs(
    jondel: JondelCommand, make: MakeDatabase, app: OpenApp
) -> None:
    path = make(*_T)
    app(path).run("BEGIN EXCLUSIVE")
    told = jondel("snapshot", path)
    assert told.returncode == 1
    assert str(path) in told.stderr
    assert "held by" in told.stderr or "locked" in told.stderr


def test_ctrl_c_stops_a_statement_at_once(make: MakeDatabase, home: Path) -> None:
    endless = (
        "SELECT count(*) FROM (WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) "
        "SELECT * FROM n)"
    )
    command = [sys.executable, "-m", "jondel", "query", str(make(*_T)), endless]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as running:
        time.sleep(2)
        running.send_signal(signal.SIGINT)
        _, error = running.communicate(timeout=20)
    assert (running.returncode, error) == (130, b"jondel: stopped\n")


def test_a_home_that_cannot_be_written_is_named(
    jondel: JondelCommand, make: MakeDatabase, tmp_path: Path
) -> None:
    (tmp_path / "file").touch()
    environment = {**os.environ, "JONDEL_HOME": str(tmp_path / "file")}
    told = jondel("snapshot", make(*_T), env=environment)
    assert told.returncode == 1
    assert told.stderr.count("\n") == 1
    assert "JONDEL_HOME" in told.stderr


def test_hostile_names_and_contents_reach_the_terminal_harmlessly(
    jondel: JondelCommand, hostile_database: Path, app: OpenApp
) -> None:
    jondel("snapshot", hostile_database)
    writer = app(hostile_database)
    for name in hostile.NAMES.values():
        quoted = name.replace('"', '""')
        writer.run(f'UPDATE "{quoted}" SET "order" = ?', hostile.ESCAPES)
    writer.run("DELETE FROM texts")
    told = jondel("diff", hostile_database, "last")
    assert told.returncode == 0
    assert "texts  -18" in told.stdout
    assert not {"\x1b", "\x07", "\x00", "\x9b"} & set(told.stdout + told.stderr)
    document = json.loads(jondel("diff", hostile_database, "last", "--json").stdout)
    assert len(document["tables"]) == 1 + len(hostile.NAMES)
    failing = jondel("query", hostile_database, 'SELECT * FROM "\x1b[2J"')
    assert failing.returncode == 1
    assert "\x1b" not in failing.stderr


def test_a_reader_that_stops_early_is_no_failure_worth_a_traceback(
    make: MakeDatabase, tmp_path: Path
) -> None:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100000) "
        "INSERT INTO t SELECT i FROM n",
    )
    command = f'"{sys.executable}" -m jondel query {path} "SELECT * FROM t" | head -n 1'
    told = subprocess.run(command, shell=True, capture_output=True, text=True, check=False)
    assert told.stdout.strip() == "id"
    assert told.stderr == ""


def test_an_unexpected_failure_is_one_line_with_the_details_in_a_log(
    jondel: JondelCommand, make: MakeDatabase, home: Path, tmp_path: Path
) -> None:
    path = make(*_T)
    (tmp_path / "sitecustomize.py").write_text(
        "import jondel.core.trail.trail as t\n"
        "def fail(*a, **k): raise RuntimeError('a mistake\\x1b[2J')\n"
        "t.Trail.take = fail\n"
    )
    told = jondel("snapshot", path, env={**os.environ, "PYTHONPATH": str(tmp_path)})
    assert told.returncode == 1
    assert told.stderr.count("\n") == 1
    assert "RuntimeError: a mistake^[[2J" in told.stderr
    assert "Traceback" in (home / "crash.log").read_text("utf-8")


def test_the_version_and_the_help_are_there(jondel: JondelCommand) -> None:
    assert jondel("--version").stdout.startswith("jondel 0.")
    told = jondel("--help")
    assert told.returncode == 0
    for command in (*COMMANDS,):
        assert command in told.stdout
