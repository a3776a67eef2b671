"""Reads a SQLite schema into the model."""

from __future__ import annotations

from typing import Any

import apsw

from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.model.schema import Column, ForeignKey, Schema, SchemaObject, Table, TableKind

_KINDS: dict[str, TableKind] = {"table": "table", "view": "view", "virtual": "virtual table"}
_ROW_ID_NAMES = ("rowid", "_rowid_", "oid")
_HIDDEN_COLUMN = 1
_GENERATED = (2, 3)


def read_schema(connection: apsw.Connection) -> Schema:
    """Read all tables and objects of the main schema, sorted by name, views last."""
    listed: list[tuple[Any, ...]] = connection.execute(
        "SELECT l.name, l.type, l.wr, l.strict, s.rootpage FROM pragma_table_list l "
        "LEFT JOIN sqlite_schema s ON s.type = 'table' AND s.name = l.name "
        "WHERE l.schema = 'main' ORDER BY l.name"
    ).fetchall()
    tables = [_table(connection, *entry) for entry in listed]
    tables.sort(key=lambda table: (table.kind == "view", table.name.casefold(), table.name))
    objects: list[tuple[Any, ...]] = connection.execute(
        "SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name"
    ).fetchall()
    return Schema(tuple(tables), tuple(SchemaObject(*entry) for entry in objects))


def _table(
    connection: apsw.Connection,
    name: str,
    listed_kind: str,
    without_rowid: int,
    strict: int,
    root: int | None,
) -> Table:
    internal = listed_kind == "shadow" or name.startswith("sqlite_")
    kind = _KINDS.get(listed_kind, "table")
    try:
        columns = _columns(connection, name)
        row_id = None if without_rowid else _row_id(connection, name, kind, columns)
        keys = _foreign_keys(connection, name)
    except apsw.Error as error:
        # A view on a dropped table, a module or function that only the app registers.
        return Table("main", name, kind, (), internal=internal, unreadable=str(error))
    return Table(
        "main",
        name,
        kind,
        columns,
        keys,
        row_id,
        internal,
        bool(without_rowid),
        bool(strict),
        root or None,
    )


def _columns(connection: apsw.Connection, table: str) -> tuple[Column, ...]:
    found: list[tuple[Any, ...]] = connection.execute(
        'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?)', (table,)
    ).fetchall()
    return tuple(
        Column(name, declared or "", bool(not_null), default, position, hidden in _GENERATED)
        for name, declared, not_null, default, position, hidden in found
        if hidden != _HIDDEN_COLUMN
    )


def _row_id(
    connection: apsw.Connection, table: str, kind: TableKind, columns: tuple[Column, ...]
) -> str | None:
    if kind == "view":
        return None
    taken = {column.name.lower() for column in columns}
    name = next((name for name in _ROW_ID_NAMES if name not in taken), None)
    if name is None:
        keys = [column for column in columns if column.key_position]
        if len(keys) == 1 and keys[0].declared_type.upper() == "INTEGER":
            return keys[0].name
        return None
    if kind == "virtual table":
        try:
            connection.execute(f"SELECT {name} FROM {quoted(table)} LIMIT 0").fetchall()
        except apsw.SQLError as error:
            if "no such column" in str(error):
                return None
            raise
    return name


def _foreign_keys(connection: apsw.Connection, table: str) -> tuple[ForeignKey, ...]:
    found: dict[int, list[tuple[Any, ...]]] = {}
    for number, *part in connection.execute(
        'SELECT id, "table", "from", "to", on_delete FROM pragma_foreign_key_list(?) '
        "ORDER BY id, seq",
        (table,),
    ):
        found.setdefault(number, []).append(tuple(part))
    return tuple(
        ForeignKey(
            tuple(source for _, source, _, _ in parts),
            parts[0][0],
            tuple(to for _, _, to, _ in parts if to is not None),
            parts[0][3],
        )
        for parts in found.values()
    )
