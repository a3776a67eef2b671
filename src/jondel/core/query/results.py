"""The rows that a statement gave, kept in a file of their own and opened as a database.

The file is a mirror of one table, ``result``: so a result can be windowed, sorted, filtered, added
up and compared like any table, and takes no memory however large it is.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

import apsw

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_image
from jondel.core.engines.sqlite.connection import register_functions
from jondel.core.engines.sqlite.sql_text import mark_of, parameters, quoted, quoted_list
from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import private_folder
from jondel.core.mirror.layout import Layout
from jondel.core.mirror.mirror import write_document
from jondel.core.mirror.state import mirrored_state
from jondel.core.model.addresses import TableId
from jondel.core.model.column_types import ColumnType
from jondel.core.model.outcomes import ResultColumn
from jondel.core.model.schema import Column, ForeignKey, Schema, Table
from jondel.core.model.values import InvalidText, ShownRow

RESULT = TableId("tape", "result")
"""No table of a database is called so."""
FIRST_LIMIT = 10_000
"""Rows that are taken at first; more are when that is asked for."""


def distinct(names: Sequence[str]) -> list[str]:
    """Names for the columns of a table, each another one, whatever its case."""
    taken: set[str] = set()
    found: list[str] = []
    for name in names:
        one, number = name or "column", 2
        while one.casefold() in taken:
            one, number = f"{name or 'column'} {number}", number + 1
        taken.add(one.casefold())
        found.append(one)
    return found


def table_of(columns: Sequence[ResultColumn], schema: Schema | None = None) -> Table:
    """The table that rows of these columns make.

    What a column points at where it comes from is what it points at here, too; and a column that
    is the whole key of its table leads to its records. ``schema`` is of where it comes from.
    """
    names = distinct([column.name for column in columns])
    made = tuple(
        Column(name, _kept_type(column.type)) for name, column in zip(names, columns, strict=True)
    )
    links = [key for n, column in enumerate(columns) for key in _links(names[n], column, schema)]
    return Table(RESULT, "table", made, tuple(links), row_id="rowid")


def _kept_type(kind: ColumnType) -> ColumnType:
    # A mirror takes a certain text in a column of real numbers for what is not a number.
    return kind._replace(kind="numeric") if kind.kind == "real" and not kind.exact else kind


def _links(name: str, column: ResultColumn, schema: Schema | None) -> list[ForeignKey]:
    table = schema.find(column.table) if schema is not None and column.table is not None else None
    if table is None or schema is None:
        return []
    if table.primary_key == (column.column,):
        return [ForeignKey((name,), table.id, table.primary_key)]
    found: list[ForeignKey] = []
    for key in table.links_from(column.column):
        target = schema.find(key.target_table)
        columns = key.target_columns or (target.primary_key if target is not None else ())
        if key.columns == (column.column,) and target is not None and len(columns) == 1:
            found.append(ForeignKey((name,), target.id, columns))
    return found


class ResultFile:
    """Takes the rows of one statement; see ``ResultSink``."""

    def __init__(
        self,
        path: Path,
        limit: int | None = FIRST_LIMIT,
        first: Callable[[Sequence[ResultColumn], Sequence[ShownRow]], None] = lambda c, r: None,
        progress: Callable[[int], None] = lambda rows: None,
        schema: Schema | None = None,
    ) -> None:
        """``first`` is given the first rows as they are there, ``progress`` how many are.
        ``schema`` is of what is asked."""
        self.path = path
        self.columns: tuple[ResultColumn, ...] = ()
        self.rows = 0
        self.complete = True
        self._limit, self._first, self._progress = limit, first, progress
        self._schema = schema
        self._connection: apsw.Connection | None = None
        self._insert = ""

    @property
    def was_begun(self) -> bool:
        """Whether the statement has any columns."""
        return self._connection is not None

    def begin(self, columns: Sequence[ResultColumn]) -> None:
        self.discard()
        private_folder(self.path.parent)
        self.columns, self.rows = tuple(columns), 0
        table = table_of(columns, self._schema)
        kept = Layout(Schema((table,))).tables[RESULT]
        try:
            self.path.touch(mode=0o600)
            connection = self._connection = apsw.Connection(str(self.path))
            register_functions(connection)
            connection.pragma("journal_mode", "off")
            connection.pragma("synchronous", "off")
            connection.execute("BEGIN")
            connection.execute(kept.statement())
            write_document(connection, Schema((table,)))
        except (OSError, apsw.Error) as error:
            raise self._unkept(error) from error
        self._kept = kept
        self._insert = f"INSERT INTO {quoted(kept.name)}({quoted_list(kept.stored_names)}) VALUES "

    def take(self, rows: Sequence[ShownRow]) -> bool:
        if self._limit is not None:
            rows = rows[: max(0, self._limit - self.rows)]
        connection, kept = self._connection, self._kept
        assert connection is not None, "it is begun first"
        if rows and not self.rows:
            self._first(self.columns, rows)
        stored = [
            kept.stored_row((number,), row)  # type: ignore[arg-type]
            for number, row in enumerate(rows, self.rows + 1)
        ]
        usual = ", ".join("?" * len(kept.stored_names))
        try:
            plain = [row for row in stored if not any(isinstance(v, InvalidText) for v in row)]
            connection.executemany(f"{self._insert}({usual})", plain)
            for row in stored if len(plain) != len(stored) else ():
                if any(isinstance(value, InvalidText) for value in row):
                    marks = ", ".join(map(mark_of, row))
                    connection.execute(f"{self._insert}({marks})", parameters(row))
        except apsw.Error as error:
            raise self._unkept(error) from error
        self.rows += len(rows)
        self._progress(self.rows)
        return self._limit is None or self.rows < self._limit

    def end(self, complete: bool) -> None:
        self.complete = complete
        connection = self._connection
        assert connection is not None, "it is begun first"
        try:
            for statement in self._kept.computing_statements():
                connection.execute(statement)
            connection.execute("COMMIT")
        except apsw.Error as error:
            raise self._unkept(error) from error
        connection.close()

    def discard(self) -> None:
        """Have nothing be kept."""
        if self._connection is not None:
            with suppress(apsw.Error):
                self._connection.close()
            self._connection = None
        with suppress(OSError):
            self.path.unlink()

    def _unkept(self, error: Exception) -> StoreUnavailable:
        return StoreUnavailable(f"{self.path}: the result cannot be kept ({error})")


def open_result(path: Path, title: str) -> Database:
    """Open the rows of a statement as a database of one table.

    Raises:
        StoreUnavailable: they are no longer there.
    """
    if not path.exists():
        raise StoreUnavailable("the rows of this statement are no longer kept; run it again")
    return mirrored_state(open_image(path, location=str(path)), str(path), title)
