"""Errors planted in sound data are found, each of its kind and in its place, and nothing else is."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest
import real_databases

from jondel.core.engines.registry import open_database
from jondel.core.errors import ProjectInvalid
from jondel.core.files.toml_entries import TomlFile
from jondel.core.findings.dismissals import Dismissal, dismiss, dismissals_in, without_dismissed
from jondel.core.findings.finding import Finding
from jondel.core.findings.looking import findings_of, findings_of_recorded_step
from jondel.core.model.addresses import TableId
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail

_MORE = """
CREATE TABLE flags(id INTEGER PRIMARY KEY, active TEXT, words TEXT);
CREATE TABLE codes(code TEXT PRIMARY KEY, title VARCHAR(40));
CREATE TABLE clubs(id INTEGER PRIMARY KEY, name TEXT, members INTEGER);
CREATE TABLE memberships(id INTEGER PRIMARY KEY, club_id INTEGER REFERENCES clubs(id));
"""


@pytest.fixture(scope="module")
def sound(harbour_template: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The harbour with fewer tide readings, without what is odd in it, and some more tables."""
    path = tmp_path_factory.mktemp("sound") / "harbour.db"
    shutil.copy(harbour_template, path)
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("PRAGMA journal_mode=DELETE")
        connection.execute("DELETE FROM tide_readings WHERE id > 4000")
        connection.execute("UPDATE skippers SET phone = trim(phone), note = NULL WHERE id = 142")
        connection.executescript(_MORE)
        words = [
            "calm",
            "tide",
            "at",
            "the",
            "north",
            "pier",
            "with",
            "some",
            "fog",
            "and",
            "a",
            "little",
            "swell",
            "from",
            "the",
            "west",
        ]
        for number in range(1, 61):
            text = " ".join(words[: 3 + number % 11])
            active = ("true", "false")[number % 3 == 0]
            connection.execute("INSERT INTO flags VALUES (?, ?, ?)", (number, active, text))
            connection.execute("INSERT INTO codes VALUES (?, ?)", (f"c{number}", text[:30].strip()))
        for number in range(1, 21):
            count = number % 5 + 1
            connection.execute(
                "INSERT INTO clubs VALUES (?, ?, ?)", (number, f"Club {number}", count)
            )
            for _ in range(count):
                connection.execute("INSERT INTO memberships(club_id) VALUES (?)", (number,))
        connection.commit()
    return path


def _findings(path: Path | str) -> list[Finding]:
    with (
        closing(open_database(str(path))) as database,
        closing(Trail(database.location)) as trail,
        trail.now(database) as (state, _),
    ):
        return list(findings_of(state, Project(database.location)))


def test_nothing_is_found_in_sound_data(sound: Path) -> None:
    assert _findings(sound) == []


@pytest.mark.parametrize(
    ("statement", "kind", "place"),
    [
        pytest.param(
            "UPDATE bookings SET note='' WHERE id=77",
            "empty text",
            "bookings.note",
            id="empty-text-bookings-note",
        ),
        pytest.param(
            "UPDATE skippers SET email='' WHERE id=7",
            "empty text",
            "skippers.email",
            id="empty-text-skippers-email",
        ),
        pytest.param(
            "UPDATE payments SET reference='' WHERE id=7",
            "empty text",
            "payments.reference",
            id="empty-text-payments-reference",
        ),
        pytest.param(
            "UPDATE bookings SET paid_at='' WHERE id=400",
            "empty text",
            "bookings.paid_at",
            id="empty-in-paid-at",
        ),
        pytest.param(
            "UPDATE bookings SET total='sixty' WHERE id=77",
            "type",
            "bookings.total",
            id="type-text-in-total",
        ),
        pytest.param(
            "UPDATE boats SET length_cm='12m' WHERE id=77",
            "type",
            "boats.length_cm",
            id="type-text-in-length",
        ),
        pytest.param(
            "UPDATE boats SET draught_cm='' WHERE id=77",
            "type",
            "boats.draught_cm",
            id="type-empty-in-draught",
        ),
        pytest.param(
            "UPDATE skippers SET name=x'ff00' WHERE id=77",
            "type",
            "skippers.name",
            id="blob-in-text",
        ),
        pytest.param(
            "UPDATE boats SET length_cm=12.5 WHERE id=77",
            "type",
            "boats.length_cm",
            id="real-in-int",
        ),
        pytest.param(
            "UPDATE bookings SET status=arrives_on, arrives_on=status WHERE id=77",
            "shifted",
            "bookings.status",
            id="swap-status-arrives",
        ),
        pytest.param(
            "UPDATE skippers SET name=email, email=name WHERE id=70",
            "shifted",
            "skippers.name",
            id="swap-name-email",
        ),
        pytest.param(
            "UPDATE skippers SET email=phone, phone=email WHERE id=(select id from skippers where email is not null and phone is not null limit 1)",
            "shifted",
            "skippers.email",
            id="swap-email-phone",
        ),
        pytest.param(
            "UPDATE invoices SET issued_at=due_on, due_on=issued_at WHERE id=70",
            "shifted",
            "invoices.issued_at",
            id="swap-amount-issued",
        ),
        pytest.param(
            "UPDATE fuel_sales SET pump=boat_id, litres=pump, price=litres, sold_at=price, note=sold_at WHERE id=70",
            "shifted",
            "fuel_sales.",
            id="shift-by-one-fuel",
        ),
        pytest.param(
            "UPDATE payments SET invoice_id=9999 WHERE id=5",
            "points at nothing",
            "payments.invoice_id",
            id="fk-declared",
        ),
        pytest.param(
            "UPDATE bookings SET boat_id=9999 WHERE id=5",
            "points at nothing",
            "bookings.boat_id",
            id="fk-boat",
        ),
        pytest.param(
            "UPDATE invoices SET booking_id=99999 WHERE id=5",
            "points at nothing",
            "invoices.booking_id",
            id="fk-guessed",
        ),
        pytest.param(
            "UPDATE web_sessions SET skipper_id=99999 WHERE token=(select min(token) from web_sessions)",
            "points at nothing",
            "web_sessions.skipper_id",
            id="fk-session",
        ),
        pytest.param(
            "UPDATE invoices SET issued_at='14/06/2026' WHERE id=5",
            "time format",
            "invoices.issued_at",
            id="time-format",
        ),
        pytest.param(
            "UPDATE payments SET received_at=replace(received_at,' ','T') WHERE id=5",
            "time format",
            "payments.received_at",
            id="time-t",
        ),
        pytest.param(
            "UPDATE payments SET received_at=received_at||'Z' WHERE id=5",
            "time format",
            "payments.received_at",
            id="time-z",
        ),
        pytest.param(
            "UPDATE tide_readings SET measured_at=measured_at||'+02:00' WHERE id=500",
            "time format",
            "tide_readings.measured_at",
            id="time-zone",
        ),
        pytest.param(
            "UPDATE payments SET received_at='1781354753' WHERE id=5",
            "time format",
            "payments.received_at",
            id="time-epoch-in-text",
        ),
        pytest.param(
            "UPDATE web_sessions SET last_seen_at=last_seen_at*1000 WHERE token=(select min(token) from web_sessions)",
            "time",
            "web_sessions.last_seen_at",
            id="time-ms",
        ),
        pytest.param(
            "UPDATE invoices SET due_on='0206-06-14' WHERE id=5",
            "time range",
            "invoices.due_on",
            id="time-far",
        ),
        pytest.param(
            "UPDATE payments SET received_at='1970-01-01 00:00:00' WHERE id=5",
            "time range",
            "payments.received_at",
            id="time-1970",
        ),
        pytest.param(
            "UPDATE bookings SET leaves_on='2126-06-14' WHERE id=5",
            "time range",
            "bookings.leaves_on",
            id="time-2126",
        ),
        pytest.param(
            "UPDATE web_sessions SET last_seen_at=17 WHERE token=(select min(token) from web_sessions)",
            "time",
            "web_sessions.last_seen_at",
            id="epoch-0-sessions",
        ),
        pytest.param(
            "UPDATE boats SET name=name||' ' WHERE id=5", "blanks", "boats.name", id="blanks"
        ),
        pytest.param(
            "UPDATE boats SET name=name||char(9) WHERE id=5", "blanks", "boats.name", id="tab"
        ),
        pytest.param(
            "UPDATE boats SET name=char(160)||name WHERE id=5", "blanks", "boats.name", id="nbsp"
        ),
        pytest.param(
            "UPDATE skippers SET name=cast(x'41ff42' as text) WHERE id=5",
            "encoding",
            "skippers.name",
            id="invalid-utf8",
        ),
        pytest.param(
            "UPDATE skippers SET name='ZoÃ« SÃ¸rensen' WHERE id=5",
            "encoding",
            "skippers.name",
            id="twice",
        ),
        pytest.param(
            "UPDATE skippers SET name='Ada'||char(7)||'Birk' WHERE id=5",
            "control characters",
            "skippers.name",
            id="control",
        ),
        pytest.param(
            "UPDATE skippers SET name='Ada'||char(0)||'Birk' WHERE id=5",
            "control characters",
            "skippers.name",
            id="nul",
        ),
        pytest.param(
            "UPDATE web_sessions SET data='{\"skipper\": 1, ' WHERE token=(select min(token) from web_sessions)",
            "json",
            "web_sessions.data",
            id="json-broken",
        ),
        pytest.param(
            'UPDATE web_sessions SET data=\'{"skipper": "1", "csrf": "aa"}\' WHERE token=(select min(token) from web_sessions)',
            "json",
            "web_sessions.data",
            id="json-member",
        ),
        pytest.param(
            "UPDATE web_sessions SET data='{''skipper'': 1}' WHERE token=(select max(token) from web_sessions)",
            "json",
            "web_sessions.data",
            id="json-single-quotes",
        ),
        pytest.param(
            "UPDATE boats SET registration='sm-1017' WHERE id=5",
            "near duplicate",
            "boats.registration",
            id="near-dup-reg",
        ),
        pytest.param(
            "UPDATE skippers SET email=(select upper(email) from skippers where id=9) WHERE id=12",
            "near duplicate",
            "skippers.email",
            id="near-dup-email",
        ),
        pytest.param(
            "UPDATE bookings SET status='heldd' WHERE id=5",
            "rare value",
            "bookings.status",
            id="rare-status",
        ),
        pytest.param(
            "UPDATE bookings SET status='Left' WHERE id=5",
            "rare value",
            "bookings.status",
            id="rare-case",
        ),
        pytest.param(
            "UPDATE tide_readings SET quality='ok' WHERE id=500",
            "rare value",
            "tide_readings.quality",
            id="rare-quality",
        ),
        pytest.param(
            "UPDATE payments SET method='crad' WHERE id=5",
            "rare value",
            "payments.method",
            id="rare-method",
        ),
        pytest.param(
            "UPDATE berths SET state='fre' WHERE id=5", "rare value", "berths.state", id="rare-side"
        ),
        pytest.param(
            "UPDATE bookings SET status='cancelled' WHERE id=(select booking_id from berths where booking_id is not null limit 1)",
            "rare value",
            "bookings.status",
            id="cancelled-holds-berth",
        ),
        pytest.param(
            "UPDATE berths SET has_power=2 WHERE id=5",
            "rare value",
            "berths.has_power",
            id="int-2-in-bool",
        ),
        pytest.param(
            "UPDATE payments SET amount=amount+1 WHERE id=5", "total", "invoices.amount", id="total"
        ),
        pytest.param(
            "UPDATE invoices SET amount=amount*2 WHERE id=5",
            "total",
            "bookings.total",
            id="total-booking",
        ),
        pytest.param(
            "UPDATE flags SET active='yes' WHERE id=5",
            "boolean spelling",
            "flags.active",
            id="boolean-spelled-otherwise",
        ),
        pytest.param(
            "UPDATE flags SET words=(SELECT substr(group_concat(words, ' and so on '), 1, 254) || 'x' FROM flags) WHERE id=6",
            "cut",
            "flags.words",
            id="cut-prose",
        ),
        pytest.param(
            "INSERT INTO codes VALUES (NULL, 'calm tide at the')",
            "constraint",
            "codes.code",
            id="null-in-a-key",
        ),
        pytest.param(
            "UPDATE codes SET title='a title of more letters than are declared' WHERE code='c5'",
            "constraint",
            "codes.title",
            id="longer-than-declared",
        ),
        pytest.param(
            "UPDATE clubs SET members=members+1 WHERE id=3",
            "total",
            "clubs.members",
            id="wrong-counter",
        ),
    ],
)
def test_a_planted_error_is_found(
    sound: Path, tmp_path: Path, statement: str, kind: str, place: str
) -> None:
    path = tmp_path / "harbour.db"
    shutil.copy(sound, path)
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute(statement).rowcount == 1
        connection.commit()
    found = _findings(path)
    assert any(f.kind.startswith(kind) and f.place.startswith(place) for f in found), found
    # What a wrong number makes wrong in turn is told too; nothing else is.
    assert len(found) == 1 or {f.kind for f in found} == {"total"}, found
    with closing(sqlite3.connect(path)) as connection:
        for finding in found:
            assert finding.table is not None
            condition = " AND ".join(f'"{name}" IS ?' for name in finding.key_columns)
            rows = connection.execute(
                f'SELECT count(*) FROM "{finding.table.name}" WHERE {condition}', finding.key
            ).fetchone()
            assert rows[0] >= 1, "it leads to the record"


_BUGS = {
    "check-in": ("time format", "bookings.checked_in_at"),
    "sell-fuel": ("empty text", "fuel_sales.note"),
    "settle-invoice": ("shifted", "payments.method"),
    "cancel-booking": ("rare value", "bookings.status"),
}


@pytest.mark.parametrize("action", _BUGS)
@pytest.mark.parametrize("mended", [False, True], ids=["as-it-is", "mended"])
def test_what_harbour_desk_does_wrong_is_found_in_its_step(
    harbour: Path, action: str, mended: bool
) -> None:
    with closing(open_database(str(harbour))) as database, closing(Trail(str(harbour))) as trail:
        before = trail.take(database)
        _desk(action, str(harbour), mended=mended)
        after = trail.take(database)
        found = list(findings_of_recorded_step(trail, before, after, Project(str(harbour))))
    kinds = [(finding.kind, finding.place) for finding in found]
    if mended:
        assert kinds == []
        return
    assert _BUGS[action] in kinds
    if action == "sell-fuel":
        assert ("points at nothing", "invoices.booking_id") in kinds


def _desk(action: str, database: str, *, mended: bool) -> None:
    program = [sys.executable, "-m", "jondel.demo.harbour_desk", action, "--database", database]
    subprocess.run([*program, *(["--mended"] if mended else [])], check=True, capture_output=True)


def test_the_same_is_found_on_a_server(postgresql_database: str) -> None:
    subprocess.run(
        [
            sys.executable,
            "-m",
            "jondel.demo.harbour_desk",
            "init",
            "--database",
            postgresql_database,
        ],
        check=True,
    )
    _desk("check-in", postgresql_database, mended=False)
    _desk("settle-invoice", postgresql_database, mended=False)
    found = {(f.kind, f.place) for f in _findings(postgresql_database)}
    assert ("time format", "public.bookings.checked_in_at") in found
    assert ("shifted", "public.payments.method") in found


def test_what_is_dismissed_is_not_told_again(tmp_path: Path) -> None:
    project = Project(str(tmp_path / "app.db"))
    dismiss(project, Dismissal("blanks", "skippers.*", "as on the card"))
    known = dismissals_in(TomlFile(project.file))
    finding = Finding("blanks", None, "", (), (), " x", "", 0.9)
    of_skippers = Finding("blanks", TableId("skippers"), "phone", ("id",), (1,), " x", "", 0.9)
    assert list(without_dismissed([finding, of_skippers], known)) == [finding]
    project.file.write_text('[[dismissed]]\nkind = "blank"\nwhere = "a.b"\n')
    with pytest.raises(
        ProjectInvalid, match=r"line 2: dismissed\[0\].kind: .*did you mean 'blanks'"
    ):
        dismissals_in(TomlFile(project.file))


@pytest.fixture(scope="module")
def interpreter(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """One with the packages of real applications; takes some minutes to install."""
    return real_databases.make_environment(tmp_path_factory.mktemp("packages"))


@pytest.mark.skipif("JONDEL_SOAK" not in os.environ, reason="installs real applications")
@pytest.mark.parametrize("name", real_databases.PROGRAMS)
def test_real_databases_raise_no_false_alarms(interpreter: Path, tmp_path: Path, name: str) -> None:
    path = tmp_path / "real.db"
    real_databases.write_database(interpreter, name, path)
    tables = [finding.table for finding in _findings(path)]
    assert all(tables.count(table) <= 1 for table in tables), _findings(path)


def test_broken_json_is_found_among_the_last_of_many_documents(tmp_path: Path) -> None:
    path = tmp_path / "many.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE logs(id INTEGER PRIMARY KEY, data TEXT)")
        connection.executemany(
            "INSERT INTO logs VALUES (?, ?)",
            (
                (number, f'{{"boat": {number}, "at": {{"berth": {number % 60}}}}}')
                for number in range(1, 20_001)
            ),
        )
        connection.execute("""UPDATE logs SET data = '{"boat": 7, "at":' WHERE id = 19000""")
        connection.execute("""UPDATE logs SET data = '{"boat": "7", "at": {}}' WHERE id = 19500""")
        connection.commit()
    with closing(open_database(str(path))) as database:
        found = {(f.kind, f.key) for f in findings_of(database, Project(str(path)))}
    assert {("json", (19000,)), ("json", (19500,))} <= found
