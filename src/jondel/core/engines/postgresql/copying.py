"""Copies whole tables out of a server as text, in large pieces.

The text form of COPY: a line a row, tabs between fields, ``\\N`` for NULL, and backslashes before
what would be taken for one of these (https://www.postgresql.org/docs/current/sql-copy.html).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import psycopg
from psycopg.pq import ExecStatus

from jondel.core.engines.delta import NULL_FIELD, Fields, PutRow
from jondel.core.engines.postgresql.column_types import value_of
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import quoted, source, unmarked
from jondel.core.model.rows import Position
from jondel.core.model.schema import Column, Table
from jondel.core.model.values import InvalidText, StoredValue

_LINES = 1000
_ESCAPED = re.compile(rb"\\(.)", re.DOTALL)
_MEANT = {b"b": b"\b", b"f": b"\f", b"n": b"\n", b"r": b"\r", b"t": b"\t", b"v": b"\v"}
_TO_ESCAPE = re.compile(rb"[\\\b\f\n\r\t\v]")
_ESCAPES = {meant: letter for letter, meant in _MEANT.items()}
_NULL = NULL_FIELD.encode()


def copied_as_text(
    connection: Connection, table: Table
) -> Iterator[tuple[int, Fields | list[PutRow]]]:
    """A table's rows in blocks, with how many there are in each: as text where nothing in it is
    escaped, else as rows."""
    columns = ", ".join(map(_written, table.columns))
    for lines in _blocks(connection, _statement(columns, table)):
        block = b"".join(lines)
        fields = _plain_fields(block) if table.columns else None
        if fields is not None:
            yield len(lines), fields
        else:
            yield len(lines), [_row(table, line) for line in lines]


def _written(column: Column) -> str:
    """A column in the text that ``value_text`` knows: COPY has truth values and bytes shorter."""
    name = quoted(column.name)
    if column.type.kind == "boolean":
        return f"CASE {name} WHEN TRUE THEN 'true' WHEN FALSE THEN 'false' END"
    return f"encode({name}, 'hex')" if column.type.kind == "blob" else name


def _plain_fields(block: bytes) -> Fields | None:
    """All fields of some lines; None where something in them is escaped, or is no text."""
    if block.count(b"\\") != block.count(_NULL):
        return None
    try:
        text = block.decode()
    except UnicodeDecodeError:
        return None
    return text[:-1].replace("\n", "\t").split("\t")


def copied_rows(connection: Connection, table: Table, where: str) -> Iterator[PutRow]:
    """The rows of a table for which a condition holds."""
    columns = ", ".join(map(_written, table.columns))
    for lines in _blocks(connection, _statement(columns, table, where)):
        yield from (_row(table, line) for line in lines)


def copy_line(row: Sequence[StoredValue]) -> bytes:
    """A row as COPY takes it in.

    Raises:
        ValueError: a text holds what the server keeps in none; the message says so.
    """
    return b"\t".join(map(_taken_in, row)) + b"\n"


def _taken_in(value: StoredValue) -> bytes:
    match value:
        case None:
            return _NULL
        case bytes():
            return b"\\\\x" + value.hex().encode()
        case InvalidText():
            raise ValueError("a text is not valid in UTF-8")
        case float() if value in (float("inf"), float("-inf")):
            return b"Infinity" if value > 0 else b"-Infinity"
        case int() | float():
            return str(value).encode()
    text = str(value)
    if "\0" in text:
        raise ValueError("a text holds a NUL character, which the server keeps in none")
    return _TO_ESCAPE.sub(_escaped, text.encode("utf-8"))


def copied_keys(connection: Connection, table: Table, where: str) -> Iterator[Position]:
    """The primary keys of the rows of a table for which a condition holds."""
    key = [column for name in table.primary_key if (column := table.column(name))]
    for lines in _blocks(connection, _statement(", ".join(map(_written, key)), table, where)):
        yield from (tuple(_values(key, line)) for line in lines)


def _statement(columns: str, table: Table, where: str = "TRUE") -> str:
    return unmarked(f"SELECT {columns} FROM {source(table)} WHERE {where}")


def _row(table: Table, line: bytes) -> PutRow:
    values = _values(table.columns, line)
    key = (table.column_names.index(name) for name in table.position_columns)
    return PutRow(tuple(values[place] for place in key), tuple(values))


def _values(columns: Sequence[Column], line: bytes) -> list[StoredValue]:
    """The values of a line. What is not escaped in it is as it is."""
    parts = line[:-1].split(b"\t") if columns else []
    values: list[StoredValue] = []
    for column, part in zip(columns, parts, strict=True):
        if part == _NULL:
            values.append(None)
        elif column.type.kind == "blob":
            values.append(bytes.fromhex(part.decode("ascii")))
        elif b"\\" in part:
            meant = _ESCAPED.sub(lambda found: _MEANT.get(found[1], found[1]), part)
            values.append(value_of(column.type, meant))
        else:
            values.append(value_of(column.type, part))
    return values


def _blocks(connection: Connection, sql: str) -> Iterator[list[bytes]]:
    """The rows of a SELECT as lines, some at a time."""
    return _copied(connection, sql) if connection.copies else _selected(connection, sql)


def _selected(connection: Connection, sql: str) -> Iterator[list[bytes]]:
    """The same lines where the server copies nothing out; within a transaction."""
    with connection.cursor(name="jondel") as cursor:
        cursor.execute(sql)
        while rows := cursor.fetchmany(_LINES):
            yield [b"\t".join(map(_field, row)) + b"\n" for row in rows]


def _field(value: bytes | None) -> bytes:
    return _NULL if value is None else _TO_ESCAPE.sub(_escaped, value)


def _escaped(found: re.Match[bytes]) -> bytes:
    return b"\\" + _ESCAPES.get(found[0], found[0])


def _copied(connection: Connection, sql: str) -> Iterator[list[bytes]]:
    """The lines that a SELECT copies out.

    Straight from the library beneath the driver: the driver's own way costs more than all else.
    """
    server = connection.pgconn
    begun = server.exec_(f"COPY ({sql}) TO STDOUT".encode())
    if begun.status != ExecStatus.COPY_OUT:
        raise psycopg.errors.error_from_result(begun)
    lines: list[bytes] = []
    try:
        while True:
            size, line = server.get_copy_data(0)
            if size < 0:
                break
            lines.append(bytes(line))
            if len(lines) == _LINES:
                yield lines
                lines = []
    except GeneratorExit:
        connection.cancel_safe(timeout=2)
        while server.get_copy_data(0)[0] >= 0:
            pass
        raise
    finally:
        ended = server.get_result()
        while server.get_result() is not None:
            pass
    if ended is not None and ended.status != ExecStatus.COMMAND_OK:
        raise psycopg.errors.error_from_result(ended)
    if lines:
        yield lines
