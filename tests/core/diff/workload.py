"""An app of its own that does random work on a database, phase by phase; run as a program.

    workload.py PATH SEED        reads lines from stdin, answers each with one line of JSON

A line with a path has the database copied there. An empty line is a phase of work; its answer is
the phase's net changes of tables with keys, as SQLite's own session extension recorded them, or
null where the phase changed the schema, which that extension cannot follow.
"""

from __future__ import annotations

import base64
import json
import random
import sys
from contextlib import suppress
from typing import Any

import apsw

TABLES = {
    "by_id": "CREATE TABLE by_id(id INTEGER PRIMARY KEY, a, b TEXT, c REAL)",
    "counted": "CREATE TABLE counted(id INTEGER PRIMARY KEY AUTOINCREMENT, a, b TEXT, c REAL)",
    "by_text": "CREATE TABLE by_text(id TEXT PRIMARY KEY, a, b TEXT, c REAL)",
    "no_key": "CREATE TABLE no_key(id, a UNIQUE, b TEXT, c REAL)",
    "clustered": "CREATE TABLE clustered(id TEXT COLLATE NOCASE, a, b TEXT, c REAL, "
    "PRIMARY KEY(a, id)) WITHOUT ROWID",
    "long_keys": "CREATE TABLE long_keys(id BLOB PRIMARY KEY, a, b TEXT, c REAL) WITHOUT ROWID",
    "made": "CREATE TABLE made(id INTEGER PRIMARY KEY, a, b TEXT, c REAL, "
    "d AS (coalesce(a, 0) || b), e TEXT AS (upper(b)) STORED)",
    "folded": "CREATE TABLE folded(id TEXT COLLATE fold PRIMARY KEY, a, b TEXT, c REAL) "
    "WITHOUT ROWID",
    "reversed": "CREATE TABLE reversed(id INTEGER PRIMARY KEY, a, b TEXT COLLATE backwards, "
    "c REAL)",
    "rowid_taken": "CREATE TABLE rowid_taken(rowid TEXT, id, a, b TEXT, c REAL)",
}
OTHERS = (
    "CREATE INDEX by_id_b ON by_id(b)",
    "CREATE INDEX reversed_b ON reversed(b)",
    "CREATE INDEX no_key_long ON no_key(b, c)",
    "CREATE VIRTUAL TABLE words USING fts5(b)",
    "CREATE VIRTUAL TABLE places USING rtree(id, x0, x1)",
)

COLLATIONS = {
    "fold": lambda one, other: _compared(one.lower(), other.lower()),
    "backwards": lambda one, other: _compared(other, one),
}
"""What orders some tables, and only the app knows."""


def _compared(one: str, other: str) -> int:
    return (one > other) - (one < other)


class App:
    """The app: one connection, and a source of chance."""

    def __init__(self, path: str, seed: int) -> None:
        self.chance = random.Random(seed)
        choose = self.chance.choice
        self.db = apsw.Connection(path)
        self.db.set_busy_timeout(5000)
        for name, compare in COLLATIONS.items():
            self.db.create_collation(name, compare)
        self.run(f"PRAGMA page_size={choose([512, 512, 1024, 4096, 4096, 65536])}")
        self.run(f"PRAGMA auto_vacuum={choose([0, 0, 1, 2])}")
        self.run(f"PRAGMA encoding='{choose(['UTF-8', 'UTF-8', 'UTF-16le', 'UTF-16be'])}'")
        self.run(f"PRAGMA journal_mode={choose(['WAL', 'WAL', 'DELETE', 'TRUNCATE', 'PERSIST'])}")
        self.run(f"PRAGMA cache_size={choose([-2000, 5])}")
        self.run(f"PRAGMA secure_delete={choose([0, 1])}")
        for statement in (*TABLES.values(), *OTHERS):
            self.run(statement)
        for _ in range(choose([5, 60, 200])):
            self.insert(choose(list(TABLES)), self.chance.randrange(1, 8))

    def run(self, sql: str, *values: Any) -> list[Any]:
        return self.db.execute(sql, values).fetchall()

    def value(self) -> Any:
        chance = self.chance
        kind = chance.randrange(9)
        if kind == 0:
            return None
        if kind == 1:
            return chance.choice([0, 1, -1, 255, 2**31, -(2**63), 2**63 - 1, 2**53 + 1])
        if kind == 2:
            return chance.choice([0.0, 1.0, -2.5, 1e300, 0.1])
        if kind == 3:
            return chance.choice(["", "a", "A", "ä", " a", "1", "\U0001f6a2", "x\x00y"])
        if kind == 4:
            return chance.randbytes(chance.choice([0, 1, 30]))
        if kind == 5:
            return chance.randbytes(chance.choice([200, 700, 5000, 20000]))
        if kind == 6:
            return "long " * chance.choice([30, 150, 2000])
        return chance.randrange(-50, 1000)

    def insert(self, table: str, rows: int) -> None:
        for _ in range(rows):
            key: Any = self.chance.randrange(1, 3000)
            if table in ("by_text", "clustered", "folded"):
                key = self.chance.choice(["k", "K", "a key that is rather long "]) + str(key)
            elif table == "long_keys":
                key = self.chance.randbytes(self.chance.choice([1, 3, 40, 900]))
            elif table in ("no_key", "rowid_taken"):
                key = self.value()
            how = self.chance.choice(["INSERT OR IGNORE", "INSERT OR IGNORE", "REPLACE"])
            first = self.value()
            if table == "clustered" and first is None:
                first = 0
            self.run(
                f"{how} INTO {table}(id, a, b, c) VALUES (?, ?, ?, ?)",
                key, first, str(self.value()), self.value(),
            )  # fmt: skip

    def some(self, table: str) -> list[Any]:
        """The keys of a few rows, or of many."""
        rows = self.run(f"SELECT id FROM {table}")
        count = min(len(rows), self.chance.choice([1, 1, 2, 5, 40]))
        return [key for (key,) in self.chance.sample(rows, count)]

    def work(self, alter: bool) -> None:
        """One piece of work, as an app does it."""
        table = self.chance.choice(list(TABLES))
        kinds = ["insert", "update", "update", "overwrite", "delete", "range", "rekey", "same"]
        kinds += ["rollback", "checkpoint", "words", "places", "shrink", "unset"]
        if alter:
            kinds += ["vacuum", "recreate", "index", "column", "drop", "analyze"]
        kind = self.chance.choice(kinds)
        with suppress(apsw.ConstraintError, apsw.MismatchError):
            getattr(self, f"do_{kind}")(table)

    def do_insert(self, table: str) -> None:
        self.insert(table, self.chance.choice([1, 3, 50]))

    def do_update(self, table: str) -> None:
        for key in self.some(table):
            self.run(f"UPDATE OR IGNORE {table} SET b = ?, c = ? WHERE id IS ?",
                     str(self.value()), self.value(), key)  # fmt: skip

    def do_overwrite(self, table: str) -> None:
        """Change the end of a long value and nothing else: only an overflow page differs."""
        self.run(
            f"UPDATE {table} SET b = substr(b, 1, length(b) - 1) || ? WHERE length(b) > 500",
            self.chance.choice("xyz"),
        )

    def do_same(self, table: str) -> None:
        self.run(f"UPDATE {table} SET b = b")

    def do_unset(self, table: str) -> None:
        for key in self.some(table):
            self.run(f"UPDATE OR IGNORE {table} SET b = NULL WHERE id IS ?", key)

    def do_delete(self, table: str) -> None:
        for key in self.some(table):
            self.run(f"DELETE FROM {table} WHERE id IS ?", key)

    def do_range(self, table: str) -> None:
        self.run(f"DELETE FROM {table} WHERE id BETWEEN ? AND ?", *sorted(
            [self.chance.randrange(3000), self.chance.randrange(3000)]))  # fmt: skip

    def do_rekey(self, table: str) -> None:
        for key in self.some(table):
            new = key + 5000 if isinstance(key, int) and key < 10**6 else key
            if isinstance(key, str) and self.chance.random() < 0.5:
                new = key.swapcase()  # another key, though some collations call it the same
            self.run(f"UPDATE OR IGNORE {table} SET id = ? WHERE id IS ?", new, key)

    def do_rollback(self, table: str) -> None:
        self.run("SAVEPOINT before_it")
        self.insert(table, 30)
        self.run(f"DELETE FROM {table} WHERE a IS NULL")
        self.run("ROLLBACK TO before_it")
        self.run("RELEASE before_it")

    def do_checkpoint(self, table: str) -> None:
        if not self.db.in_transaction:
            self.run(f"PRAGMA wal_checkpoint({self.chance.choice(['PASSIVE', 'TRUNCATE'])})")

    def do_shrink(self, table: str) -> None:
        self.run("PRAGMA incremental_vacuum(5)")

    def do_words(self, table: str) -> None:
        self.run("INSERT INTO words(b) VALUES (?)", self.chance.choice(["a berth", "boats"]))

    def do_places(self, table: str) -> None:
        at = self.chance.randrange(100)
        self.run("INSERT OR REPLACE INTO places VALUES (?, ?, ?)", at, at, at + 2)

    def do_vacuum(self, table: str) -> None:
        if not self.db.in_transaction:
            self.run("VACUUM")

    def do_analyze(self, table: str) -> None:
        self.run("ANALYZE")

    def do_recreate(self, table: str) -> None:
        self.run(f"DROP TABLE {table}")
        self.run(TABLES[table])
        self.insert(table, 10)

    def do_index(self, table: str) -> None:
        self.run(f"CREATE INDEX IF NOT EXISTS more_{table} ON {table}(c, b)")

    def do_column(self, table: str) -> None:
        name = f"more_{self.chance.randrange(10**6)}"
        self.run(f"ALTER TABLE {table} ADD COLUMN {name} TEXT DEFAULT 'filled in'")
        for key in self.some(table):
            self.run(f"UPDATE {table} SET {name} = ? WHERE id IS ?", str(self.value()), key)

    def do_drop(self, table: str) -> None:
        self.run("DROP TABLE IF EXISTS passing")
        self.run("CREATE TABLE passing(id INTEGER PRIMARY KEY, b)")
        self.run("INSERT INTO passing(b) VALUES (?)", self.chance.randbytes(6000))

    def copy(self, path: str) -> None:
        """Copy the database by SQLite itself, for the oracle."""
        target = apsw.Connection(path)
        with target.backup("main", self.db, "main") as backup:
            backup.step()
        target.close()

    def phase(self) -> list[Any] | None:
        """A few transactions; returns their net changes."""
        alter = self.chance.random() < 0.4
        session = None
        if not alter:
            session = apsw.Session(self.db, "main")
            session.attach()
        for _ in range(self.chance.choice([1, 2, 6])):
            if self.chance.random() < 0.5:
                self.work(alter)
                continue
            self.run("BEGIN")
            for _ in range(self.chance.choice([1, 4])):
                self.work(alter)
            self.run("COMMIT")
        if session is None:
            return None
        found = [
            [change.name, change.op, _plain(change.old), _plain(change.new)]
            for change in apsw.Changeset.iter(session.changeset())
        ]
        session.close()
        return found


def _plain(values: Any) -> Any:
    """Values as JSON carries them; what the changeset leaves out is told from NULL."""
    if values is None:
        return None
    plain: list[Any] = []
    for value in values:
        if value is apsw.no_change:
            plain.append("no change")
        elif isinstance(value, bytes):
            plain.append({"blob": base64.b64encode(value).decode()})
        else:
            plain.append([type(value).__name__, value])
    return plain


def main() -> None:
    app = App(sys.argv[1], int(sys.argv[2]))
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    for line in sys.stdin:
        answer = app.copy(line.strip()) if line.strip() else app.phase()
        sys.stdout.write(json.dumps(answer) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
