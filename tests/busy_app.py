"""An app that writes as fast as it can, without patience; run as a program.

    busy_app.py PATH JOURNAL LOCKING [PAUSE]

Every transaction keeps what must hold together: the sums of the tables ``a`` and ``b`` are equal
and stand in ``total``, and no value is below zero. Some transactions are larger than the cache and
are rolled back. Prints ``ready``, and at the end of its input how much was done and refused.
"""

from __future__ import annotations

import random
import select
import sqlite3
import sys
import time
from contextlib import closing
from pathlib import Path

ROWS = 300
INVARIANT = (
    "SELECT (SELECT sum(v) FROM a), (SELECT sum(v) FROM b), (SELECT v FROM total), "
    "(SELECT count(*) FROM a WHERE v < 0)"
)


def make(path: Path) -> Path:
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(
            "CREATE TABLE a(id INTEGER PRIMARY KEY, v, pad); CREATE TABLE total(v);"
            "CREATE TABLE b(id INTEGER PRIMARY KEY, v);"
            "CREATE TABLE log(id INTEGER PRIMARY KEY, x);"
            "INSERT INTO total VALUES (0);"
            f"WITH n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {ROWS - 1}) "
            "INSERT INTO a SELECT i, 0, zeroblob(600) FROM n;"
            "INSERT INTO b SELECT id, 0 FROM a;"
        )
    return path


def work(connection: sqlite3.Connection, chance: random.Random) -> None:
    run = connection.execute
    kind, number = chance.randrange(12), chance.randrange(ROWS)
    run(f"PRAGMA cache_size={3 if kind < 4 else 2000}")
    run("BEGIN IMMEDIATE")
    run("UPDATE a SET v = v + 1 WHERE id = ?", (number,))
    run("UPDATE b SET v = v + 1 WHERE id = ?", (number,))
    run("UPDATE total SET v = v + 1")
    if kind < 4:
        run("UPDATE a SET pad = randomblob(900) WHERE id % 7 = ?", (kind,))
    elif kind == 5:
        run("INSERT INTO log(x) VALUES (randomblob(3000))")
    elif kind == 6:
        run("DELETE FROM log WHERE id % 3 = 0")
    if kind in (1, 7):
        run("UPDATE a SET v = -5 WHERE id % 2 = 0")
        run("ROLLBACK")
    else:
        run("COMMIT")


def main(path: str, journal: str, locking: str, pause: str = "0") -> None:
    connection = sqlite3.connect(path, timeout=0, isolation_level=None)
    connection.execute(f"PRAGMA locking_mode={locking}")
    connection.execute(f"PRAGMA journal_mode={journal}")
    connection.execute("PRAGMA synchronous=OFF")
    chance = random.Random(path)
    done, refused, number = 0, [], 0
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    while number % 20 or not select.select([sys.stdin], [], [], 0)[0]:
        number += 1
        try:
            work(connection, chance)
            if number % 500 == 0:
                connection.execute("VACUUM")
            done += 1
        except sqlite3.OperationalError as error:
            refused.append(str(error))
            if connection.in_transaction:
                connection.execute("ROLLBACK")
        if float(pause):
            time.sleep(float(pause))
    connection.close()
    sys.stdout.write(f"{done} {len(refused)} {refused[:3]}\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
