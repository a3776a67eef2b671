"""What the columns of a result are: their types, and the tables that they come from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import psycopg

from jondel.core.engines.postgresql.column_types import TypeFacts, column_type, value_of
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import ShownRow

_TYPES = """
SELECT oid, typname, typtype, typcategory = 'A', format_type(oid, NULL)
FROM pg_catalog.pg_type WHERE oid = ANY(%s::oid[])
"""
_ORIGINS = """
SELECT a.attrelid, a.attnum, n.nspname, c.relname, a.attname
FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid
JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
WHERE a.attrelid = ANY(%s::oid[]) AND a.attnum > 0
"""


class ResultReading:
    """Reads the rows of one result."""

    def __init__(self, connection: Connection, cursor: psycopg.Cursor[Any]) -> None:
        described, result = cursor.description or (), cursor.pgresult
        assert result is not None
        types = _types(connection, [column.type_code for column in described])
        places = [(result.ftable(n), result.ftablecol(n)) for n in range(len(described))]
        origins = _origins(connection, {table for table, _ in places if table})
        self._types = [types[column.type_code] for column in described]
        self.columns = tuple(
            ResultColumn(column.name, kind, *origins.get(place, (None, "")))
            for column, kind, place in zip(described, self._types, places, strict=True)
        )

    def rows(self, sent: Sequence[tuple[Any, ...]]) -> list[ShownRow]:
        """Rows as values, of what the server sent."""
        types = self._types
        return [
            tuple(value_of(kind, part) for kind, part in zip(types, row, strict=True))
            for row in sent
        ]


def _types(connection: Connection, numbers: Sequence[int]) -> dict[int, ColumnType]:
    found = connection.execute(_TYPES, (_listed(set(numbers)),)).fetchall()
    types = {
        int(oid): column_type(
            TypeFacts(shown.decode(), base.decode(), sort.decode(), array == b"t")
        )
        for oid, base, sort, array, shown in found
    }
    unknown = ColumnType("text", "text")
    return {number: types.get(number, unknown) for number in numbers}


def _origins(
    connection: Connection, tables: set[int]
) -> dict[tuple[int, int], tuple[TableId, str]]:
    if not tables:
        return {}
    return {
        (int(table), int(number)): (TableId(schema.decode(), name.decode()), column.decode())
        for table, number, schema, name, column in connection.execute(
            _ORIGINS, (_listed(tables),)
        ).fetchall()
    }


def _listed(numbers: set[int]) -> str:
    return f"{{{','.join(map(str, sorted(numbers)))}}}"
