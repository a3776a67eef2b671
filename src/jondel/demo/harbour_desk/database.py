"""Harbour Desk's schema in a SQLite file, and its connection to it."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

SCHEMA = """
CREATE TABLE pontoons(
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    side TEXT NOT NULL
);
CREATE TABLE berths(
    id INTEGER PRIMARY KEY,
    pontoon_id INTEGER NOT NULL REFERENCES pontoons(id),
    number INTEGER NOT NULL,
    length_cm INTEGER NOT NULL,
    has_power INTEGER NOT NULL DEFAULT 0,
    state TEXT NOT NULL DEFAULT 'free',
    booking_id INTEGER REFERENCES bookings(id),
    UNIQUE (pontoon_id, number)
);
CREATE TABLE skippers(
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    email TEXT,
    phone TEXT,
    note TEXT
);
CREATE TABLE boats(
    id INTEGER PRIMARY KEY,
    skipper_id INTEGER NOT NULL REFERENCES skippers(id),
    name TEXT NOT NULL,
    registration TEXT UNIQUE,
    length_cm INTEGER NOT NULL,
    draught_cm INTEGER,
    photo BLOB
);
CREATE TABLE bookings(
    id INTEGER PRIMARY KEY,
    berth_id INTEGER NOT NULL REFERENCES berths(id),
    skipper_id INTEGER NOT NULL REFERENCES skippers(id),
    boat_id INTEGER REFERENCES boats(id),
    status TEXT NOT NULL DEFAULT 'held',
    arrives_on TEXT NOT NULL,
    leaves_on TEXT NOT NULL,
    total REAL NOT NULL,
    checked_in_at TEXT,
    paid_at TEXT,
    cancelled_at TEXT,
    note TEXT
);
CREATE INDEX bookings_by_berth ON bookings(berth_id);
CREATE TABLE invoices(
    id INTEGER PRIMARY KEY,
    booking_id INTEGER,
    skipper_id INTEGER NOT NULL REFERENCES skippers(id),
    amount REAL NOT NULL,
    issued_at TEXT NOT NULL,
    due_on TEXT NOT NULL,
    settled_at TEXT
);
CREATE TABLE payments(
    id INTEGER PRIMARY KEY,
    invoice_id INTEGER NOT NULL REFERENCES invoices(id),
    amount REAL NOT NULL,
    method TEXT NOT NULL,
    reference TEXT,
    received_at TEXT NOT NULL
);
CREATE TABLE fuel_sales(
    id INTEGER PRIMARY KEY,
    boat_id INTEGER NOT NULL REFERENCES boats(id),
    pump INTEGER NOT NULL,
    litres REAL NOT NULL,
    price REAL NOT NULL,
    sold_at TEXT NOT NULL,
    note TEXT
);
CREATE TABLE tide_readings(
    id INTEGER PRIMARY KEY,
    gauge TEXT NOT NULL,
    measured_at TEXT NOT NULL,
    height_cm INTEGER NOT NULL,
    surge_cm INTEGER,
    quality TEXT NOT NULL DEFAULT 'raw'
);
CREATE INDEX tide_readings_by_time ON tide_readings(measured_at);
CREATE TABLE settings(
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE web_sessions(
    token TEXT PRIMARY KEY,
    skipper_id INTEGER,
    data TEXT NOT NULL,
    last_seen_at INTEGER NOT NULL
);
CREATE VIEW berth_occupancy AS
    SELECT p.name AS pontoon, count(*) AS berths,
           sum(b.state <> 'free') AS occupied,
           round(100.0 * sum(b.state <> 'free') / count(*), 1) AS percent
    FROM berths b JOIN pontoons p ON p.id = b.pontoon_id
    GROUP BY p.id;
"""


def connect(path: Path) -> sqlite3.Connection:
    """Open Harbour Desk's database. Foreign keys stay unenforced, as SQLite leaves them."""
    connection = sqlite3.connect(path, timeout=5.0, check_same_thread=False)
    connection.execute("PRAGMA journal_mode=WAL")
    return connection


class HarbourFile:
    """See ``Harbour``; in a SQLite file."""

    def __init__(self, path: Path) -> None:
        self._connection = connect(path)

    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        return self._connection.execute(statement, values).fetchall()

    def insert(self, statement: str, values: Sequence[object]) -> int:
        return self._connection.execute(statement, values).lastrowid or 0

    def fill(self, table: str, rows: Iterable[Sequence[object]]) -> None:
        values = iter(rows)
        first = next(values)
        insert = f"INSERT INTO {table} VALUES ({', '.join('?' * len(first))})"
        self._connection.execute(insert, first)
        self._connection.executemany(insert, values)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        with self._connection:
            yield

    def make_tables(self) -> None:
        self._connection.executescript(SCHEMA)

    def finish(self) -> None:
        self._connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def close(self) -> None:
        self._connection.close()
