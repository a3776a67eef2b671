"""The pytest plugin in test runs of its own: what it gives, says and leaves."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

pytest_plugins = ["pytester"]

_SUITE = """
import sqlite3, subprocess, sys
import pytest

def write(path, *statements):
    with sqlite3.connect(path) as connection:
        for statement in statements:
            connection.execute(statement)
    connection.close()

@pytest.fixture
def database(jondel_database):
    return jondel_database("app.db", restore=True)
"""


@pytest.fixture
def suite(pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Path:
    """A project with a database, and a file of tests to which each test adds its own."""
    monkeypatch.setenv("JONDEL_HOME", str(tmp_path / "home"))
    with closing(sqlite3.connect(pytester.path / "app.db")) as connection:
        connection.executescript(
            "CREATE TABLE boats(id INTEGER PRIMARY KEY, name TEXT, at TEXT);"
            "CREATE TABLE log(id INTEGER PRIMARY KEY, words TEXT);"
            "INSERT INTO boats VALUES (1, 'Curlew', NULL), (2, 'Wigeon', NULL);"
        )
    return pytester.path


def _run(pytester: pytest.Pytester, tests: str, *options: str) -> pytest.RunResult:
    pytester.makepyfile(test_app=_SUITE + tests)
    return pytester.runpytest_subprocess("-p", "no:cacheprovider", "-q", *options)


def _rows(folder: Path, sql: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(folder / "app.db")) as connection:
        return connection.execute(sql).fetchall()


def test_changes_are_plain_python(pytester: pytest.Pytester, suite: Path) -> None:
    result = _run(
        pytester,
        """
def test_it(database):
    with database.record("rename") as step:
        write("app.db", "UPDATE boats SET name = 'Ebb' WHERE id = 1",
              "INSERT INTO boats(name) VALUES (NULL)", "DELETE FROM boats WHERE id = 2")
    assert step.counts == {"boats": "+1 ~1 -1"}
    ((key, before, after),) = step.changed("boats")
    assert (key, before["name"], after["name"]) == ((1,), "Curlew", "Ebb")
    assert step.added("boats") == [{"id": 3, "name": None, "at": None}]
    assert step.removed("boats")[0]["name"] == "Wigeon"
    assert step.added("log") == []
    assert step.transactions.count == 1
    with pytest.raises(Exception, match="no table 'boat'"):
        step.added("boat")

def test_whatever_language_it_is_in(database):
    with database.record() as step:
        subprocess.run([sys.executable, "-c", "import sqlite3; c = sqlite3.connect('app.db'); "
                        "c.execute('DELETE FROM boats'); c.commit()"], check=True)
    assert step.counts == {"boats": "-2"}, "as the test before left it"

def test_nothing(database):
    with database.record() as step:
        pass
    assert step.counts == {}
""",
    )
    result.assert_outcomes(passed=3)
    assert _rows(suite, "SELECT name FROM boats") == [("Curlew",), ("Wigeon",)]


def test_an_expectation_is_accepted_and_then_held(pytester: pytest.Pytester, suite: Path) -> None:
    tests = """
def test_it(database):
    with database.record("add a boat") as step:
        write("app.db", "INSERT INTO boats(name, at) VALUES ('Halyard', datetime('now'))")
    step.expect()
"""
    result = _run(pytester, tests)
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*there is no expectation 'add a boat'*--jondel-accept*"])
    _run(pytester, tests, "--jondel-accept").assert_outcomes(passed=1)
    assert "add a boat" in (suite / "jondel.toml").read_text()
    _run(pytester, tests).assert_outcomes(passed=1)
    result = _run(pytester, tests.replace("Halyard", "Halyrad"))
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(
        ["*add a boat: 1 differing*", "*name  Halyrad, expected Halyard*", "*boats  +1*"]
    )


def test_a_test_that_fails_is_put_back_too(pytester: pytest.Pytester, suite: Path) -> None:
    result = _run(
        pytester,
        """
def test_fails(database):
    with database.record():
        write("app.db", "DELETE FROM boats")
        assert False, "on purpose"

def test_sees_nothing_of_it(database):
    with database.record() as step:
        write("app.db", "DELETE FROM boats")
    assert step.counts == {"boats": "-2"}
""",
    )
    result.assert_outcomes(passed=1, failed=1)
    result.stdout.fnmatch_lines(["*on purpose*"])
    assert len(_rows(suite, "SELECT * FROM boats")) == 2


def test_workers_side_by_side_do_not_mix(pytester: pytest.Pytester, suite: Path) -> None:
    tests = "".join(
        f"""
def test_{number}(jondel_database, tmp_path):
    import shutil
    path = shutil.copy("app.db", tmp_path / "own.db")
    database = jondel_database(path, restore=True)
    with database.record("add {number}") as step:
        write(path, "INSERT INTO log(words) VALUES ('{number}')")
    assert [row["words"] for row in step.added("log")] == ["{number}"]
"""
        for number in range(8)
    )
    _run(pytester, tests, "-n", "2").assert_outcomes(passed=8)


def test_noise_of_the_project_is_left_out(pytester: pytest.Pytester, suite: Path) -> None:
    (suite / "jondel.toml").write_text('[noise]\ntables = ["log"]\n')
    result = _run(
        pytester,
        """
def test_it(database):
    with database.record() as step:
        write("app.db", "INSERT INTO log(words) VALUES ('x')", "DELETE FROM boats WHERE id = 1")
    assert step.counts == {"boats": "-1"}
""",
    )
    result.assert_outcomes(passed=1)


def test_what_cannot_be_opened_is_said(pytester: pytest.Pytester, suite: Path) -> None:
    (suite / "other.db").write_text("no database at all. " * 99)
    result = _run(pytester, "def test_it(jondel_database):\n    jondel_database('other.db')\n")
    result.assert_outcomes(failed=1)
    result.stdout.fnmatch_lines(["*NotADatabase*other.db*"])


def test_pytest_loads_nothing_of_it_before_it_is_asked_for() -> None:
    program = "import sys, jondel.testing.plugin; print(*sys.modules)"
    done = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, check=True
    )
    loaded = done.stdout.split()
    assert not {"apsw", "numpy", "jondel.core.trail.trail", "httpx"} & set(loaded)
