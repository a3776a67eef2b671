"""Values as they are stored, read piece by piece and never held whole."""

from __future__ import annotations

from contextlib import suppress

import apsw

from jondel.core.model.schema import Table

_HEAD_BYTES, _COMPARED_AT_ONCE = 1024, 1 << 20


def head(connection: apsw.Connection, table: Table, row_id: int, column: str) -> bytes | None:
    """The first bytes of a value; None where it cannot be read by pieces."""
    first = None
    with suppress(apsw.Error), _opened(connection, table, row_id, column) as stored:
        first = stored.read(_HEAD_BYTES)
    return first


def same(
    one: tuple[apsw.Connection, Table],
    other: tuple[apsw.Connection, Table],
    row_id: int,
    column: str,
) -> bool | None:
    """Whether a value has the same bytes in two databases; None where there are none to compare:
    a generated column is stored nowhere.

    Raises:
        apsw.Error: it cannot be read.
    """
    equal = None
    with (
        suppress(apsw.SQLError),
        _opened(*one, row_id, column) as left,
        _opened(*other, row_id, column) as right,
    ):
        equal = _same_bytes(left, right)
    return equal


def _opened(connection: apsw.Connection, table: Table, row_id: int, column: str) -> apsw.Blob:
    return connection.blob_open("main", table.name, column, row_id, False)


def _same_bytes(one: apsw.Blob, other: apsw.Blob) -> bool:
    left = one.length()
    if left != other.length():
        return False
    while left:
        amount = min(left, _COMPARED_AT_ONCE)
        if one.read(amount) != other.read(amount):
            return False
        left -= amount
    return True
