"""What the contract of engines is tested with: tables described once, made in each engine."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple, Protocol

import psycopg

from jondel.core.engines.memory.database import open_tables
from jondel.core.engines.memory.tables import MemoryTables
from jondel.core.engines.postgresql.database import open_server
from jondel.core.engines.postgresql.sql_text import argument
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.mirror.mirror import Mirror
from jondel.core.mirror.rereading import Rereading
from jondel.core.mirror.state import open_mirrored
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.schema import Column, ForeignKey, Table
from jondel.core.model.values import Exact, Row, StoredValue

RISING: dict[str, tuple[StoredValue, ...]] = {
    "integer": (-(2**63), -5, 0, 3, 12, 2**63 - 1),
    "real": (float("-inf"), -2.5, 0.0, 1e-300, 3.25, 1e300),
    "text": ("", " ", "A", "a", "ab", "Ö", "\U0001f30a"),
    "blob": (b"", b"\x00", b"a", b"\xff\xfe"),
    **{
        kind: tuple(Exact(kind, text) for text in texts)
        for kind, texts in {
            "numeric": (
                "-Infinity",
                "-12.50",
                "0",
                "1.5",
                "10.00",
                "99999999999999999999.1",
                "NaN",
            ),
            "boolean": ("false", "true"),
            "date": ("0044-03-15 BC", "1999-12-31", "2026-06-14", "infinity"),
            "time": ("00:00:00", "14:02:11", "14:02:11.5", "24:00:00"),
            "time with time zone": ("10:00:00+02", "10:00:00+00", "10:00:00-02:30"),
            "timestamp": ("-infinity", "1999-12-31 23:59:59", "2026-06-14 14:02:11.000001"),
            "timestamp with time zone": ("2026-06-14 12:02:11+00", "2026-06-14 14:02:11+00"),
            "interval": ("-1 days", "00:00:00", "1 day 02:00:00", "1 mon", "1 year"),
            "uuid": (
                "00000000-0000-0000-0000-000000000001",
                "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
            ),
            "json": ('{"a": 1.50}', '{"a": 1.5}', "[]"),
            "enum": ("calm", "rough"),
            "array": ("{1,2}", "{NULL}"),
            "bits": ("001", "101"),
            "inet": ("10.0.0.1", "::1"),
        }.items()
    },
}
"""Values of each kind in the order in which engines sort them; all of a kind are different."""
SORTED_KINDS = frozenset(RISING) - {"json", "enum", "array", "inet"}
"""Of the others it is not known how each engine sorts them."""


class Spec(NamedTuple):
    """A table to be made: its name, its columns with their kinds, those in its key, its rows."""

    name: str
    columns: tuple[tuple[str, str], ...]
    key: tuple[str, ...]
    rows: tuple[Row, ...]
    parent: tuple[str, str, str] | None = None
    """A column of this table that points at another table's column."""


class Made(Protocol):
    """A database of an engine, with what its app can do."""

    def open(self) -> Database: ...

    def table(self, database: Database, name: str) -> Table: ...

    def commit(self, name: str, rows: Sequence[Row]) -> None:
        """Have a table hold these rows instead, as its app would."""


@dataclass
class MadeFile:
    """A SQLite file."""

    path: Path
    specs: dict[str, Spec]

    def open(self) -> Database:
        return open_database(self.path)

    def table(self, database: Database, name: str) -> Table:
        found = database.schema().named(name)
        assert found is not None
        return found

    def commit(self, name: str, rows: Sequence[Row]) -> None:
        with closing(sqlite3.connect(self.path)) as connection, connection:
            connection.execute(f'DELETE FROM "{name}"')
            marks = ", ".join("?" * len(self.specs[name].columns))
            connection.executemany(f'INSERT INTO "{name}" VALUES ({marks})', rows)


@dataclass
class MadeTables:
    """Tables in memory."""

    tables: MemoryTables

    def open(self) -> Database:
        return open_tables(self.tables)

    def table(self, database: Database, name: str) -> Table:
        found = database.schema().named(name)
        assert found is not None
        return found

    def commit(self, name: str, rows: Sequence[Row]) -> None:
        self.tables.fill(TableId("harbour", name), rows)


class SqliteFiles:
    name = "sqlite"
    kinds = ("integer", "real", "text", "blob")
    writes = True

    def make(self, folder: Path, specs: Sequence[Spec]) -> Made:
        path = folder / f"{len(list(folder.iterdir()))}.db"
        made = MadeFile(path, {spec.name: spec for spec in specs})
        with closing(sqlite3.connect(path)) as connection:
            for spec in specs:
                parts = [f'"{column}" {kind.upper()}' for column, kind in spec.columns]
                if spec.key:
                    names = ", ".join(f'"{column}"' for column in spec.key)
                    parts.append(f"PRIMARY KEY ({names})")
                if spec.parent:
                    ours, table, theirs = spec.parent
                    parts.append(f'FOREIGN KEY ("{ours}") REFERENCES "{table}"("{theirs}")')
                connection.execute(f'CREATE TABLE "{spec.name}"({", ".join(parts)})')
            connection.commit()
        for spec in specs:
            made.commit(spec.name, spec.rows)
        return made


class MemoryEngine:
    name = "memory"
    kinds = tuple(RISING)
    writes = True

    def make(self, folder: Path, specs: Sequence[Spec]) -> Made:
        tables = MemoryTables("harbour", [_memory_table(spec) for spec in specs])
        made = MadeTables(tables)
        for spec in specs:
            made.commit(spec.name, spec.rows)
        return made


@dataclass
class MadeMirror(MadeTables):
    """Tables in memory, and the mirror of them, which is opened."""

    folder: Path

    def open(self) -> Database:
        mirror = Mirror(self.folder)
        with closing(open_tables(self.tables)) as database:
            mirror.update(Rereading(database, mirror.path))
        return open_mirrored(mirror.path)


class MirroredEngine:
    """What is read of it has been through the mirror."""

    name = "mirrored"
    kinds = tuple(RISING)
    writes = False

    def make(self, folder: Path, specs: Sequence[Spec]) -> Made:
        tables = MemoryTables("harbour", [_memory_table(spec) for spec in specs])
        made = MadeMirror(tables, folder / f"mirror{len(list(folder.iterdir()))}")
        for spec in specs:
            made.commit(spec.name, spec.rows)
        return made


@dataclass
class MadeOnServer:
    """A schema of a database on a server."""

    server: str
    schema: str
    specs: dict[str, Spec]

    def open(self) -> Database:
        return open_server(self.server, self.server, "harbour")

    def table(self, database: Database, name: str) -> Table:
        found = database.schema().find(TableId(self.schema, name))
        assert found is not None
        return found

    def commit(self, name: str, rows: Sequence[Row]) -> None:
        spec = self.specs[name]
        marks = ", ".join(f"%s::{_SERVER_TYPES.get(kind, kind)}" for _, kind in spec.columns)
        with psycopg.connect(self.server) as connection:
            connection.execute(f'DELETE FROM {self.schema}."{name}"')
            for row in rows:
                values = [argument(value) for value in row]
                connection.execute(f'INSERT INTO {self.schema}."{name}" VALUES ({marks})', values)


_SERVER_TYPES = {
    "integer": "int8",
    "real": "float8",
    "blob": "bytea",
    "enum": "public.mood",
    "array": "int[]",
    "bits": "varbit",
}


class ServerEngine:
    """Databases on a PostgreSQL server, which ``server`` is the URL of."""

    no_keys = ("json",)

    name = "postgresql"
    kinds = tuple(RISING)
    writes = True
    server = ""

    def make(self, folder: Path, specs: Sequence[Spec]) -> Made:
        schema = "harbour"
        with psycopg.connect(self.server, autocommit=True) as connection:
            (number,) = connection.execute("SELECT count(*) FROM pg_database").fetchone() or (0,)
            connection.execute(f"CREATE DATABASE made{number}")
        url = self.server.replace("/postgres?", f"/made{number}?")
        with psycopg.connect(url) as connection:
            connection.execute(f"CREATE SCHEMA {schema}")
            connection.execute("CREATE TYPE public.mood AS ENUM ('calm', 'rough')")
            for spec in specs:
                parts = [
                    f'"{column}" {_SERVER_TYPES.get(kind, kind)}' for column, kind in spec.columns
                ]
                if spec.key:
                    names = ", ".join(f'"{column}"' for column in spec.key)
                    parts.append(f"PRIMARY KEY ({names})")
                if spec.parent:
                    ours, table, theirs = spec.parent
                    parts.append(
                        f'FOREIGN KEY ("{ours}") REFERENCES {schema}."{table}"("{theirs}")'
                    )
                connection.execute(f'CREATE TABLE {schema}."{spec.name}"({", ".join(parts)})')
        made = MadeOnServer(url, schema, {spec.name: spec for spec in specs})
        for spec in specs:
            made.commit(spec.name, spec.rows)
        return made


SERVER_ENGINE = ServerEngine()
ENGINES = (SqliteFiles(), MemoryEngine(), MirroredEngine(), SERVER_ENGINE)


def column_type_of(kind: str) -> ColumnType:
    """The type of a column of a kind, in an engine that knows all of them."""
    plain: dict[str, ValueKind] = {
        "integer": "integer",
        "real": "real",
        "text": "text",
        "blob": "blob",
    }
    if kind in plain:
        return ColumnType(kind, plain[kind])
    if kind == "inet":
        return ColumnType("inet", "other", exact=True)
    return ColumnType(kind, kind, exact=True)  # type: ignore[arg-type]


def _memory_table(spec: Spec) -> Table:
    columns = tuple(
        Column(
            name,
            column_type_of(kind),
            not_null=name in spec.key,
            key_position=spec.key.index(name) + 1 if name in spec.key else 0,
        )
        for name, kind in spec.columns
    )
    keys = ()
    if spec.parent:
        ours, table, theirs = spec.parent
        keys = (ForeignKey((ours,), TableId("harbour", table), (theirs,)),)
    row_id = None if spec.key else "#"
    return Table(TableId("harbour", spec.name), "table", columns, keys, row_id, schema="harbour")
