"""`jondel verify`, `findings` and `record --expect`, on Harbour Desk with and without its faults."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import JondelCommand

_DESK = f"{sys.executable} -m jondel.demo.harbour_desk"
_ACTIONS = ("book-berth", "check-in", "sell-fuel", "settle-invoice", "cancel-booking")
_FAULTY = {"check-in", "sell-fuel", "settle-invoice", "cancel-booking"}


def _write_plan(folder: Path, database: str, *, mended: bool, more: str = "") -> None:
    lines = [f'[verify]\ndatabase = "{database}"\n[watch]\nsettle = 0.05\n']
    for name in _ACTIONS:
        lines.append(
            f'\n[[actions]]\nname = "{name}"\n'
            f'command = "{_DESK} {name} --database ${{database}}{" --mended" if mended else ""}"\n'
            f'from = "start"\n{more}'
        )
    path = folder / "jondel.toml"
    text = path.read_text() if path.exists() else ""
    expectations = text[text.index("[[expectations]]") :] if "[[expectations]]" in text else ""
    path.write_text("".join(lines) + "\n" + expectations)


@pytest.fixture(params=["sqlite", "postgresql"])
def database(request: pytest.FixtureRequest, harbour: Path) -> str:
    """The harbour in a file, or on a server."""
    if request.param == "sqlite":
        return harbour.name
    url = str(request.getfixturevalue("postgresql_database"))
    subprocess.run([*_DESK.split(), "init", "--database", url], check=True)
    return url


def test_faults_are_told_from_what_was_accepted(
    jondel: JondelCommand, tmp_path: Path, database: str
) -> None:
    assert jondel("snapshot", database, "--label", "start").returncode == 0
    _write_plan(tmp_path, database, mended=True)
    done = jondel("verify", "--accept")
    assert done.returncode == 0, done.stderr
    done = jondel("verify")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "5 runs: 5 met" in done.stdout
    _write_plan(tmp_path, database, mended=False)
    done = jondel("verify", "--json", "--junit", "out/junit.xml")
    assert done.returncode == 3, done.stderr
    results = {entry["name"]: entry for entry in json.loads(done.stdout)["actions"]}
    assert {name for name, entry in results.items() if entry["met"] is False} == _FAULTY
    cells = {
        column
        for entry in results.values()
        for record in entry["differing"]
        for column in record["cells"]
    }
    assert cells == {"checked_in_at", "note", "booking_id", "method", "reference"}
    (missing,) = results["cancel-booking"]["missing"]
    assert missing["table"] == "berths"
    suite = ElementTree.parse(tmp_path / "out/junit.xml").getroot()[0]
    assert (suite.get("tests"), suite.get("failures")) == ("5", "4")
    step = results["check-in"]["step"]
    assert f"look at {results['check-in']['step']}" in done.stderr
    changed = jondel("trail", database, "--json")
    assert step in {entry["id"] for entry in json.loads(changed.stdout)["steps"]}


def test_only_what_is_wanted_runs_and_a_slip_is_told(
    jondel: JondelCommand, tmp_path: Path, harbour: Path
) -> None:
    jondel("snapshot", harbour, "--label", "start")
    _write_plan(tmp_path, harbour.name, mended=True)
    done = jondel("verify", "--only", "sell-fuel", "--json")
    assert [entry["name"] for entry in json.loads(done.stdout)["actions"]] == ["sell-fuel"]
    assert done.returncode == 0
    done = jondel("verify", "--only", "sel-fuel")
    assert "did you mean 'sell-fuel'?" in done.stderr
    assert done.returncode == 1


def test_actions_on_copies_leave_the_database_alone(
    jondel: JondelCommand, tmp_path: Path, harbour: Path
) -> None:
    jondel("snapshot", harbour, "--label", "start")
    before = harbour.read_bytes()
    _write_plan(tmp_path, harbour.name, mended=True, more="copy = true\nrepeat = 2\n")
    assert jondel("verify", "--accept").returncode == 0
    done = jondel("verify")
    assert "10 runs: 10 met" in done.stdout, done.stdout + done.stderr
    assert harbour.read_bytes() == before
    copies = list((tmp_path / "jondel-home" / "copies").rglob("*.db"))
    assert copies == [], "what met its expectation is not kept"
    _write_plan(tmp_path, harbour.name, mended=False, more="copy = true\n")
    done = jondel("verify")
    assert done.returncode == 3
    assert len(list((tmp_path / "jondel-home" / "copies").rglob("*.db"))) == 4
    target = next(line for line in done.stderr.splitlines() if "look at" in line).split()[-1]
    assert json.loads(jondel("trail", target, "--json").stdout)["steps"]


def test_an_action_that_fails_half_way_is_a_finding(
    jondel: JondelCommand, tmp_path: Path, harbour: Path
) -> None:
    (tmp_path / "app.py").write_text(
        "import sqlite3, sys\n"
        f"c = sqlite3.connect({str(harbour)!r})\n"
        "c.execute(\"INSERT INTO pontoons(name, side) VALUES ('E', 'east')\"); c.commit()\n"
        "sys.exit('the printer is out of paper')\n"
    )
    (tmp_path / "jondel.toml").write_text(
        f'[verify]\ndatabase = "{harbour.name}"\n[[actions]]\nname = "print"\n'
        f'command = ["{sys.executable}", "app.py"]\nsettle = 0.0\n'
    )
    done = jondel("verify")
    assert done.returncode == 3
    assert "failed: the app exited with 1: the printer is out of paper" in done.stdout
    (found,) = json.loads(jondel("findings", harbour, "--step", "last", "--json").stdout)[
        "findings"
    ]
    assert found["kind"] == "half done"
    assert "pontoons +1" in found["evidence"]


_TWICE = (
    "import sqlite3; c = sqlite3.connect('saltmarsh.db'); "
    "c.execute('UPDATE boats SET length_cm = 501 WHERE id = 1'); c.commit(); "
    "c.execute('UPDATE boats SET length_cm = 502 WHERE id = 1'); c.commit()"
)


def test_one_transaction_can_be_asked_for(
    jondel: JondelCommand, tmp_path: Path, harbour: Path
) -> None:
    def record(*more: str) -> subprocess.CompletedProcess[str]:
        return jondel(
            "record", harbour, "--expect", "lengthen", *more, "--", sys.executable, "-c", _TWICE
        )

    with closing(sqlite3.connect(harbour)) as connection:
        connection.execute("PRAGMA journal_mode=DELETE")
    jondel("snapshot", harbour, "--label", "start")
    assert "accepted" in record().stderr
    jondel("restore", harbour, "start", "--yes")
    assert "lengthen: met" in record().stderr
    plan = tmp_path / "jondel.toml"
    plan.write_text(
        plan.read_text().replace('name = "lengthen"', 'name = "lengthen"\ntransactions = 1')
    )
    jondel("restore", harbour, "start", "--yes")
    done = record()
    assert done.returncode == 3
    assert "written in 2 transactions, expected 1" in done.stderr


def test_findings_are_listed_and_dismissed(
    jondel: JondelCommand, tmp_path: Path, harbour: Path
) -> None:
    done = jondel("findings", harbour, "--json", "--exit-code")
    assert done.returncode == 4
    kinds = {(f["kind"], f["table"], f["column"]) for f in json.loads(done.stdout)["findings"]}
    assert kinds == {("blanks", "skippers", "phone"), ("empty text", "skippers", "note")}
    assert jondel("findings", harbour, "--dismiss", "blanks", "skippers.phone",
                  "--reason", "as on the card").returncode == 0  # fmt: skip
    done = jondel("findings", harbour, "--table", "skippers")
    assert done.stdout.startswith('empty text: skippers.note 142 ""')
    assert "1 finding not shown" in done.stderr
    done = jondel("findings", harbour, "--dismiss", "blank", "x")
    assert done.returncode == 2
    assert "'blank' is none of" in done.stderr


def test_without_a_file_or_a_database_it_says_what_to_write(
    jondel: JondelCommand, tmp_path: Path
) -> None:
    assert "there is no jondel.toml here" in jondel("verify").stderr
    (tmp_path / "jondel.toml").write_text("[[actions]]\nname = 'x'\ncommand = 'true'\n")
    assert 'write [verify] and database = "app.db"' in jondel("verify").stderr
    (tmp_path / "jondel.toml").write_text("[verify]\ndatabase = 'app.db'\n")
    assert "has no actions" in jondel("verify").stderr


def test_secrets_are_in_nothing_that_is_kept(
    jondel: JondelCommand, tmp_path: Path, harbour: Path, home: Path
) -> None:
    secret = "hunter-two-and-a-half"
    (tmp_path / "jondel.toml").write_text(
        f'[verify]\ndatabase = "{harbour.name}"\n[[actions]]\nname = "sign in"\nsettle = 0.0\n'
        f'command = ["{sys.executable}", "-c", "import sys; sys.exit(sys.argv[1])", "${{env:PASS}}"]\n'
    )
    done = jondel("verify", "--json", "--junit", "j.xml", env={**os.environ, "PASS": secret})
    assert done.returncode == 3
    assert "***" in done.stdout
    kept = [path for path in (*home.rglob("*"), tmp_path / "j.xml") if path.is_file()]
    assert all(secret.encode() not in path.read_bytes() for path in kept)
    assert secret not in done.stdout + done.stderr


@pytest.mark.parametrize("form", ["json", "html", "md"])
def test_a_report_has_findings_and_nothing_of_what_is_masked(
    jondel: JondelCommand, tmp_path: Path, harbour: Path, form: str
) -> None:
    jondel("snapshot", harbour, "--label", "start")
    _write_plan(tmp_path, harbour.name, mended=False)
    assert jondel("verify", "--accept").returncode == 0
    path = tmp_path / "jondel.toml"
    path.write_text(path.read_text().replace('reference = "card"', 'reference = "cash"'))
    report = tmp_path / f"report.{form}"
    done = jondel(
        "verify", "--json", "--report", report.name, "--junit", "junit.xml",
        "--mask", "payments.reference", "--mask", "payments.amount",
    )  # fmt: skip
    assert done.returncode == 3
    with closing(sqlite3.connect(harbour)) as connection:
        ((amount,),) = connection.execute("SELECT amount FROM payments ORDER BY id DESC LIMIT 1")
    told = [done.stdout, report.read_text(), (tmp_path / "junit.xml").read_text()]
    assert "empty text: fuel_sales.note" in told[1].replace("\\", "")
    assert "masked 1" in told[1]
    for text in told:
        assert "settled by" not in text, "what the app said can hold anything"
        assert '"cash"' not in text
        assert f"amount {amount}" not in text
    assert "no column payments.nothing" in jondel("verify", "--mask", "payments.nothing").stderr
