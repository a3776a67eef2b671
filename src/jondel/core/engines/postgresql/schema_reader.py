"""Reads a database's schema from the catalogue."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, NamedTuple

from jondel.core.engines.postgresql.column_types import TypeFacts, column_type, value_of
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import OURS, named
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import (
    Column,
    ForeignKey,
    Schema,
    SchemaObject,
    Table,
    TableKind,
)
from jondel.core.model.value_text import as_text

_KINDS: dict[str, TableKind] = {
    "r": "table",
    "p": "partitioned table",
    "f": "foreign table",
    "m": "materialised view",
    "v": "view",
}
_ACTIONS = {"a": "NO ACTION", "r": "RESTRICT", "c": "CASCADE", "n": "SET NULL", "d": "SET DEFAULT"}
_TABLES = f"""
SELECT c.oid, n.nspname, c.relname, c.relkind, c.relispartition, obj_description(c.oid, 'pg_class'),
    has_table_privilege(c.oid, 'SELECT'),
    c.relkind = 'r' AND EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhparent = c.oid),
    CASE WHEN c.relispartition THEN pg_partition_root(c.oid)::oid END
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f', 'm', 'v') AND {OURS}
ORDER BY c.relkind = 'v', n.nspname, c.relname
"""
_COLUMNS = f"""
WITH RECURSIVE base AS (
    SELECT oid AS of, oid, typbasetype FROM pg_type
    UNION ALL
    SELECT base.of, t.oid, t.typbasetype
    FROM base JOIN pg_type t ON t.oid = base.typbasetype WHERE base.typbasetype <> 0
)
SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), t.typname, t.typtype,
    t.typcategory = 'A', tn.nspname, a.attnotnull, pg_get_expr(d.adbin, d.adrelid),
    a.attidentity, a.attgenerated, col_description(a.attrelid, a.attnum), t.oid, a.attnum,
    CASE WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN base ON base.of = a.atttypid AND base.typbasetype = 0
JOIN pg_type t ON t.oid = base.oid
JOIN pg_namespace tn ON tn.oid = t.typnamespace
LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'f', 'm', 'v') AND {OURS}
ORDER BY a.attrelid, a.attnum
"""
_KEYS = f"""
SELECT i.indrelid, i.indisprimary, a.attname
FROM pg_index i
JOIN pg_class c ON c.oid = i.indrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k(number, place)
LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number AND k.number > 0
WHERE i.indisunique AND i.indisvalid AND i.indpred IS NULL AND k.place <= i.indnkeyatts AND {OURS}
ORDER BY i.indrelid, i.indexrelid, k.place
"""
_UNIQUE = _KEYS.replace("SELECT i.indrelid,", "SELECT i.indexrelid, i.indrelid,")
_LINKS = f"""
SELECT f.oid, f.conrelid, f.confrelid, f.confdeltype, f.confupdtype, ours.attname, theirs.attname
FROM pg_constraint f
JOIN pg_class c ON c.oid = f.conrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
CROSS JOIN LATERAL unnest(f.conkey, f.confkey) WITH ORDINALITY AS k(own, other, place)
JOIN pg_attribute ours ON ours.attrelid = f.conrelid AND ours.attnum = k.own
JOIN pg_attribute theirs ON theirs.attrelid = f.confrelid AND theirs.attnum = k.other
WHERE f.contype = 'f' AND {OURS}
ORDER BY f.conrelid, f.conname, k.place
"""
_LABELS = "SELECT enumtypid, enumlabel FROM pg_enum ORDER BY enumtypid, enumsortorder"
_OBJECTS = f"""
SELECT 'index', n.nspname, i.relname, c.relname, pg_get_indexdef(x.indexrelid),
  EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = x.indexrelid AND k.contype <> 'f')
FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_class c ON c.oid = x.indrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {OURS}
UNION ALL
SELECT 'trigger', n.nspname, t.tgname, c.relname, pg_get_triggerdef(t.oid), false
FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE NOT t.tgisinternal AND {OURS}
UNION ALL
SELECT 'view', n.nspname, c.relname, c.relname, pg_get_viewdef(c.oid), false
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('v', 'm') AND {OURS}
UNION ALL
SELECT 'constraint', n.nspname, k.conname, c.relname, pg_get_constraintdef(k.oid), false
FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE k.contype IN ('c', 'x', 'f') AND {OURS}
ORDER BY 1, 2, 3, 4
"""


_PLAIN_TYPES = frozenset(
    {"bool", "bpchar", "bytea", "date", "float4", "float8", "inet", "int2", "int4", "int8",
     "interval", "json", "jsonb", "numeric", "text", "time", "timestamp", "timestamptz", "timetz",
     "uuid", "varchar", "xml"}
)  # fmt: skip
"""Types that are meant by their names alone: ours come first on any search path we set."""


class ServerSchema(NamedTuple):
    """The schema, and what only the engine needs: by table and column, the type to cast to."""

    schema: Schema
    casts: dict[TableId, dict[str, str]]


def read_schema(connection: Connection) -> ServerSchema:
    """Read all tables of the database that are not the server's own. Raises ``psycopg.Error``."""
    return _Reading(connection).run()


class _Reading:
    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._filled_in: dict[str, dict[str, str]] = defaultdict(dict)
        self._column_numbers: dict[str, list[int]] = defaultdict(list)

    def _ask(self, sql: str) -> list[tuple[Any, ...]]:
        rows = self._connection.execute(sql).fetchall()
        return [tuple(_plain(value) for value in row) for row in rows]

    def run(self) -> ServerSchema:
        labels: dict[str, list[str]] = defaultdict(list)
        for kind, label in self._ask(_LABELS):
            labels[kind].append(label)
        primary, unique = self._keys()
        columns, casts = self._columns({k: tuple(v) for k, v in labels.items()}, primary)
        listed = self._ask(_TABLES)
        ids = {number: TableId(schema, name) for number, schema, name, *_ in listed}
        links = self._links(ids)
        tables = []
        for number, schema, name, kind, is_part, comment, readable, inherited, root in listed:
            tables.append(
                Table(
                    TableId(schema, name),
                    _KINDS[kind],
                    tuple(columns.get(number, ())),
                    links.get(number, ()),
                    internal=is_part == "t",
                    identity=int(number),
                    unreadable=None if readable == "t" else "you may not read it",
                    unique_keys=tuple(unique.get(number, ())),
                    schema=schema,
                    comment=comment or "",
                    inherited=inherited == "t",
                    is_partition=is_part == "t",
                    partition_of=ids.get(root),
                    column_numbers=tuple(self._column_numbers.get(number, ())),
                    filled_in=dict(self._filled_in.get(number, {})),
                )
            )
        objects = tuple(
            SchemaObject(
                kind, TableId(schema, name), TableId(schema, of), sql, of_constraint=owned == "t"
            )
            for kind, schema, name, of, sql, owned in self._ask(_OBJECTS)
        )
        known = {ids[number]: of_table for number, of_table in casts.items() if number in ids}
        return ServerSchema(Schema(tuple(tables), objects), known)

    def _keys(self) -> tuple[dict[str, list[str]], dict[str, list[tuple[str, ...]]]]:
        """The primary key of each table, and its other keys that are of columns alone."""
        found: dict[tuple[str, str, str], list[str | None]] = {}
        for index, table, is_primary, column in self._ask(_UNIQUE):
            found.setdefault((table, is_primary, index), []).append(column)
        primary: dict[str, list[str]] = {}
        unique: dict[str, list[tuple[str, ...]]] = defaultdict(list)
        for (table, is_primary, _), names in found.items():
            whole = [name for name in names if name is not None]
            if len(whole) == len(names):
                if is_primary == "t":
                    primary[table] = whole
                else:
                    unique[table].append(tuple(whole))
        return primary, unique

    def _columns(
        self, labels: dict[str, tuple[str, ...]], primary: dict[str, list[str]]
    ) -> tuple[dict[str, list[Column]], dict[str, dict[str, str]]]:
        columns: dict[str, list[Column]] = defaultdict(list)
        casts: dict[str, dict[str, str]] = defaultdict(dict)
        for (
            table, name, shown, base, sort, is_array, base_schema, not_null, default, identity,
            generated, comment, base_number, number, filled_in,
        ) in self._ask(_COLUMNS):  # fmt: skip
            facts = TypeFacts(shown, base, sort, is_array == "t", labels.get(base_number, ()))
            key = primary.get(table, [])
            self._column_numbers[table].append(int(number))
            columns[table].append(
                Column(
                    name,
                    column_type(facts),
                    not_null == "t",
                    None if generated else default,
                    key.index(name) + 1 if name in key else 0,
                    bool(generated),
                    bool(identity) or (default or "").startswith("nextval("),
                    comment or "",
                )
            )
            if filled_in is not None:
                self._filled_in[table][name] = as_text(
                    value_of(columns[table][-1].type, filled_in.encode())
                )
            casts[table][name] = _cast(base_schema, base)
        return columns, casts

    def _links(self, ids: dict[str, TableId]) -> dict[str, tuple[ForeignKey, ...]]:
        parts: dict[tuple[str, str], list[tuple[str, ...]]] = {}
        for number, table, *part in self._ask(_LINKS):
            parts.setdefault((table, number), []).append(tuple(part))
        found: dict[str, list[ForeignKey]] = defaultdict(list)
        for (table, _), columns in parts.items():
            target, on_delete, on_update = columns[0][:3]
            if target in ids:
                found[table].append(
                    ForeignKey(
                        tuple(ours for *_, ours, _ in columns),
                        ids[target],
                        tuple(theirs for *_, theirs in columns),
                        _ACTIONS.get(on_delete, "NO ACTION"),
                        _ACTIONS.get(on_update, "NO ACTION"),
                    )
                )
        return {table: tuple(keys) for table, keys in found.items()}


def _cast(schema: str, name: str) -> str:
    """A type's name as it stands in a cast; the server's own ones without their schema."""
    if schema == "pg_catalog" and name in _PLAIN_TYPES:
        return name
    return named(TableId(schema, name))


def _plain(value: bytes | None) -> str | None:
    return None if value is None else value.decode("utf-8", "replace")
