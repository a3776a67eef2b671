"""Reads a SQLite schema into the model."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from typing import Any, NamedTuple

import apsw

from jondel.core.engines.sqlite.column_types import column_type
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.engines.sqlite.unknown_order import tables_of_unknown_order
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Column, ForeignKey, Schema, SchemaObject, Table, TableKind

_SCHEMA = "main"
_DERIVED = ("sqlite_sequence", "sqlite_stat1", "sqlite_stat3", "sqlite_stat4")
_KINDS: dict[str, TableKind] = {"table": "table", "view": "view", "virtual": "virtual table"}
_ROW_ID_NAMES = ("rowid", "_rowid_", "oid")
_COLUMN = 'x.name, x.type, x."notnull", x.dflt_value, x.pk, x.hidden'
_HIDDEN_COLUMN = 1
_MOST_REMEMBERED = 4
_known: dict[int, Schema] = {}
_GENERATED = (2, 3)


def read_schema(connection: apsw.Connection) -> tuple[int, Schema]:
    """Read all tables and objects of the main schema, sorted by name, views last.

    Two states of a database mostly have their declarations in common: what was remembered of the
    same ones is not read again. The first item is what to remember the schema by.
    """
    declared: list[tuple[Any, ...]] = connection.execute(
        "SELECT type, name, tbl_name, rootpage, sql FROM main.sqlite_schema ORDER BY type, name"
    ).fetchall()
    key = hash(tuple(declared))
    return key, _known.get(key) or _read(connection, declared)


def remember_schema(key: int, schema: Schema) -> None:
    """Have a schema that was read of a committed state be found again by its declarations."""
    # What a table's module or a view's functions are missing may be there another time.
    if key not in _known and not any(table.unreadable for table in schema.tables):
        while len(_known) >= _MOST_REMEMBERED:
            _known.pop(next(iter(_known)), None)
        _known[key] = schema


def _read(connection: apsw.Connection, declared: Sequence[tuple[Any, ...]]) -> Schema:
    listed: list[tuple[Any, ...]] = connection.execute(
        "SELECT name, type, wr, strict FROM pragma_table_list WHERE schema = 'main' ORDER BY name"
    ).fetchall()
    roots = {name: root for kind, name, _, root, _ in declared if kind == "table"}
    indexed = {of for kind, _, of, _, _ in declared if kind == "index"}
    keys = _foreign_keys_of_all(connection)
    unknown = tables_of_unknown_order(connection)
    columns = _columns_of_all(connection)
    tables = [
        _table(
            connection,
            columns.get(name) or partial(_columns, connection, name, bool(strict)),
            _Listed(
                name,
                kind,
                bool(by_key),
                bool(strict),
                roots.get(name) or None,
                name in indexed,
            ),
            keys.get(name, ()),
            unknown.get(name, ""),
        )
        for name, kind, by_key, strict in listed
    ]
    tables.sort(key=lambda table: (table.kind == "view", table.name.casefold(), table.name))
    ids = {table.name: table.id for table in tables}
    objects = [
        SchemaObject(
            kind,
            ids.get(name) or TableId(name),
            ids.get(of) or TableId(of),
            sql,
            _is_internal(name),
        )
        for kind, name, of, _, sql in declared
    ]
    return Schema(tuple(tables), tuple(objects))


class _Listed(NamedTuple):
    """What SQLite lists of a table; ``by_key`` says that its rows have no numbers."""

    name: str
    kind: str
    by_key: bool
    strict: bool
    root: int | None
    indexed: bool


def _table(
    connection: apsw.Connection,
    columns_or_how: tuple[Column, ...] | Callable[[], tuple[Column, ...]],
    listed: _Listed,
    keys: tuple[ForeignKey, ...],
    unknown_order: str,
) -> Table:
    name = listed.name
    shadow_of = name.rpartition("_")[0] if listed.kind == "shadow" else ""
    internal = bool(shadow_of) or _is_internal(name)
    kind = _KINDS.get(listed.kind, "table")
    try:
        columns = columns_or_how() if callable(columns_or_how) else columns_or_how
        columns = _with_key(columns, by_key=listed.by_key)
        row_id = None if listed.by_key else _row_id(connection, name, kind, columns)
    except apsw.Error as error:
        # A view on a dropped table, a module or function that only the app registers.
        why = str(error)
        return Table(
            TableId(name),
            kind,
            (),
            internal=internal,
            shadow_of=shadow_of,
            unreadable=why,
            schema=_SCHEMA,
        )
    keyed = any(column.key_position for column in columns)
    return Table(
        TableId(name),
        kind,
        columns,
        keys,
        row_id,
        internal,
        shadow_of,
        listed.by_key,
        listed.strict,
        listed.root,
        unknown_order,
        # Beside a primary key nobody needs them, and of many tables that takes long to ask.
        unique_keys=_unique(connection, name) if listed.indexed and not keyed else (),
        schema=_SCHEMA,
        derived=name in _DERIVED,
    )


def _is_internal(name: str) -> bool:
    return name.startswith("sqlite_")


def _unique(connection: apsw.Connection, table: str) -> tuple[tuple[str, ...], ...]:
    """The columns of each unique index of all rows, of columns alone."""
    found: dict[int, list[str | None]] = {}
    for number, column in connection.execute(
        "SELECT l.seq, x.name FROM pragma_index_list(?, 'main') l, "
        "pragma_index_info(l.name, 'main') x "
        'WHERE l."unique" AND NOT l.partial ORDER BY l.seq DESC, x.seqno',
        (table,),
    ):
        found.setdefault(number, []).append(column)
    return tuple(
        tuple(name for name in names if name is not None)
        for names in found.values()
        if None not in names
    )


def _columns_of_all(connection: apsw.Connection) -> dict[str, tuple[Column, ...]]:
    """The columns of all tables and views at once; nothing where one of them cannot be read."""
    found: dict[str, list[Column]] = {}
    try:
        for name, strict, *column in connection.execute(
            f"SELECT l.name, l.strict, {_COLUMN} FROM pragma_table_list l, "
            "pragma_table_xinfo(l.name, 'main') x WHERE l.schema = 'main'"
        ):
            of_table = found.get(name)
            if of_table is None:
                of_table = found[name] = []
            if column[-1] != _HIDDEN_COLUMN:
                of_table.append(_column(column, bool(strict)))
    except apsw.Error:
        return {}
    return {name: tuple(columns) for name, columns in found.items()}


def _columns(connection: apsw.Connection, table: str, strict: bool) -> tuple[Column, ...]:
    sql = f"SELECT {_COLUMN} FROM pragma_table_xinfo(?, 'main') x"
    listed = connection.execute(sql, (table,))
    return tuple(_column(column, strict) for column in listed if column[-1] != _HIDDEN_COLUMN)


def _column(listed: Sequence[Any], strict: bool) -> Column:
    name, declared, not_null, default, position, hidden = listed
    generated = hidden in _GENERATED
    return Column(
        name, column_type(declared or "", strict), bool(not_null), default, position, generated
    )


def _with_key(columns: tuple[Column, ...], *, by_key: bool) -> tuple[Column, ...]:
    """Columns with what it means for them to be in the key."""
    if by_key:
        return tuple(c._replace(not_null=True) if c.key_position else c for c in columns)
    places = [place for place, column in enumerate(columns) if column.key_position]
    if len(places) == 1 and columns[places[0]].type.name.upper() == "INTEGER":
        place = places[0]
        return (*columns[:place], _numbered(columns[place]), *columns[place + 1 :])
    return columns


@lru_cache(maxsize=1024)
def _numbered(column: Column) -> Column:
    return column._replace(numbered=True)


def _row_id(
    connection: apsw.Connection, table: str, kind: TableKind, columns: tuple[Column, ...]
) -> str | None:
    if kind == "view":
        return None
    taken = {column.name.lower() for column in columns}
    name = next((name for name in _ROW_ID_NAMES if name not in taken), None)
    if name is None:
        keys = [column for column in columns if column.key_position]
        if len(keys) == 1 and keys[0].type.name.upper() == "INTEGER":
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


def _foreign_keys_of_all(connection: apsw.Connection) -> dict[str, tuple[ForeignKey, ...]]:
    """The foreign keys of all tables that have some."""
    found: dict[str, dict[int, list[tuple[Any, ...]]]] = {}
    for table, number, *part in connection.execute(
        'SELECT s.name, f.id, f."table", f."from", f."to", f.on_delete '
        "FROM main.sqlite_schema s, pragma_foreign_key_list(s.name, 'main') f "
        "WHERE s.type = 'table' AND s.sql LIKE '%references%' ORDER BY f.id, f.seq",
    ):
        found.setdefault(table, {}).setdefault(number, []).append(tuple(part))
    return {
        table: tuple(
            ForeignKey(
                tuple(source for _, source, _, _ in parts),
                TableId(parts[0][0]),
                tuple(to for _, _, to, _ in parts if to is not None),
                parts[0][3],
            )
            for _, parts in sorted(keys.items())
        )
        for table, keys in found.items()
    }
