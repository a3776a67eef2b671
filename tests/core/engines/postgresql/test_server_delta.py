"""What changed on a server is told as a naive reading of everything finds it."""

from __future__ import annotations

import random
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack, closing
from pathlib import Path
from typing import Any

import psycopg
import pytest
from server_work import Work, keep_as_template, make, naive_reading, put_back, reader, slot

from jondel.core.diff.compare import compare
from jondel.core.engines.delta import Known
from jondel.core.engines.postgresql import delta, key_ranges
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.delta import ServerDelta
from jondel.core.engines.postgresql.marks import ServerCommits
from jondel.core.engines.postgresql.server_features import ServerFeatures
from jondel.core.engines.postgresql.session import Session
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import Cancelled, TargetLocked
from jondel.core.mirror.mirror import Mirror
from jondel.core.mirror.state import mirrored_state, open_mirrored
from jondel.core.model.addresses import TableId
from jondel.core.model.values import Exact
from jondel.core.trail.trail import Trail
from seeds import length, seeds

_COPY = psycopg.Cursor.copy
_FEATURES = {
    "xmin": None,
    "ranges": None,
    "sums": ServerFeatures(numbers=False, copies=True),
    "selected": ServerFeatures(numbers=True, copies=False),
    "as a user": None,
}
Rows = Counter[tuple[str | None, ...]]


@pytest.fixture
def session(postgresql_database: str) -> Iterator[Session]:
    with closing(Session(postgresql_database, "harbour")) as opened:
        yield opened


def _text(value: Any) -> str | None:
    if isinstance(value, Exact):
        return value.text if value.kind != "boolean" else value.text[0]
    return value if value is None or isinstance(value, str) else repr(value)


def _mirrored(state: Database) -> dict[str, Rows]:
    """All rows that a state holds, as text."""
    found = {}
    for table in state.schema().tables:
        if table.is_mirrored:
            order = table.primary_key or table.column_names
            batches = state.scanner.stream_rows(table, table.column_names, order)
            found[table.name] = Counter(
                tuple(map(_text, row)) for batch in batches for row in batch
            )
    return found


def _plain(read: dict[str, Rows], state: Database) -> dict[str, Rows]:
    """A naive reading with floats as the mirror's are written."""
    plain = {}
    for name, rows in read.items():
        table = state.schema().named(name)
        assert table is not None, name
        real = [column.type.kind == "real" for column in table.columns]
        plain[name] = Counter()
        for row, times in rows.items():
            cells = (
                repr(float(v)) if r and v is not None else v for v, r in zip(row, real, strict=True)
            )
            plain[name][tuple(cells)] += times
    return plain


@pytest.mark.parametrize("way", _FEATURES)
@pytest.mark.parametrize("seed", seeds("JONDEL_SERVER_SEEDS", 6))
def test_random_work_is_told_as_a_naive_reading_finds_it(
    seed: int,
    way: str,
    postgresql: str,
    postgresql_database: str,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    make(postgresql_database)
    mirror = Mirror(tmp_path / "mirror")
    if way == "ranges":  # as of large tables
        monkeypatch.setattr(delta, "FEWEST_ROWS", 0)
        monkeypatch.setattr(key_ranges, "_FEWEST_IN_A_RANGE", 3)
        monkeypatch.setattr(key_ranges, "_MOST_SPANS", 20)
    turns = length(6, 25)
    # A database that is decoded cannot be dropped.
    kept_at = turns // 3 if seed % 3 == 2 else None
    with ExitStack() as stack:
        url = postgresql_database
        if way == "as a user":
            url = stack.enter_context(reader(postgresql_database))
        reading = stack.enter_context(closing(Session(url, "harbour")))
        source = ServerDelta(reading, _FEATURES[way])
        trail = stack.enter_context(closing(Trail(str(mirror.path))))
        decoded = stack.enter_context(slot(postgresql_database)) if kept_at is None else None
        work = Work(postgresql_database, seed)
        stack.callback(lambda: work.close())
        readings, taken, template = [], [], ""
        for number in range(turns):
            done = work.turn(length(12, 20)) if number else []
            if kept_at is not None and number in (kept_at, 2 * kept_at):
                work.close()
                if number == kept_at:
                    template = keep_as_template(postgresql, postgresql_database)
                else:
                    put_back(postgresql, postgresql_database, template)
                work = Work(postgresql_database, seed + 1000 + number)
                work.turn(3)
            touched = decoded() if decoded is not None and way != "as a user" else None
            if (seed + number) % 5 == 4:
                (mirror.path.parent / "hints.json").unlink(missing_ok=True)
            mirror.update(source)
            read = naive_reading(url)
            with closing(open_mirrored(mirror.path)) as state:
                assert _mirrored(state) == _plain(read, state), done
            with closing(open_database(mirror.path)) as live:
                taken.append(trail.take(live))
            readings.append(read)
            if number:
                _check_diff(trail, taken[-2:], readings[-2:], touched)
        before = mirror.path.read_bytes()
        mirror.update(ServerDelta(reading, ServerFeatures(numbers=False, copies=True)))
        assert mirror.path.read_bytes() == before, "reading everything again finds nothing more"
        mirror.update(source)
        assert mirror.path.read_bytes() == before


@pytest.mark.parametrize("lost", [False, True], ids=["", "hints lost"])
@pytest.mark.parametrize("seed", seeds("JONDEL_SERVER_SEEDS", 4))
def test_few_changes_in_a_large_table(
    seed: int, lost: bool, postgresql_database: str, session: Session, tmp_path: Path
) -> None:
    """Keys far apart and close together, both ends of what a number holds among them."""
    pick = random.Random(seed)
    apart = pick.choice([1, 3, 1 << 49])
    mirror, source = Mirror(tmp_path / "mirror"), ServerDelta(session)
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        app.execute("CREATE TABLE t(k int8, n int, v text, PRIMARY KEY (k, n))")
        app.execute(
            "INSERT INTO t SELECT i * %s::int8, 0, 'first' FROM generate_series(-3000, 3000) i",
            (apart,),
        )
        for number in range(length(8, 40)):
            for _ in range(pick.randrange(4) if number else 0):
                key = pick.randrange(-3010, 3010) * apart
                ends = pick.choice([-(1 << 63), (1 << 63) - 1, key])
                app.execute(
                    pick.choice(
                        [
                            f"UPDATE t SET v = 'later {number}' WHERE k = {key}",
                            f"DELETE FROM t WHERE k = {key}",
                            f"DELETE FROM t WHERE k BETWEEN {key - 90} AND {key + 90}",
                            f"INSERT INTO t VALUES ({ends}, {number}, 'new') "
                            "ON CONFLICT DO NOTHING",
                            f"UPDATE t SET k = k + {apart}, n = {number + 1} WHERE k = {key}",
                            f"WITH gone AS (DELETE FROM t WHERE k = {key} RETURNING k) "
                            f"INSERT INTO t SELECT k, {number} + 50, 'again' FROM gone",
                        ]
                    )
                )
            if lost and number % 3 == 2:
                (mirror.path.parent / "hints.json").unlink()
            mirror.update(source)
            read = naive_reading(postgresql_database)
            with closing(open_mirrored(mirror.path)) as state:
                assert _mirrored(state) == _plain(read, state), number


def _check_diff(
    trail: Trail,
    taken: list[Any],
    readings: list[dict[str, Rows]],
    touched: set[tuple[str, str]] | None,
) -> None:
    """A step's changes are those that two naive readings differ by, and that were decoded."""
    before, after = (mirrored_state(trail.open(s), "harbour", "harbour") for s in taken)
    with closing(before), closing(after):
        told = compare(before, after)
        was, now = _plain(readings[0], before), _plain(readings[1], after)
    assert not told.unread
    renamed = {c.table.name for c in told.schema_changes if c.table is not None}
    for name in was.keys() & now.keys() - renamed:
        entry = told.table(TableId("public", name))
        gone, came = was[name] - now[name], now[name] - was[name]
        records = entry.records if entry is not None else ()
        old: Rows = Counter(tuple(map(_text, r.before)) for r in records if r.before is not None)
        new: Rows = Counter(tuple(map(_text, r.after)) for r in records if r.after is not None)
        assert (old, new) == (gone, came), name
        if touched is not None and name in ("boats", "places", "berths"):
            keys = {_text(record.key[0]) for record in records}
            assert {(name, key) for key in keys} <= touched, name


class Harbour:
    """A database on a server with its mirror, and the app's connection to it."""

    def __init__(self, url: str, session: Session, folder: Path) -> None:
        self.url, self._session = url, session
        self.mirror = Mirror(folder / "mirror")
        self.app = psycopg.connect(url, autocommit=True)
        self.mark: dict[str, Any] = {}

    def run(self, *statements: str) -> None:
        for sql in statements:
            self.app.execute(sql)

    def agrees(self) -> None:
        """Bring the mirror up to date, and compare it with a naive reading."""
        self.mark = self.mirror.update(ServerDelta(self._session)).mark
        with closing(open_mirrored(self.mirror.path)) as state:
            assert _mirrored(state) == _plain(naive_reading(self.url), state)


@pytest.fixture
def harbour(postgresql_database: str, session: Session, tmp_path: Path) -> Iterator[Harbour]:
    made = Harbour(postgresql_database, session, tmp_path)
    yield made
    made.app.close()


def test_rows_of_a_partition_come_and_go_with_it(harbour: Harbour) -> None:
    harbour.run(
        "CREATE TABLE tides(id int, month int, PRIMARY KEY (month, id)) PARTITION BY LIST (month)",
        "CREATE TABLE june PARTITION OF tides FOR VALUES IN (6)",
        "CREATE TABLE july PARTITION OF tides FOR VALUES IN (7)",
        "INSERT INTO tides VALUES (1, 6), (2, 7)",
        "ALTER TABLE tides DETACH PARTITION july",
    )
    harbour.agrees()
    # One goes and as many come, all of them long there: neither numbers nor the count tell.
    harbour.run(
        "BEGIN", "ALTER TABLE tides DETACH PARTITION june",
        "ALTER TABLE tides ATTACH PARTITION july FOR VALUES IN (7)", "COMMIT",
    )  # fmt: skip
    harbour.agrees()


def test_rows_without_a_key_that_were_being_written(harbour: Harbour) -> None:
    harbour.run("CREATE TABLE log(what text)", "CREATE TABLE other(n int)")
    with psycopg.connect(harbour.url) as going_on:
        going_on.execute("INSERT INTO other VALUES (1)")
        harbour.run("INSERT INTO log VALUES ('seen by then')")
        harbour.agrees()
        harbour.run("INSERT INTO log VALUES ('new')")
        harbour.agrees()
        harbour.run("DELETE FROM log WHERE what = 'new'", "INSERT INTO log VALUES ('instead')")
        harbour.agrees()
        going_on.execute("INSERT INTO log VALUES ('late')")
        going_on.commit()
        harbour.agrees()


def test_labels_that_change_under_rows(harbour: Harbour) -> None:
    harbour.run(
        "CREATE TYPE wind AS ENUM ('calm', 'rough')",
        "CREATE TABLE days(id int PRIMARY KEY, winds wind[])",
        "INSERT INTO days VALUES (1, '{calm}')",
    )
    harbour.agrees()
    harbour.run("ALTER TYPE wind RENAME VALUE 'calm' TO 'still'")
    harbour.agrees()


def test_rows_that_come_into_sight(harbour: Harbour) -> None:
    """Row-level security hides rows from the user who looks, and no longer does."""
    (owner,) = harbour.app.execute("SELECT current_user").fetchone() or ("",)
    harbour.run(
        "CREATE TABLE berths(id int PRIMARY KEY)", "INSERT INTO berths VALUES (1), (2)",
        "ALTER TABLE berths ENABLE ROW LEVEL SECURITY",
        "CREATE POLICY part ON berths USING (id = 1)",
        "CREATE ROLE looker LOGIN", "GRANT SELECT ON berths TO looker",
    )  # fmt: skip
    url = harbour.url.replace(f"//{owner}@", "//looker@")
    try:
        with closing(Session(url, "harbour")) as session:
            for policy, seen in (("id = 1", 1), ("id = 2", 1), ("TRUE", 2)):
                harbour.run(f"ALTER POLICY part ON berths USING ({policy})")
                harbour.mirror.update(ServerDelta(session))
                with closing(open_mirrored(harbour.mirror.path)) as state:
                    assert sum(_mirrored(state)["berths"].values()) == seen
    finally:
        harbour.run("DROP OWNED BY looker", "DROP ROLE looker")


def test_a_mark_that_is_too_old_tells_nothing(harbour: Harbour) -> None:
    harbour.run("CREATE TABLE berths(id int PRIMARY KEY)", "INSERT INTO berths VALUES (1)")
    harbour.agrees()
    source = ServerDelta(harbour._session)
    told = []
    for back in (0, 1 << 30):
        mark = {**harbour.mark, "oldest": harbour.mark["oldest"] - back, "snapshot": "earlier"}
        with source.delta(Known(mark, _schema_of(harbour))) as changes:
            told.append([table.whole for table in changes.tables])
    assert told == [[], [True]]


def _schema_of(harbour: Harbour) -> Any:
    kept = harbour.mirror.kept()
    assert kept is not None
    return kept.schema


def test_what_changed_nothing_leaves_the_mirror_as_it_is(harbour: Harbour) -> None:
    harbour.run(
        "CREATE TABLE berths(id serial PRIMARY KEY, name text)", "CREATE TABLE log(what text)",
        "INSERT INTO berths(name) VALUES ('a'), ('b')", "INSERT INTO log VALUES ('x'), ('x')",
    )  # fmt: skip
    harbour.agrees()
    before = harbour.mirror.path.read_bytes()
    for statements in (
        ("BEGIN", "INSERT INTO berths(name) VALUES ('c')", "ROLLBACK"),
        ("UPDATE berths SET name = name",), ("VACUUM FULL",), ("VACUUM FREEZE",),
        ("BEGIN", "UPDATE berths SET name = 'z'", "UPDATE berths SET name = chr(96 + id)",
         "COMMIT"),
        ("INSERT INTO log VALUES ('y')", "DELETE FROM log WHERE what = 'y'"),
        ("ANALYZE",),
    ):  # fmt: skip
        harbour.run(*statements)
        harbour.agrees()
        assert harbour.mirror.path.read_bytes() == before, statements


def test_where_nothing_was_written_no_table_is_looked_at(
    harbour: Harbour, monkeypatch: pytest.MonkeyPatch
) -> None:
    harbour.run("CREATE TABLE berths(id serial PRIMARY KEY, name text)", "CREATE ROLE keeper")
    try:
        source = ServerDelta(harbour._session)
        harbour.mirror.update(source)
        harbour.mirror.update(source)

        def refused(*_: Any, **__: Any) -> Any:
            raise AssertionError("it is known that nothing was written")

        with monkeypatch.context() as watched:
            watched.setattr(delta, "connect", refused)
            kept = harbour.mirror.update(source)
            with pytest.raises(AssertionError):
                Mirror(harbour.mirror.path.parent, largest_table=1).update(source)
        for statement in (
            "INSERT INTO berths(name) VALUES ('north')",
            "ALTER TABLE berths ADD COLUMN note text",
            "GRANT SELECT ON berths TO keeper",
            "UPDATE berths SET name = 'south'",
            "DROP TABLE berths",
        ):
            harbour.run(statement)
            after = harbour.mirror.update(source)
            assert after.mark != kept.mark, statement
            kept = after
            harbour.agrees()
    finally:
        harbour.run("DROP TABLE IF EXISTS berths", "DROP ROLE keeper")


def test_a_migration_goes_through_beside_a_capture(harbour: Harbour) -> None:
    """It needs the table for itself; what reads it gives way."""
    harbour.run(
        "CREATE TABLE berths(id int PRIMARY KEY, name text)",
        "INSERT INTO berths SELECT i, repeat('x', 99) FROM generate_series(1, 50000) i",
    )
    slow = threading.Event()
    failures: list[BaseException] = []

    def capture() -> None:
        def go_on() -> None:
            slow.set()
            time.sleep(0.2)

        try:
            harbour.mirror.update(ServerDelta(harbour._session), go_on)
        except TargetLocked as error:
            failures.append(error)

    capturing = threading.Thread(target=capture)
    capturing.start()
    assert slow.wait(10)
    harbour.run(
        "SET lock_timeout = '10s'", "ALTER TABLE berths ALTER COLUMN name TYPE varchar(120)"
    )
    capturing.join(20)
    assert [str(error) for error in failures] == [
        "harbour: another session waits to change a table; reading gave way, try again"
    ]
    harbour.agrees()


def test_a_capture_is_stopped(harbour: Harbour, session: Session) -> None:
    harbour.run(
        "CREATE VIEW slow AS SELECT 1",
        "CREATE TABLE berths(id int PRIMARY KEY, name text)",
        "INSERT INTO berths SELECT i, repeat('x', 100) FROM generate_series(1, 20000) i",
    )
    harbour.mirror.update(ServerDelta(session))
    before = harbour.mirror.path.read_bytes()
    harbour.run("UPDATE berths SET name = 'y'")
    with pytest.raises(Cancelled):
        harbour.mirror.update(ServerDelta(session), session.interrupt)
    session.resume()
    assert harbour.mirror.path.read_bytes() == before
    harbour.agrees()


def test_a_server_that_lacks_what_is_told_by_is_read_all_the_same(
    postgresql_database: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """None of what others may lack is asked for again once it is known to be missing."""
    asked = Counter[str]()
    lacking = {
        "xmin": psycopg.errors.UndefinedColumn,
        "ctid": psycopg.errors.UndefinedColumn,
        "pg_current_snapshot": psycopg.errors.UndefinedFunction,
        "pg_relation_filenode": psycopg.errors.UndefinedFunction,
    }
    execute = Connection.execute

    def lacks(connection: Connection, sql: Any, *more: Any, **options: Any) -> Any:
        for name, error in lacking.items():
            if name in str(sql):
                asked[name] += 1
                raise error(f"there is no {name}")
        return execute(connection, sql, *more, **options)

    def no_copy(cursor: Any, sql: Any) -> Any:
        asked["COPY"] += 1
        raise psycopg.errors.FeatureNotSupported("there is no COPY")

    make(postgresql_database)
    monkeypatch.setattr(Connection, "execute", lacks)
    monkeypatch.setattr(psycopg.Cursor, "copy", no_copy)
    mirror = Mirror(tmp_path / "mirror")
    with (
        closing(Session(postgresql_database, "harbour")) as session,
        closing(Work(postgresql_database, 5)) as work,
    ):
        source, commits = ServerDelta(session), ServerCommits(session)
        for _ in range(5):
            work.turn(15)
            mirror.update(source)
            with pytest.MonkeyPatch.context() as others:
                others.setattr(psycopg.Cursor, "copy", _COPY)
                read = naive_reading(postgresql_database)
            with closing(open_mirrored(mirror.path)) as state:
                assert _mirrored(state) == _plain(read, state)
        tokens = {commits.change_token() for _ in range(3)}
        assert len(tokens) <= 2
        assert commits.look_every_seconds > 1
    assert asked == {"xmin": 1, "pg_current_snapshot": 2, "COPY": 1}
