"""The statements that write rows, each only where the row is exactly as it was shown."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, TypeAlias

from jondel.core.engines.sqlite.sql_text import joined_evenly, quoted, quoted_list
from jondel.core.model.statements import Argument, Statement
from jondel.core.model.values import InvalidText, StoredValue, kind_of
from jondel.core.model.writes import RowWrite, WriteKind

_ARGUMENT = "\0"
"""Stands for an argument while a statement is put together; no SQL can hold it."""


def write_statement(write: RowWrite) -> Statement:
    """The statement that a write runs."""
    given = tuple((name, _class_of(value)) for name, value in write.values)
    expected = tuple((name, _class_of(value)) for name, value in write.expected)
    arguments = [Argument(bound_value(value), name) for name, value in write.values]
    for name, value in write.expected:
        argument = Argument(bound_value(value), name)
        arguments += [argument] * (2 if isinstance(value, str | InvalidText) else 1)
    return Statement(_texts(write.kind, write.table.name, given, expected), tuple(arguments))


def unguarded_statement(write: RowWrite) -> Statement:
    """The same for reading: with what addresses the row, without all else that it must hold."""
    if write.kind == "insert":
        return write_statement(write)
    given = tuple((name, _class_of(value)) for name, value in write.values)
    address = write.expected[: len(write.position_columns)]
    where = " AND ".join(
        f"{quoted(name)} {'IS' if value is None else '='} {_marked(_class_of(value))}"
        for name, value in address
    )
    text = f"{_change(write.table.name, given)} WHERE {where}"
    cells = (*write.values, *address)
    arguments = tuple(Argument(bound_value(value), name) for name, value in cells)
    return Statement(tuple(text.split(_ARGUMENT)), arguments)


_Classes: TypeAlias = tuple[tuple[str, str], ...]
"""Columns, each with the storage class of its value, or ``invalid`` for text that is not valid."""


@lru_cache(maxsize=512)
def _texts(kind: WriteKind, table: str, given: _Classes, expected: _Classes) -> tuple[str, ...]:
    """What stands around a statement's arguments; the same for all rows of a kind."""
    if kind == "insert" and not given:
        return (f"INSERT INTO {quoted(table)} DEFAULT VALUES",)
    if kind == "insert":
        names = quoted_list(name for name, _ in given)
        marks = ", ".join(_marked(storage) for _, storage in given)
        sql = f"INSERT INTO {quoted(table)}({names}) VALUES ({marks})"
    else:
        where = joined_evenly(" AND ", [_holds(quoted(name), cls) for name, cls in expected])
        sql = f"{_change(table, given)} WHERE {where}"
    return tuple(sql.split(_ARGUMENT))


def _change(table: str, given: _Classes) -> str:
    sets = ", ".join(f"{quoted(name)} = {_marked(storage)}" for name, storage in given)
    return f"UPDATE {quoted(table)} SET {sets}" if given else f"DELETE FROM {quoted(table)}"


def _holds(column: str, storage: str) -> str:
    """That a cell holds a value exactly: same storage class, same bytes."""
    # The first comparison lets an index be used; the others tell 1 from 1.0 and from '1'.
    sql = f"{column} IS {_marked(storage)}"
    if storage != "null":
        sql += f" AND typeof({column}) = '{'text' if storage == 'invalid' else storage}'"
    if storage in ("text", "invalid"):
        sql += f" AND {column} IS {_marked(storage)} COLLATE BINARY"
    return sql


def _marked(storage: str) -> str:
    return f"CAST({_ARGUMENT} AS TEXT)" if storage == "invalid" else _ARGUMENT


def _class_of(value: StoredValue) -> str:
    return "invalid" if isinstance(value, InvalidText) else kind_of(value)


def bound_value(value: StoredValue) -> Any:
    return value.raw if isinstance(value, InvalidText) else value
