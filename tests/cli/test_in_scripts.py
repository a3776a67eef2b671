"""The command as scripts and pipelines use it: streams, signals, exit statuses, whole output."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import outside
from conftest import JondelCommand, MakeDatabase, OpenApp
from pseudo_terminal import on_a_terminal

_T = ("CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)", "INSERT INTO t VALUES (1, 'a')")
_LONG = "the far pontoon, " * 20


def _jondel(*arguments: str | Path) -> list[str]:
    return [sys.executable, "-m", "jondel", *map(str, arguments)]


def _writing(path: Path, sql: str, then: str = "") -> list[str]:
    program = (
        "import sqlite3, sys, time\n"
        "c = sqlite3.connect(sys.argv[1]); c.executescript(sys.argv[2]); c.close()\n" + then
    )
    return [sys.executable, "-c", program, str(path), sql]


@pytest.mark.parametrize("closed", ["<&-", ">&-", "2>&-", "<&- >&- 2>&-"])
@pytest.mark.parametrize("command", ["snapshot", "diff", "query", "trail", "record"])
def test_closed_streams_lead_to_no_traceback_and_harm_nothing(
    make: MakeDatabase, home: Path, jondel: JondelCommand, command: str, closed: str
) -> None:
    path = make(*_T)
    jondel("snapshot", path, "--label", "start")
    before = outside.content(path)
    words = {
        "diff": f"diff {path} start",
        "query": f"query {path} 'SELECT * FROM t'",
        "record": f"record {path} -- true",
    }.get(command, f"{command} {path}")
    done = subprocess.run(
        f"{sys.executable} -m jondel {words} {closed}", shell=True, capture_output=True, text=True
    )
    assert done.returncode in (0, 1)
    assert "Traceback" not in done.stderr
    assert "failed" not in done.stderr
    assert outside.content(path) == before


@pytest.mark.parametrize("form", ["csv", "json", "text"])
def test_a_reader_that_goes_away_is_no_error_to_speak_of(
    make: MakeDatabase, home: Path, form: str
) -> None:
    path = make(
        *_T,
        "WITH RECURSIVE n(i) AS (SELECT 2 UNION ALL SELECT i + 1 FROM n WHERE i < 60000) "
        "INSERT INTO t SELECT i, 'some words to fill the pipe' FROM n",
    )
    command = " ".join(_jondel("query", path, "'SELECT * FROM t'", "--format", form))
    done = subprocess.run(f"{command} | head -2", shell=True, capture_output=True, text=True)
    assert done.stderr == ""
    assert len(done.stdout.splitlines()) == 2


def test_output_that_cannot_be_written_is_said_in_a_line(make: MakeDatabase, home: Path) -> None:
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            _jondel("query", make(*_T), "SELECT * FROM t"), stdout=full, stderr=subprocess.PIPE
        )
    assert done.returncode == 1
    assert done.stderr == (b"jondel: the output could not be written (No space left on device)\n")


def test_record_passes_a_request_to_end_on_and_shows_what_was_written(
    make: MakeDatabase, home: Path, tmp_path: Path
) -> None:
    path, ready = make(*_T), tmp_path / "ready"
    then = f"open({str(ready)!r}, 'w').close(); time.sleep(60)"
    command = _jondel("record", path, "--", *_writing(path, "INSERT INTO t VALUES (2, 'b')", then))
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as running:
        while not ready.exists():
            time.sleep(0.02)
        running.send_signal(signal.SIGTERM)
        output, _ = running.communicate(timeout=30)
    assert running.returncode == 128 + signal.SIGTERM
    assert output == "t  +1\n  + 2  v b\n"


def test_record_kills_a_command_that_does_not_end(
    make: MakeDatabase, home: Path, tmp_path: Path
) -> None:
    path, ready = make(*_T), tmp_path / "ready"
    then = (
        "import signal; signal.signal(signal.SIGTERM, signal.SIG_IGN)\n"
        f"open({str(ready)!r}, 'w').close()\nwhile True: time.sleep(1)"
    )
    command = _jondel("record", path, "--", *_writing(path, "DELETE FROM t", then))
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as running:
        while not ready.exists():
            time.sleep(0.02)
        running.send_signal(signal.SIGTERM)
        output, _ = running.communicate(timeout=60)
    assert running.returncode == 128 + signal.SIGKILL
    assert output.startswith("t  -1\n")


def test_record_of_a_database_that_is_not_there_yet(tmp_path: Path, jondel: JondelCommand) -> None:
    path = tmp_path / "new.db"
    made = "; ".join(_T)
    done = jondel("record", path, "--label", "first migration", "--", *_writing(path, made))
    assert done.returncode == 0
    assert "schema  table added: t" in done.stdout
    assert "+ 1  v a" in done.stdout
    assert [line.split()[0] for line in jondel("trail", path).stdout.splitlines()] == ["s1", "s2"]
    again = jondel("diff", path, "s1", "first migration", "--json")
    assert json.loads(again.stdout)["tables"][0]["added"][0]["row"] == {"id": 1, "v": "a"}


def test_record_of_a_command_that_makes_no_database_says_so(
    tmp_path: Path, jondel: JondelCommand
) -> None:
    done = jondel(
        "record", tmp_path / "never.db", "--", sys.executable, "-c", "raise SystemExit(3)"
    )
    assert done.returncode == 3
    assert "there is no database after the command either" in done.stderr
    assert not (tmp_path / "never.db").exists()


@pytest.mark.parametrize(
    "url", ["sqlite:///{name}", "sqlite:///{path}", "sqlite+aiosqlite:///{name}?timeout=5"]
)
def test_addresses_as_frameworks_write_them_are_understood(
    make: MakeDatabase, jondel: JondelCommand, url: str
) -> None:
    path = make(*_T)
    target = url.format(name=path.name, path=path)
    done = jondel("query", target, "SELECT v FROM t", "--format", "csv")
    assert done.stdout == "v\na\n"


@pytest.mark.parametrize(
    "url", ["sqlite://", "sqlite:///", "sqlite:///:memory:", "sqlite://host/x"]
)
def test_addresses_that_name_no_file_say_so(jondel: JondelCommand, url: str) -> None:
    done = jondel("query", url, "SELECT 1")
    assert done.returncode == 1
    assert "names no file" in done.stderr


def test_the_exit_status_says_whether_there_are_changes_where_that_is_asked_for(
    make: MakeDatabase, jondel: JondelCommand, app: OpenApp, tmp_path: Path
) -> None:
    path = make(*_T)
    jondel("snapshot", path, "--label", "start")
    assert jondel("diff", path, "start", "--exit-code").returncode == 0
    changing = _writing(path, "UPDATE t SET v = 'b'")
    assert jondel("record", path, "--exit-code", "--", *changing).returncode == 4
    assert jondel("record", path, "--exit-code", "--", "true").returncode == 0
    assert jondel("record", path, "--exit-code", "--", "false").returncode == 1
    assert jondel("diff", path, "start").returncode == 0
    for form in ("text", "markdown", "json"):
        assert jondel("diff", path, "start", "--exit-code", "--format", form).returncode == 4
    (tmp_path / "jondel.toml").write_text('[noise]\ncolumns = ["t.v"]\n')
    assert jondel("diff", path, "start", "--exit-code").returncode == 0
    assert jondel("diff", path, "start", "--exit-code", "--noise").returncode == 4
    other = make("CREATE TABLE t(id INTEGER PRIMARY KEY, v TEXT)", name="other.db")
    assert jondel("compare", path, other, "--exit-code").returncode == 4
    assert jondel("compare", path, path, "--exit-code").returncode == 0


def test_watching_some_steps_says_whether_they_changed_anything(
    make: MakeDatabase, home: Path, app: OpenApp
) -> None:
    path = make(*_T)
    command = _jondel("watch", path, "--steps", "1", "--settle", "0.1", "--exit-code")
    writer = app(path)
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
        while running.poll() is None:  # it begins with what is there when it has begun
            writer.run("INSERT INTO t(v) VALUES ('b')")
            time.sleep(0.5)
    assert running.returncode == 4


def test_text_is_cut_on_a_terminal_alone(
    make: MakeDatabase, jondel: JondelCommand, app: OpenApp
) -> None:
    path = make(*_T, "INSERT INTO t VALUES (2, NULL)")
    jondel("snapshot", path, "--label", "start")
    app(path).run("UPDATE t SET v = ? WHERE id = 2", _LONG)
    app(path).run("INSERT INTO t VALUES (3, ?)", _LONG)
    for arguments in (
        ("diff", path, "start"),
        ("query", path, "SELECT v FROM t"),
        ("history", path, "t", "2"),
    ):
        assert _LONG.strip() in jondel(*arguments).stdout
        cut = on_a_terminal(*arguments).decode()
        assert _LONG.strip() not in cut
        assert "…" in cut


def test_schema_changes_say_from_what_to_what(
    make: MakeDatabase, jondel: JondelCommand, app: OpenApp
) -> None:
    crews = _T[0].replace("TABLE t", "TABLE crews")
    boats = "CREATE TABLE boats(id INTEGER PRIMARY KEY, length INT)"
    path = make(boats, crews, "INSERT INTO crews VALUES (1, 'Ada')", *_T)
    jondel("snapshot", path, "--label", "start")
    writer = app(path)
    writer.run("ALTER TABLE t RENAME TO berths")
    writer.run("ALTER TABLE crews RENAME COLUMN v TO name")
    writer.run("DROP TABLE boats")
    writer.run("CREATE TABLE boats(id INTEGER PRIMARY KEY, length REAL NOT NULL DEFAULT 0)")
    told = jondel("diff", path, "start").stdout
    assert "schema  table renamed: berths, which was t\n" in told
    assert "schema  column renamed: crews.name, which was v\n" in told
    assert "schema  column altered: boats.length, from INT to REAL NOT NULL DEFAULT 0\n" in told


def test_changes_as_markdown_are_a_table_that_data_cannot_break(
    make: MakeDatabase, jondel: JondelCommand, app: OpenApp
) -> None:
    path = make(*_T, "INSERT INTO t VALUES (2, 'gone')")
    jondel("snapshot", path, "--label", "start")
    writer = app(path)
    writer.run("UPDATE t SET v = ? WHERE id = 1", "a | b\n# <b>*x*</b> `y` [z](w)")
    writer.run("DELETE FROM t WHERE id = 2")
    writer.run("INSERT INTO t VALUES (3, NULL)")
    told = jondel("diff", path, "start", "--format", "markdown").stdout
    lines = told.splitlines()
    assert lines[:4] == ["", "### t `+1 ~1 -1`", "", "|  | id | column | what |"]
    rows = [line for line in lines if line.startswith("|")]
    assert all(len(re.findall(r"(?<!\\)\|", row)) == 5 for row in rows)
    assert r" \| b⏎\# \<b\>\*x\*\</b\> \`y\` \[z\]\(w\)" in told
    assert jondel("diff", path, "start", "start", "--format", "markdown").stdout == "No changes.\n"
    asked = jondel("query", path, "SELECT id, v FROM t", "--format", "markdown").stdout
    assert asked.splitlines()[:2] == ["| id | v |", "| --- | --- |"]


def test_json_says_what_differs_inside_where_that_is_asked_for(
    make: MakeDatabase, jondel: JondelCommand, app: OpenApp
) -> None:
    path = make(*_T)
    app(path).run("UPDATE t SET v = ?", json.dumps({"pk": 6, "path": "0001"}))
    jondel("snapshot", path, "--label", "start")
    app(path).run("UPDATE t SET v = ?", json.dumps({"pk": 6, "path": "0002"}))
    plain = json.loads(jondel("diff", path, "start", "--json").stdout)
    assert "inside" not in plain["tables"][0]["changed"][0]["cells"]["v"]
    told = json.loads(jondel("diff", path, "start", "--json", "--inside").stdout)
    assert told["tables"][0]["changed"][0]["cells"]["v"]["inside"] == {
        "kind": "json",
        "members": [
            {
                "change": "changed",
                "path": ["path"],
                "before": "0001",
                "after": "0002",
            }
        ],
    }
    assert 'v  ~ path  "0001" → "0002"' in jondel("diff", path, "start").stdout


def test_jondels_own_files_are_not_found(
    make: MakeDatabase, jondel: JondelCommand, home: Path, tmp_path: Path
) -> None:
    path = make(*_T)
    jondel("snapshot", path)
    moved = tmp_path / "kept elsewhere"
    own = make(*_T, name="catalogue.db")  # an app's, for all its name
    assert {line.split("  ")[0] for line in jondel("find", tmp_path).stdout.splitlines()} == {
        str(path),
        str(own),
    }
    assert jondel("store", "move", moved).returncode == 0
    assert (moved / "catalogue.db").exists()
    assert {line.split("  ")[0] for line in jondel("find", tmp_path).stdout.splitlines()} == {
        str(path),
        str(own),
    }


def test_rules_are_added_to_what_others_wrote_meanwhile(
    make: MakeDatabase, jondel: JondelCommand, tmp_path: Path
) -> None:
    path = make(*_T)
    running = [
        subprocess.Popen(_jondel("noise", path, "add", "tables", f"t{number}"))
        for number in range(8)
    ]
    assert [process.wait(60) for process in running] == [0] * 8
    rules = json.loads(jondel("noise", path, "--json").stdout)["rules"]
    assert sorted(rule["name"] for rule in rules) == [f"t{number}" for number in range(8)]


@pytest.mark.parametrize(
    "words", [("snapshot",), ("diff", "s1"), ("query", "SELECT * FROM t"), ("trail",)], ids=str
)
def test_arrays_are_loaded_for_large_databases_only(
    make: MakeDatabase, jondel: JondelCommand, words: tuple[str, ...]
) -> None:
    path = make(*_T)
    jondel("snapshot", path)
    subprocess.run(_writing(path, "UPDATE t SET v = 3"), check=True)
    program = (
        "import sys; from jondel.cli.main import main\n"
        "try: main()\n"
        "except SystemExit as end: assert not end.code, end.code\n"
        "assert 'apsw' in sys.modules and 'numpy' not in sys.modules\n"
    )
    command = [sys.executable, "-c", program, words[0], path, *words[1:]]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
