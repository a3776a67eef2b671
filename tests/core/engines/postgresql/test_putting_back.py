"""Putting a server's database back: links that act, unique values that swap, rights that lack."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import Any, NamedTuple

import psycopg
import pytest
from server_work import naive_reading

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import LinkedInTheWay, RecordsMovedOn, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.writes import RowWrite, WritePlan
from jondel.core.trail.restore import Restored, restore, take_back_record, take_back_step
from jondel.core.trail.trail import Trail

App = psycopg.Connection[Any]


class Dock(NamedTuple):
    """A database, its trail, and its app."""

    database: Database
    trail: Trail
    app: App
    url: str

    def run(self, *statements: str) -> None:
        for sql in statements:
            self.app.execute(sql)  # type: ignore[call-overload]

    def rows(self, table: str) -> list[Any]:
        return self.app.execute(f"SELECT * FROM {table} ORDER BY 1").fetchall()  # type: ignore[call-overload]


@contextmanager
def _opened(url: str, app: App) -> Iterator[Dock]:
    with closing(open_database(url)) as database, closing(Trail(database.location)) as trail:
        yield Dock(database, trail, app, url)


@pytest.fixture(params=["superuser", "owner"])
def dock(request: Any, postgresql_database: str, home: Any) -> Iterator[Dock]:
    """An empty database, as its superuser and as an owner who is none."""
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        if request.param == "superuser":
            with _opened(postgresql_database, app) as opened:
                yield opened
            return
        role = f"mate_{random.randrange(1 << 30)}"
        (name,) = app.execute("SELECT current_database()").fetchone() or ("",)
        for sql in (f"CREATE ROLE {role} LOGIN", f"ALTER DATABASE {name} OWNER TO {role}",
                    f"GRANT ALL ON SCHEMA public TO {role}", f"SET ROLE {role}"):  # fmt: skip
            app.execute(sql)
        try:
            with _opened(postgresql_database.replace("//jondel@", f"//{role}@"), app) as opened:
                yield opened
        finally:
            for sql in ("RESET ROLE", f"REASSIGN OWNED BY {role} TO jondel",
                        f"DROP OWNED BY {role}", f"DROP ROLE {role}"):  # fmt: skip
                app.execute(sql)


_FAMILY = (
    "CREATE TABLE par(id int PRIMARY KEY, name text)",
    "CREATE TABLE kid(id int PRIMARY KEY, par int REFERENCES par ON DELETE CASCADE)",
    "CREATE TABLE grandkid(id int PRIMARY KEY, kid int REFERENCES kid ON DELETE CASCADE)",
    "CREATE TABLE note(id int PRIMARY KEY, par int REFERENCES par ON DELETE SET NULL)",
)


def test_what_links_take_along_is_refused_or_included(dock: Dock) -> None:
    dock.run(*_FAMILY)
    start = dock.trail.take(dock.database)
    dock.run("INSERT INTO par VALUES (1, 'a')")
    dock.trail.take(dock.database)
    dock.run("INSERT INTO kid VALUES (7, 1)", "INSERT INTO grandkid VALUES (70, 7)",
             "INSERT INTO note VALUES (8, 1)")  # fmt: skip
    later = dock.trail.take(dock.database)
    par = TableId("public", "par")
    before = naive_reading(dock.url)
    step = dock.trail.steps()[1]
    ends = (start, step.after)

    def whole(with_linked: bool) -> Restored:
        return take_back_step(dock.trail, dock.database, step, with_linked=with_linked)

    def record(with_linked: bool) -> Restored:
        return take_back_record(
            dock.trail, dock.database, ends, par, lambda _: True, with_linked=with_linked
        )

    def table(with_linked: bool) -> Restored:
        return restore(dock.trail, dock.database, start, [par], with_linked=with_linked)

    for work in (whole, record, table):
        with pytest.raises(LinkedInTheWay) as refused:
            work(False)
        assert "kid 7 points at public.par with id = 1" in str(refused.value)
        assert {o.table.name for o in refused.value.obstacles} == {"kid", "grandkid", "note"}
        assert naive_reading(dock.url) == before
        done = work(True)
        assert {t.name: c.marked() for t, c in done.linked.tables.items()} == {
            "kid": "-1", "grandkid": "-1", "note": "~1"
        }  # fmt: skip
        assert (dock.rows("par"), dock.rows("kid"), dock.rows("grandkid")) == ([], [], [])
        assert dock.rows("note") == [(8, None)]
        restore(dock.trail, dock.database, later)
        assert naive_reading(dock.url) == before


def test_no_link_acts_behind_a_plans_back(dock: Dock) -> None:
    """Whoever made the plan, and whatever was added since."""
    dock.run(*_FAMILY, "INSERT INTO par VALUES (1, 'a')", "INSERT INTO kid VALUES (7, 1)")
    par = TableId("public", "par")
    plan = WritePlan(
        (RowWrite("delete", par, (("id", 1), ("name", "a")), (), "1", ("id",)),), triggers=True
    )
    assert dock.database.writer is not None
    with pytest.raises(WriteRefused, match=r"public\.kid.* point at it"):
        dock.database.writer.apply(plan)
    assert dock.rows("kid") == [(7, 1)]


_SWAPS = {
    "plain": ("CREATE TABLE t(id int PRIMARY KEY, pos int UNIQUE NOT NULL, x text)",
              "INSERT INTO t VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'c')",
              "UPDATE t SET pos = -pos", "UPDATE t SET pos = CASE id WHEN 1 THEN 2 WHEN 2 THEN 3 "
              "ELSE 1 END"),
    "partial": ("CREATE TABLE t(id int PRIMARY KEY, boat int, main boolean NOT NULL)",
                "CREATE UNIQUE INDEX ON t(boat) WHERE main",
                "INSERT INTO t VALUES (1, 1, true), (2, 1, false)",
                "UPDATE t SET main = false", "UPDATE t SET main = true WHERE id = 2"),
    "expression": ("CREATE TABLE t(id int PRIMARY KEY, name text)",
                   "CREATE UNIQUE INDEX ON t(lower(name))",
                   "INSERT INTO t VALUES (1, 'A'), (2, 'B')",
                   "UPDATE t SET name = 'z' WHERE id = 1", "UPDATE t SET name = 'a' WHERE id = 2",
                   "UPDATE t SET name = 'b' WHERE id = 1"),
    "nulls": ("CREATE TABLE t(id int PRIMARY KEY, a int, UNIQUE NULLS NOT DISTINCT (a))",
              "INSERT INTO t VALUES (1, NULL), (2, 5)", "UPDATE t SET a = 9 WHERE id = 1",
              "UPDATE t SET a = NULL WHERE id = 2", "UPDATE t SET a = 5 WHERE id = 1"),
    "exclusion": ("CREATE TABLE t(id int PRIMARY KEY, during int4range, "
                  "EXCLUDE USING gist (during WITH &&))",
                  "INSERT INTO t VALUES (1, '[1,5)'), (2, '[5,9)')",
                  "UPDATE t SET during = 'empty'", "UPDATE t SET during = "
                  "CASE id WHEN 1 THEN '[5,9)'::int4range ELSE '[1,5)' END"),
    "pointed at": ("CREATE TABLE t(id int PRIMARY KEY, pos int UNIQUE NOT NULL, code text UNIQUE)",
                   "CREATE TABLE c(id int PRIMARY KEY, t int REFERENCES t ON DELETE CASCADE, "
                   "code text REFERENCES t(code) ON UPDATE CASCADE)",
                   "INSERT INTO t VALUES (1, 1, 'p'), (2, 2, 'q')",
                   "INSERT INTO c VALUES (1, 1, NULL), (2, 2, NULL)",
                   "UPDATE t SET pos = -pos", "UPDATE t SET pos = 3 + pos"),
    "generated": ("CREATE TABLE t(id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "
                  "pos int UNIQUE, twice int GENERATED ALWAYS AS (pos * 2) STORED, "
                  "bits bit(3), code char(4))",
                  "INSERT INTO t(pos, bits, code) VALUES (1, '101', 'a'), (2, '011', NULL)",
                  "UPDATE t SET pos = -pos", "UPDATE t SET pos = 3 + pos"),
}  # fmt: skip


@pytest.mark.parametrize("name", _SWAPS)
def test_unique_values_that_changed_places_are_put_back(dock: Dock, name: str) -> None:
    make = [sql for sql in _SWAPS[name] if sql.startswith(("CREATE", "INSERT"))]
    dock.run(*make)
    start, first = dock.trail.take(dock.database), naive_reading(dock.url)
    dock.run(*[sql for sql in _SWAPS[name] if sql not in make])
    dock.trail.take(dock.database)
    second = naive_reading(dock.url)
    assert first != second
    restored = restore(dock.trail, dock.database, start)
    assert naive_reading(dock.url) == first
    assert restored.before is not None
    restore(dock.trail, dock.database, restored.before)
    assert naive_reading(dock.url) == second
    take_back_step(dock.trail, dock.database, dock.trail.steps()[1])
    assert naive_reading(dock.url) == first


_LINKED = {
    "moved": ("CREATE TABLE p(id int PRIMARY KEY, name text UNIQUE)",
              "CREATE TABLE c(id int PRIMARY KEY, p int NOT NULL REFERENCES p ON UPDATE CASCADE "
              "ON DELETE CASCADE)",
              "INSERT INTO p VALUES (1, 'a'), (2, 'b')", "INSERT INTO c VALUES (1, 1), (2, 2)",
              "UPDATE p SET id = id + 10"),
    "set null": ("CREATE TABLE p(id int PRIMARY KEY)",
                 "CREATE TABLE c(id int PRIMARY KEY, p int REFERENCES p ON DELETE SET NULL)",
                 "INSERT INTO p VALUES (1), (2)", "INSERT INTO c VALUES (1, 1), (2, 2)",
                 "DELETE FROM p WHERE id = 1"),
    "restrict": ("CREATE TABLE p(id int PRIMARY KEY, name text UNIQUE)",
                 "CREATE TABLE c(id int PRIMARY KEY, p int NOT NULL REFERENCES p "
                 "ON DELETE RESTRICT)",
                 "INSERT INTO p VALUES (1, 'a')", "INSERT INTO c VALUES (1, 1)",
                 "UPDATE p SET name = NULL", "INSERT INTO p VALUES (2, 'a')", "UPDATE c SET p = 2",
                 "DELETE FROM p WHERE id = 1"),
    "circle": ("CREATE TABLE a(id int PRIMARY KEY, b int)",
               "CREATE TABLE b(id int PRIMARY KEY, a int NOT NULL REFERENCES a)",
               "ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES b",
               "INSERT INTO a VALUES (1, NULL)", "INSERT INTO b VALUES (1, 1)",
               "UPDATE a SET b = 1", "UPDATE a SET b = NULL", "DELETE FROM b", "DELETE FROM a"),
    "deferred circle": (
        "CREATE TABLE a(id int PRIMARY KEY, b int NOT NULL)",
        "CREATE TABLE b(id int PRIMARY KEY, a int NOT NULL REFERENCES a ON DELETE CASCADE "
        "DEFERRABLE INITIALLY DEFERRED)",
        "ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES b ON DELETE CASCADE "
        "DEFERRABLE INITIALLY DEFERRED",
        "WITH x AS (INSERT INTO a VALUES (1, 1)) INSERT INTO b VALUES (1, 1)",
        "DELETE FROM a"),
    "tree": ("CREATE TABLE n(id int PRIMARY KEY, up int REFERENCES n ON DELETE CASCADE)",
             "INSERT INTO n SELECT i, nullif(i / 2, 0) FROM generate_series(1, 60) i",
             "UPDATE n SET up = up + 1 WHERE id BETWEEN 20 AND 30", "DELETE FROM n WHERE id = 3"),
    "itself": ("CREATE TABLE n(id int PRIMARY KEY, up int NOT NULL REFERENCES n ON DELETE CASCADE)",
               "INSERT INTO n VALUES (1, 1), (2, 1)", "DELETE FROM n"),
    "not by key": ("CREATE TABLE p(id int PRIMARY KEY)",
                   "CREATE TABLE c(p int REFERENCES p ON DELETE CASCADE, what text)",
                   "INSERT INTO p VALUES (1), (2)",
                   "INSERT INTO c VALUES (1, 'x'), (1, 'x'), (2, NULL), (2, NULL), (NULL, 'y')",
                   "DELETE FROM p WHERE id = 2", "UPDATE c SET what = 'z' WHERE p = 1"),
}  # fmt: skip


@pytest.mark.parametrize("name", _LINKED)
def test_rows_that_links_hold_together_are_put_back(dock: Dock, name: str) -> None:
    """The app's own work, and back again: also the other way round."""
    statements = _LINKED[name]
    split = max(n for n, sql in enumerate(statements) if sql.startswith(("CREATE", "ALTER"))) + 1
    dock.run(*statements[:split])
    empty, nothing = dock.trail.take(dock.database), naive_reading(dock.url)
    writes = statements[split:]
    inserts = [sql for sql in writes if not sql.startswith(("UPDATE", "DELETE"))]
    last = max(n for n, sql in enumerate(writes) if sql in inserts[: len(inserts)]) + 1
    last = next((n for n, sql in enumerate(writes) if n and sql.startswith("DELETE")), last)
    dock.run(*writes[:last])
    full, first = dock.trail.take(dock.database), naive_reading(dock.url)
    dock.run(*writes[last:])
    changed, second = dock.trail.take(dock.database), naive_reading(dock.url)
    for to, reading in ((full, first), (changed, second), (full, first), (empty, nothing),
                        (full, first)):  # fmt: skip
        restore(dock.trail, dock.database, to)
        assert naive_reading(dock.url) == reading, to.id


def test_a_row_that_the_app_changed_is_told_as_such(dock: Dock) -> None:
    dock.run("CREATE TABLE t(id int PRIMARY KEY, x text UNIQUE)", "INSERT INTO t VALUES (1, 'a')")
    dock.trail.take(dock.database)
    dock.run("UPDATE t SET x = 'b'")
    dock.trail.take(dock.database)
    dock.run("UPDATE t SET x = 'c'")
    with pytest.raises(RecordsMovedOn, match=r"public\.t 1: it is no longer as it was"):
        take_back_step(dock.trail, dock.database, dock.trail.steps()[1])


def test_a_table_that_may_not_be_read_is_left_alone(postgresql_database: str, home: Any) -> None:
    role = f"mate_{random.randrange(1 << 30)}"
    with psycopg.connect(postgresql_database, autocommit=True) as app:
        for sql in (f"CREATE ROLE {role} LOGIN", f"GRANT ALL ON SCHEMA public TO {role}",
                    "CREATE TABLE secret(id int PRIMARY KEY)", f"SET ROLE {role}",
                    "CREATE TABLE boats(id int PRIMARY KEY, name text)",
                    "INSERT INTO boats VALUES (1, 'a')"):  # fmt: skip
            app.execute(sql)
        try:
            url = postgresql_database.replace("//jondel@", f"//{role}@")
            with _opened(url, app) as dock:
                start = dock.trail.take(dock.database)
                dock.run("UPDATE boats SET name = 'b'", "INSERT INTO boats VALUES (2)")
                lost = dock.trail.changes(start, dock.database)
                assert [unread.table.name for unread in lost.unread] == ["secret"]
                done = restore(dock.trail, dock.database, start)
                assert dock.rows("boats") == [(1, "a")]
                assert [u.table.name for u in done.left_alone] == ["secret"]
                assert "may not read" in done.left_alone[0].reason
                again = restore(dock.trail, dock.database, start)
                assert not again.changed
                assert again.left_alone
                with pytest.raises(WriteRefused, match="secret"):
                    restore(dock.trail, dock.database, start, [TableId("public", "secret")])

                # What may not be read may point here, and would go without a word.
                dock.run("GRANT REFERENCES ON boats TO jondel", "RESET ROLE",
                         "ALTER TABLE secret ADD boat int REFERENCES boats ON DELETE CASCADE",
                         f"SET ROLE {role}", "INSERT INTO boats VALUES (3)")  # fmt: skip
                with pytest.raises(WriteRefused, match=r"secret may point at it"):
                    restore(dock.trail, dock.database, start)
                assert len(dock.rows("boats")) == 2
        finally:
            for sql in ("RESET ROLE", "DROP TABLE secret", f"DROP OWNED BY {role}",
                        f"DROP ROLE {role}"):  # fmt: skip
                app.execute(sql)
