"""Expected changes, found the naive way with Python's own SQLite module."""

from __future__ import annotations

import sqlite3
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any, TypeAlias

from jondel.core.model.changes import Changes
from jondel.core.model.values import InvalidText

Cell: TypeAlias = tuple[str, Any]
"""A storage class and a value; text as its bytes."""
Rows: TypeAlias = dict[Any, dict[str, Cell]]
Found: TypeAlias = tuple[str, tuple[Any, ...], Any]


def _cells(row: tuple[Any, ...], encoding: str) -> list[Cell]:
    pairs = [(row[i], row[i + 1]) for i in range(0, len(row), 2)]
    return [(kind, _text(v, encoding) if kind == b"text" else v) for kind, v in pairs]


def _text(stored: bytes, encoding: str) -> bytes:
    """Text in UTF-8, or as it is stored where it is not valid."""
    try:
        return stored.decode(encoding).encode()
    except UnicodeDecodeError:
        return stored


class Side:
    """One database, read whole."""

    def __init__(self, path: Path) -> None:
        with closing(sqlite3.connect(path)) as connection:
            connection.text_factory = bytes
            for name in ("fold", "backwards"):
                # Never asked to find anything by it.
                connection.create_collation(name, lambda one, other: (one > other) - (one < other))
            self.columns: dict[str, list[str]] = {}
            self.keys: dict[str, list[str]] = {}
            self.rows: dict[str, list[tuple[int | None, dict[str, Cell]]]] = {}
            listed = connection.execute(
                "SELECT name, wr FROM pragma_table_list "
                "WHERE schema = 'main' AND type = 'table' AND name NOT LIKE 'sqlite%'"
            ).fetchall()
            for raw, without_row_id in listed:
                self._read(connection, raw.decode(), bool(without_row_id))

    def _read(self, connection: sqlite3.Connection, name: str, without_row_id: bool) -> None:
        info = connection.execute(
            f'SELECT name, pk FROM pragma_table_xinfo("{name}") WHERE hidden <> 1'
        ).fetchall()
        columns = [column.decode() for column, _ in info]
        self.columns[name] = columns
        self.keys[name] = [c.decode() for c, pk in sorted(info, key=lambda e: e[1]) if pk]
        # Text as it is stored: made UTF-8 of, what is not valid in UTF-16 would be lost.
        parts = ", ".join(
            f'typeof("{c}"), CASE typeof("{c}") WHEN \'text\' '
            f'THEN CAST("{c}" AS BLOB) ELSE "{c}" END'
            for c in columns
        )
        (encoding,) = connection.execute("PRAGMA encoding").fetchone()
        row_id = "NULL" if without_row_id else "rowid"
        if "rowid" in columns:
            row_id = "_rowid_"
        self.rows[name] = [
            (found[0], dict(zip(columns, _cells(found[1:], encoding.decode()), strict=True)))
            for found in connection.execute(f'SELECT {row_id}, {parts} FROM "{name}"')
        ]

    def keyed(self, name: str, key: list[str] | None) -> Rows:
        return {
            (row_id if key is None else tuple(row[c] for c in key)): row
            for row_id, row in self.rows.get(name, [])
        }

    def repeats_null_keys(self, name: str, key: list[str]) -> bool:
        with_null = [
            row for _, row in self.rows.get(name, []) if any(row[c][0] == b"null" for c in key)
        ]
        return len(with_null) > 1


def expected(before: Path, after: Path) -> Counter[Any]:
    """Every change as a hashable entry: table, kind, key, and the row or the cells."""
    old, new = Side(before), Side(after)
    found: Counter[Any] = Counter()
    for name in {*old.columns, *new.columns}:
        key: list[str] | None = new.keys.get(name) or old.keys.get(name) or None
        sides = [side for side in (old, new) if name in side.columns]
        if key is not None and any(
            not set(key) <= set(side.columns[name]) or side.repeats_null_keys(name, key)
            for side in sides
        ):
            key = None
        was, now = old.keyed(name, key), new.keyed(name, key)
        for at in was.keys() | now.keys():
            if at not in was:
                found[(name, "added", at, frozenset(now[at].items()))] += 1
            elif at not in now:
                found[(name, "removed", at, frozenset(was[at].items()))] += 1
            else:
                cells = frozenset(
                    (column, was[at][column], now[at][column])
                    for column in was[at].keys() & now[at].keys()
                    if was[at][column] != now[at][column]
                )
                if cells:
                    found[(name, "changed", at, cells)] += 1
    return found


def _cell(value: Any) -> Cell:
    match value:
        case None:
            return b"null", None
        case int():
            return b"integer", value
        case float():
            return b"real", value
        case str():
            return b"text", value.encode()
        case InvalidText(raw):
            return b"text", raw
        case _:
            return b"blob", value


def as_found(changes: Changes) -> Counter[Any]:
    """Changes that Jondel found, in the form of ``expected``."""
    found: Counter[Any] = Counter()
    for table in changes.tables:
        for record in table.records:
            if table.key_is_row_id:
                key: Any = record.key[0]
            else:
                key = tuple(_cell(value) for value in record.key)
            if record.kind == "changed":
                content = frozenset(
                    (cell.column, _cell(cell.before), _cell(cell.after)) for cell in record.cells
                )
            else:
                columns = table.columns_after if record.kind == "added" else table.columns_before
                row = record.after if record.kind == "added" else record.before
                assert row is not None
                content = frozenset(zip(columns, map(_cell, row), strict=True))
            found[(str(table.table), record.kind, key, content)] += 1
    return found
