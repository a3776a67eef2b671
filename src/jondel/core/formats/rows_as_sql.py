"""Rows as statements that insert them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TextIO

from jondel.core.formats.rows_as_data import distinct_names
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.values import ShownRow
from jondel.core.sql.values_in_sql import FORMS, LiteralForms, literal

_ROWS_A_STATEMENT = 100
_LIST = ",\n"
_PLAIN_TYPE = re.compile(r"[\w ()\[\],.\"]*")


class InsertWriter:
    """INSERT statements of some rows each; ``with_ddl`` the table is made first."""

    def __init__(
        self, out: TextIO, table: str, *, with_ddl: bool = False, forms: LiteralForms = FORMS
    ) -> None:
        """``table`` is the name as it stands in SQL, in quotes where it needs them; ``forms`` are
        the engine's that is to read it."""
        self._out = out
        self._forms = forms
        self._table = table or '"result"'
        self._with_ddl = with_ddl
        self._head = ""
        self._waiting: list[ShownRow] = []

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        names = [_quoted(name) for name in distinct_names([column.name for column in columns])]
        self._head = f"INSERT INTO {self._table} ({', '.join(names)}) VALUES\n"
        if self._with_ddl:
            typed = (
                f"  {name} {_type(column)}".rstrip()
                for name, column in zip(names, columns, strict=True)
            )
            self._out.write(f"CREATE TABLE {self._table} (\n{_LIST.join(typed)}\n);\n")

    def take(self, rows: Sequence[ShownRow]) -> bool:
        self._waiting += rows
        while len(self._waiting) >= _ROWS_A_STATEMENT:
            self._write(self._waiting[:_ROWS_A_STATEMENT])
            del self._waiting[:_ROWS_A_STATEMENT]
        return True

    def end(self, complete: bool) -> None:
        if self._waiting:
            self._write(self._waiting)

    def _write(self, rows: Sequence[ShownRow]) -> None:
        forms = self._forms
        lines = (f"  ({', '.join(literal(value, forms) for value in row)})" for row in rows)
        self._out.write(self._head + ",\n".join(lines) + ";\n")


def _type(column: ResultColumn) -> str:
    name = column.type.name
    return name if _PLAIN_TYPE.fullmatch(name) else ""


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
