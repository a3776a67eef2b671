"""Brings a mirror up to date again and again until it is killed; run as a program.

    mirror_updates.py FOLDER

The update with a number has every row hold that number, in a table of a few hundred rows.
"""

from __future__ import annotations

import sys
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path

from jondel.core.engines.delta import Delta, Known, PutRow, TableDelta
from jondel.core.mirror.mirror import Mirror
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Row

_TABLE = Table(
    TableId("public", "t"),
    "table",
    (Column("id", ColumnType("integer", "integer"), True, None, 1), Column("v")),
)
_ROWS = 300


def rows_of(number: int) -> tuple[Row, ...]:
    """The rows after the update with a number."""
    return tuple((n, f"{number} " * 40) for n in range(_ROWS + number % 3))


class Numbered:
    """The next update."""

    def delta(self, known: Known) -> AbstractContextManager[Delta]:
        number = known.mark["number"] + 1 if known.mark else 0
        gone = [(n,) for n in range(_ROWS, _ROWS + 3)]
        put = [PutRow((row[0],), row) for row in rows_of(number)]
        told = TableDelta(_TABLE.id, False, gone, put)
        return nullcontext(Delta(Schema((_TABLE,)), iter([told]), {"number": number}))


if __name__ == "__main__":
    mirror = Mirror(Path(sys.argv[1]))
    while True:
        mirror.update(Numbered())
