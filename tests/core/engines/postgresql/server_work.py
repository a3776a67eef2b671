"""Random work on a server by several connections at once, and what an independent reading sees.

It makes: keys of several kinds and of two columns, rows without a key that are alike (many of them,
with and without NULLs, in columns with awkward names), values that must be unique and swap, links
that cascade or set NULL, inheritance, partitions that come and go, rewriting and not rewriting
ALTERs, columns that are dropped and added again, policies, a table of 1 000 columns, TRUNCATE,
VACUUM, transactions that stay open, savepoints, prepared transactions. Whoever uses it can put the
database back from a template in between, and read as a user for whom policies count.

It does not make: other access methods than heap, foreign tables, tables of other owners, rows of
more than some kilobytes, wraparound of transaction numbers, a restart of the server (that is tested
by itself), more than three connections, triggers, exclusion constraints, circles of links.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress

import psycopg
from psycopg.conninfo import conninfo_to_dict

_SCHEMA = """
CREATE TYPE weather AS ENUM ('calm', 'fresh', 'rough');
CREATE TABLE boats(id int PRIMARY KEY, name text, price numeric(12, 2), wind weather DEFAULT 'calm',
    length real, doubled numeric GENERATED ALWAYS AS (price * 2) STORED);
CREATE TABLE skippers(name text PRIMARY KEY, licence text UNIQUE, winds weather[]);
CREATE TABLE trips(boat int, day date, note text, PRIMARY KEY (day, boat));
CREATE TABLE tokens(id uuid PRIMARY KEY, at timestamptz);
CREATE TABLE log(at int, what text);
CREATE UNLOGGED TABLE sessions(id bigint PRIMARY KEY, data jsonb);
CREATE TABLE places(id int PRIMARY KEY, kind text);
CREATE TABLE berths(metres int) INHERITS (places);
ALTER TABLE berths ADD PRIMARY KEY (id);
CREATE TABLE tides(id int, month int, height real, PRIMARY KEY (month, id))
    PARTITION BY RANGE (month);
CREATE TABLE tides_1 PARTITION OF tides FOR VALUES FROM (0) TO (6);
CREATE TABLE tides_2 PARTITION OF tides FOR VALUES FROM (6) TO (12);
CREATE TABLE "Odd % name"("A%s" int PRIMARY KEY, "a%S" text);
CREATE TABLE notes(id int PRIMARY KEY, memo real);
CREATE TABLE marks(n int, r text, rowid int);
CREATE TABLE ranks(id int PRIMARY KEY, pos int UNIQUE, boat int,
    main boolean NOT NULL DEFAULT false);
CREATE UNIQUE INDEX one_main ON ranks(boat) WHERE main;
CREATE TABLE par(id int PRIMARY KEY, v float8);
CREATE TABLE kid(id int PRIMARY KEY, par int REFERENCES par ON DELETE CASCADE ON UPDATE CASCADE);
CREATE TABLE slip(par int REFERENCES par ON DELETE SET NULL, what text);
CREATE POLICY few ON places USING (id % 2 = 0);
CREATE MATERIALIZED VIEW prices AS SELECT wind, count(*) AS boats FROM boats GROUP BY wind;
"""
_WIDE = f"CREATE TABLE wide(id int PRIMARY KEY, {', '.join(f'c{n} int' for n in range(1000))})"
_IDS = 40


def make(url: str) -> None:
    """Make the tables, in an empty database."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(_SCHEMA)
        connection.execute(_WIDE)


class Work:
    """Work that goes on; transactions stay open from one turn to the next."""

    def __init__(self, url: str, seed: int) -> None:
        self._random = random.Random(seed)
        self._stack = ExitStack()
        options = "-c lock_timeout=100ms -c statement_timeout=5s"
        self._connections = [
            self._stack.enter_context(psycopg.connect(url, autocommit=True, options=options))
            for _ in range(3)
        ]
        self._prepared: list[str] = []
        self._detached = False
        self._numbers = 0

    def close(self) -> None:
        for connection in self._connections:
            with suppress(psycopg.Error):
                connection.execute("ROLLBACK")
        for name in self._prepared:
            self._connections[0].execute(f"ROLLBACK PREPARED '{name}'")
        self._stack.close()

    def turn(self, statements: int) -> list[str]:
        """Do something; returns what was run."""
        done = []
        for _ in range(statements):
            connection = self._random.choice(self._connections)
            sql = self._statement(connection)
            try:
                connection.execute(sql)
                done.append(sql)
            except psycopg.Error as error:
                done.append(f"-- {sql}: {error}")
                with suppress(psycopg.Error):
                    to = "ROLLBACK TO s" if self._random.random() < 0.5 else "ROLLBACK"
                    connection.execute(to)
                if connection.info.transaction_status == psycopg.pq.TransactionStatus.INERROR:
                    connection.execute("ROLLBACK")
        return done

    def _statement(self, connection: psycopg.Connection[tuple[object, ...]]) -> str:
        pick, number = self._random.random(), self._random.randrange(_IDS)
        inside = connection.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        if pick < 0.25:
            return self._of_transactions(inside, number)
        if pick < 0.33 and not inside:
            return self._of_structure()
        return self._of_rows(number)

    def _of_transactions(self, inside: bool, number: int) -> str:
        if not inside:
            if self._prepared and self._random.random() < 0.3:
                end = self._random.choice(["COMMIT", "ROLLBACK"])
                return f"{end} PREPARED '{self._prepared.pop()}'"
            return self._random.choice(["BEGIN", "BEGIN ISOLATION LEVEL REPEATABLE READ"])
        choice = self._random.choice(
            ["COMMIT", "COMMIT", "ROLLBACK", "SAVEPOINT s", "ROLLBACK TO s", "PREPARE"]
        )
        if choice == "PREPARE":
            self._numbers += 1
            name = f"p{self._numbers}"
            self._prepared.append(name)
            return f"PREPARE TRANSACTION '{name}'"
        return choice

    def _of_structure(self) -> str:
        number = self._random.randrange(4)
        moved = "ATTACH PARTITION tides_2 FOR VALUES FROM (6) TO (12)"
        if not self._detached:
            moved = "DETACH PARTITION tides_2"
        choice = self._random.choice(
            [
                "VACUUM FULL boats", "VACUUM FREEZE boats, trips, log", "VACUUM (ANALYZE)",
                "CLUSTER trips USING trips_pkey", "TRUNCATE log", "TRUNCATE sessions, tokens",
                f"ALTER TABLE boats ADD COLUMN IF NOT EXISTS extra{number} int DEFAULT {number}",
                f"ALTER TABLE boats DROP COLUMN IF EXISTS extra{number}",
                "ALTER TABLE trips ALTER COLUMN note TYPE varchar(200)",
                "ALTER TABLE trips ALTER COLUMN note TYPE text",
                f"ALTER TYPE weather RENAME VALUE 'fresh' TO 'fresh{number}'",
                f"ALTER TYPE weather RENAME VALUE 'fresh{number}' TO 'fresh'",
                "REFRESH MATERIALIZED VIEW prices", f"ALTER TABLE tides {moved}",
                "ALTER TABLE log RENAME TO lines", "ALTER TABLE lines RENAME TO log",
                "CREATE INDEX IF NOT EXISTS by_name ON boats(name)", "DROP INDEX IF EXISTS by_name",
                "BEGIN; ALTER TABLE notes DROP COLUMN memo; "
                "ALTER TABLE notes ADD COLUMN memo real; COMMIT",
                "BEGIN; ALTER TABLE trips DROP COLUMN note; "
                "ALTER TABLE trips ADD COLUMN note text DEFAULT 'new'; COMMIT",
                "ALTER TABLE places ENABLE ROW LEVEL SECURITY",
                "ALTER TABLE places DISABLE ROW LEVEL SECURITY",
                "BEGIN; DROP POLICY few ON places; "
                f"CREATE POLICY few ON places USING (id % {number + 2} = 0); COMMIT",
                "TRUNCATE par CASCADE",
                "BEGIN; DROP TABLE tokens; "
                "CREATE TABLE tokens(id uuid PRIMARY KEY, at timestamptz); COMMIT",
            ]
        )  # fmt: skip
        if "PARTITION tides_2" in choice:
            self._detached = not self._detached
        return choice

    def _of_rows(self, n: int) -> str:
        r = self._random
        m, text = r.randrange(_IDS), r.choice(["a", "ä\t", "'' \\\\ ", "%s", "x" * 3000])
        blank, zero = r.choice(["NULL", "''", "'y'"]), r.choice(["-0", "0", "1"])
        uuid = f"lpad('{n}', 32, '0')::uuid"
        return r.choice(
            [
                f"INSERT INTO boats(id, name, price) VALUES ({n}, '{text}', {m}.5)",
                f"INSERT INTO boats(id, name) SELECT i, 'n' FROM generate_series({n}, {n + 5}) i "
                "ON CONFLICT DO NOTHING",
                f"UPDATE boats SET name = '{text}', length = {r.choice(['-0.0', '0', '1e-3'])} "
                f"WHERE id BETWEEN {n} AND {m}",
                f"UPDATE boats SET id = id + 100 WHERE id = {n}",
                f"DELETE FROM boats WHERE id % 7 = {n % 7}",
                f"INSERT INTO skippers VALUES ('s{n}', 'l{m}', '{{calm,rough}}') "
                "ON CONFLICT (name) DO UPDATE SET licence = excluded.licence",
                f"DELETE FROM skippers WHERE name > 's{n}'",
                f"INSERT INTO trips VALUES ({n}, '2026-11-0{1 + m % 9}', '{text}') "
                "ON CONFLICT DO NOTHING",
                f"UPDATE trips SET day = day + 1 WHERE boat = {n}",
                f"DELETE FROM trips WHERE boat < {n}",
                f"INSERT INTO tokens VALUES ({uuid}, now()) "
                "ON CONFLICT (id) DO UPDATE SET at = now()",
                f"DELETE FROM tokens WHERE id < {uuid}",
                f"INSERT INTO log VALUES ({n}, '{text}'), ({n}, '{text}')",
                f"DELETE FROM log WHERE ctid IN (SELECT ctid FROM log WHERE at <= {n} LIMIT 2)",
                f"UPDATE log SET what = 'again' WHERE at = {n}",
                f"""INSERT INTO sessions VALUES ({n} * 1000000000000, '{{"a": {m}}}') """
                "ON CONFLICT (id) DO UPDATE SET data = excluded.data",
                f"DELETE FROM sessions WHERE id > {n} * 1000000000000",
                f"INSERT INTO notes VALUES ({n}, '{zero}') "
                f"ON CONFLICT (id) DO UPDATE SET memo = {m}",
                f"INSERT INTO marks SELECT {n % 3}, {blank} FROM generate_series(1, {1 + m % 6})",
                f"INSERT INTO marks SELECT NULL, {blank}, 1 FROM generate_series(1, {1 + m % 6})",
                f"DELETE FROM marks WHERE ctid IN (SELECT ctid FROM marks LIMIT {m % 4})",
                f"UPDATE marks SET n = {m % 3} WHERE ctid IN (SELECT ctid FROM marks LIMIT 1)",
                f"UPDATE marks SET r = {blank} WHERE n = {n % 3}",
                f"INSERT INTO ranks VALUES ({n}, {n}, {n % 4}, false) ON CONFLICT DO NOTHING",
                "UPDATE ranks SET pos = -pos",
                f"BEGIN; UPDATE ranks SET pos = NULL WHERE id = {n}; "
                f"UPDATE ranks SET pos = {n} WHERE id = {m}; "
                f"UPDATE ranks SET pos = {m} WHERE id = {n}; COMMIT",
                f"BEGIN; UPDATE ranks SET main = false WHERE boat = {n % 4}; "
                f"UPDATE ranks SET main = true WHERE id = {n}; COMMIT",
                f"INSERT INTO par VALUES ({n}, '{zero}') ON CONFLICT DO NOTHING",
                f"INSERT INTO kid SELECT {n}, min(id) FROM par WHERE id >= {m} "
                "ON CONFLICT DO NOTHING",
                f"INSERT INTO slip SELECT min(id), 'x' FROM par WHERE id >= {m}",
                f"UPDATE par SET v = '{zero}' WHERE id < {n}",
                f"UPDATE par SET id = id + 50 WHERE id = {n}",
                f"DELETE FROM par WHERE id % 5 = {n % 5}",
                f"UPDATE kid SET par = (SELECT max(id) FROM par) WHERE id > {n}",
                f"INSERT INTO wide(id, c{m}) VALUES ({n % 5}, {m}) "
                f"ON CONFLICT (id) DO UPDATE SET c{n * 20} = {m}",
                f"DELETE FROM wide WHERE id = {n % 5}",
                f"INSERT INTO places VALUES ({n}, 'quay') ON CONFLICT DO NOTHING",
                f"INSERT INTO berths VALUES ({n}, 'berth', {m}) ON CONFLICT DO NOTHING",
                f"UPDATE places SET kind = '{text}' WHERE id = {n}",
                f"DELETE FROM ONLY places WHERE id > {n}",
                f"INSERT INTO tides VALUES ({n}, {m % 12}, 0.1) ON CONFLICT DO NOTHING",
                f"UPDATE tides SET month = {m % 12} WHERE id = {n}",
                f"DELETE FROM tides WHERE id % 5 = {n % 5}",
                f"""INSERT INTO "Odd % name" VALUES ({n}, '{text}') ON CONFLICT DO NOTHING""",
                f"""DELETE FROM "Odd % name" WHERE "A%s" = {n}""",
            ]
        )


def naive_reading(url: str) -> dict[str, Counter[tuple[str | None, ...]]]:
    """All rows of each table as text, however often each is there."""
    with psycopg.connect(url, autocommit=True, options="-c timezone=UTC") as connection:
        listed = connection.execute(
            "SELECT c.oid::regclass::text, relkind FROM pg_class c "
            "WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p', 'm') "
            "AND NOT relispartition"
        ).fetchall()
        read = {}
        for name, kind in listed:
            only = "ONLY " if kind == "r" else ""
            with (
                connection.cursor() as cursor,
                cursor.copy(f"COPY (SELECT * FROM {only}{name}) TO STDOUT") as copy,
            ):
                read[name.strip('"')] = Counter(map(tuple, copy.rows()))
    return read


@contextmanager
def slot(url: str) -> Iterator[Callable[[], set[tuple[str, str]]]]:
    """Follow the database by logical decoding: gives what reads which tables and integer keys were
    touched by what was committed since the last time."""
    import re

    touched = re.compile(r"table (public\.\S+|public\.\"[^\"]*\"): (\w+): ")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("SELECT pg_create_logical_replication_slot('second', 'test_decoding')")

        def read() -> set[tuple[str, str]]:
            found = set()
            for (line,) in connection.execute(
                "SELECT data FROM pg_logical_slot_get_changes('second', NULL, NULL)"
            ).fetchall():
                match = touched.match(line)
                if match:
                    ids = re.findall(r"\bid\[integer\]:(-?\d+)", line)
                    for number in ids or [""]:
                        found.add((match[1].removeprefix("public."), number))
            return found

        try:
            yield read
        finally:
            connection.execute("SELECT pg_drop_replication_slot('second')")


@contextmanager
def reader(url: str) -> Iterator[str]:
    """A user who may read all tables, and for whom policies count; gives their URL."""
    role = f"reader_{random.SystemRandom().randrange(1 << 40)}"
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"CREATE ROLE {role} LOGIN")
        connection.execute(f"GRANT SELECT ON ALL TABLES IN SCHEMA public TO {role}")
        connection.execute(f"ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO {role}")
    try:
        yield url.replace("//jondel@", f"//{role}@")
    finally:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(f"DROP OWNED BY {role}")


def keep_as_template(server: str, url: str) -> str:
    """Make a copy of a database to which nobody is connected; gives its name."""
    name = str(conninfo_to_dict(url)["dbname"])
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f'CREATE DATABASE "{name} kept" TEMPLATE "{name}"')
    return f"{name} kept"


def put_back(server: str, url: str, template: str) -> None:
    """Drop a database and make it again from a template."""
    name = conninfo_to_dict(url)["dbname"]
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f'DROP DATABASE "{name}"')
        connection.execute(f'CREATE DATABASE "{name}" TEMPLATE "{template}"')
        connection.execute(f'DROP DATABASE "{template}"')
