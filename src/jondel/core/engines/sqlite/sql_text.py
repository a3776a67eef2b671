"""Builds the SELECT statements that read tables, and decodes what they return.

Two things keep a plain ``SELECT column`` from being enough: a window of rows must not bring along
a hundred-megabyte value, and text that is not valid UTF-8 cannot be handed over as text. Both are
solved by *wrapping* a column: an expression that returns the value itself where that is harmless,
else a text that begins with a marker nobody else can know and carries the bytes in hexadecimal.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from typing import Any

from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, InvalidText, StoredValue, Value

_MARKER = f"\x01{os.urandom(16).hex()}:"
_MARKER_SQL = f"char(1)||'{_MARKER[1:]}'"
_HEAD_BYTES = 1024
_FEW_PARTS = 100


def quoted(name: str) -> str:
    """Quote a name for SQL."""
    return '"' + name.replace('"', '""') + '"'


def quoted_list(names: Iterable[str]) -> str:
    return ", ".join(quoted(name) for name in names)


def ways_to_read(encoding: str) -> tuple[bool, ...]:
    """Whether to bring text as its bytes: only where plain text fails, or from the beginning.

    SQLite makes UTF-8 of UTF-16 without a word where that is not valid.
    """
    return (False, True) if encoding == "utf-8" else (True,)


def wrapped(
    column: str, *, max_bytes: int | None, text_as_bytes: bool, with_head: bool = True
) -> str:
    """The expression that reads a column safely.

    ``max_bytes`` clips larger values; ``octet_length`` finds a stored value's size without
    loading it, which only the ``head`` of a clipped one takes. ``text_as_bytes`` brings all text
    as its bytes.
    """
    name = quoted(column)
    cases = []
    if max_bytes is not None:
        head = f"hex(substr(CAST({name} AS BLOB),1,{_HEAD_BYTES}))" if with_head else "''"
        cases.append(
            f"WHEN octet_length({name})>{max_bytes} THEN {_MARKER_SQL}||typeof({name})||':'"
            f"||octet_length({name})||':'||{head}"
        )
    if text_as_bytes:
        cases.append(
            f"WHEN typeof({name})='text' THEN {_MARKER_SQL}||'whole::'||hex(CAST({name} AS BLOB))"
        )
    return f"CASE {' '.join(cases)} ELSE {name} END" if cases else name


def source_of(table: Table) -> str:
    """What follows FROM to read a table.

    One whose order only the app knows is scanned. ``NOT INDEXED`` leaves look-ups by row number
    alone; of a table kept by its key, a subquery that cannot be merged with the statement around it
    hands over all rows. (A view of such tables reads them so itself, see ``unknown_order.shadow``.)
    """
    if not table.unknown_order or table.kind == "view":
        return quoted(table.name)
    if table.row_id is not None:
        return f"main.{quoted(table.name)} NOT INDEXED"
    return f"(SELECT * FROM main.{quoted(table.name)} LIMIT -1 OFFSET 0)"


def select(
    source: str,
    expressions: Sequence[str],
    *,
    where: str = "",
    order: str = "",
    limit: str = "",
) -> str:
    """Put a SELECT together; ``source`` follows FROM. A table of no columns still yields rows."""
    parts = [f"SELECT {', '.join(expressions) or 'NULL'} FROM {source}"]
    if where:
        parts.append(f"WHERE {where}")
    if order:
        parts.append(f"ORDER BY {order}")
    if limit:
        parts.append(f"LIMIT {limit}")
    return " ".join(parts)


def mark_of(value: StoredValue) -> str:
    """What stands for a value in a statement; text that is not valid is handed over as bytes."""
    return "CAST(? AS TEXT)" if isinstance(value, InvalidText) else "?"


def parameter_of(value: StoredValue) -> Any:
    """What is bound for a value where ``mark_of`` it stands."""
    return value.raw if isinstance(value, InvalidText) else value


def parameters(values: Iterable[StoredValue]) -> tuple[Any, ...]:
    return tuple(parameter_of(value) for value in values)


def row_comparison(columns: Sequence[str], operator: str, values: Sequence[StoredValue]) -> str:
    """``(a, b) > (?, ?)`` for the columns; ``parameters`` of the values go with it."""
    marks = ", ".join(map(mark_of, values))
    return f"({quoted_list(columns)}) {operator} ({marks})"


def equal(cells: Iterable[tuple[str, StoredValue]]) -> str:
    """Columns equal to values, one parameter each; all rows where there are none."""
    return " AND ".join(f"{quoted(name)} = {mark_of(value)}" for name, value in cells) or "TRUE"


def joined_evenly(operator: str, parts: Sequence[str]) -> str:
    """Expressions with an operator between them that may be grouped in any way.

    Very many of them are in brackets, so that their tree is not deep: SQLite takes a depth of 1000.
    """
    if 0 < len(parts) <= _FEW_PARTS:
        return operator.join(parts)
    level = list(parts)
    while len(level) > 1:
        pairs = [f"({operator.join(level[at : at + 2])})" for at in range(0, len(level), 2)]
        level = pairs
    return level[0] if level else "TRUE"


def unwrapped(row: tuple[Any, ...], encoding: str) -> tuple[Value, ...]:
    """Decode a row of wrapped columns; ``encoding`` is the database's own text encoding."""
    for value in row:
        if value.__class__ is str and value.startswith(_MARKER):
            return tuple(_decoded(value, encoding) for value in row)
    return row


def _decoded(value: Any, encoding: str) -> Value:
    if value.__class__ is not str or not value.startswith(_MARKER):
        return value  # type: ignore[no-any-return]
    kind, size, digits = value[len(_MARKER) :].split(":")
    raw = bytes.fromhex(digits)
    if kind == "whole":
        return text_of(raw, encoding)
    if kind == "text" and encoding != "utf-8":
        raw = raw.decode(encoding, "replace").encode()
    return Clipped("text" if kind == "text" else "blob", int(size), raw)


def text_read(raw: bytes, encoding: str) -> Value:
    """What stands for a text that was read as its bytes; it may be a wrapped value."""
    text = text_of(raw, encoding)
    return _decoded(text, encoding) if isinstance(text, str) else text


def text_of(raw: bytes, encoding: str) -> str | InvalidText:
    """Decode stored text, or keep its bytes where they are not valid."""
    try:
        return raw.decode(encoding)
    except UnicodeDecodeError:
        return InvalidText(raw)
