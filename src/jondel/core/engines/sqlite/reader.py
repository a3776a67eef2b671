"""Reads the rows of SQLite files: as they lie, by an order, one by one, or all of them."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, cast
from weakref import ref

import apsw

from jondel.core.engines.protocol import (
    LANDMARK_ROWS,
    ArrangingProgress,
    Extent,
    Hit,
    RowOrder,
    Selection,
    Tally,
)
from jondel.core.engines.sqlite import connection as opening
from jondel.core.engines.sqlite import measuring
from jondel.core.engines.sqlite.connection import Access, OpenFile
from jondel.core.engines.sqlite.failures import translated
from jondel.core.engines.sqlite.schema_reader import read_schema
from jondel.core.engines.sqlite.selecting import order_by_code_point, selected, stream
from jondel.core.engines.sqlite.sql_text import (
    equal,
    quoted,
    quoted_list,
    row_comparison,
    select,
    unwrapped,
    wrapped,
)
from jondel.core.errors import (
    ConditionInvalid,
    TableUnreadable,
    TargetNotFound,
)
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row, ShownRow, StoredValue

if TYPE_CHECKING:  # not needed to look at a table as it is
    from jondel.core.engines.sqlite.arranging import KeptOrder, NumberOrder
    from jondel.core.model.filters import Arrangement, Condition
    from jondel.core.model.statements import Statement
    from jondel.core.model.writes import Cells

_WINDOW_VALUE_BYTES = 4096
"""Larger values are clipped in windows; a screen shows a fraction of this."""
_LOOKED_AT_ROWS, _COMPARED_BYTES = 5000, 1000
"""For a column's distinct values: so many rows are looked at, and only values as small as this."""
_ENCODINGS = {"UTF-8": "utf-8", "UTF-16le": "utf-16-le", "UTF-16be": "utf-16-be"}


class SqliteReader:
    """One SQLite file, open for reading. What can be done besides is in ``SqliteDatabase``."""

    def __init__(self, path: Path, opener: Callable[[Path], OpenFile], location: str) -> None:
        self._path = path
        self._opener = opener
        self._location = location
        self._epoch = 0
        self._closed = False
        self._stop_asked = threading.Event()
        self._open()

    def _open(self) -> None:
        self._signature = self._current_signature()
        with translated(self._path):
            self._file = self._opener(self._path)
        self._connection = self._file.connection
        self._schema: tuple[int, Schema] | None = None
        self._kept_orders: dict[str, ref[KeptOrder]] = {}
        with translated(self._path):
            name = str(self._value("PRAGMA encoding"))
        self._encoding = _ENCODINGS.get(name, "utf-8")
        if self._encoding != "utf-8":
            order_by_code_point(self._connection)

    def schema(self) -> Schema:
        self._keep_current()
        with translated(self._path):
            version = cast(int, self._value("PRAGMA schema_version"))
            if self._schema is None or self._schema[0] != version:
                self._schema = (version, read_schema(self._connection))
        return self._schema[1]

    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        self._require(table)
        self._keep_current()
        with translated(self._path, table=table.name):
            measure = measuring.measured_quickly if quick else measuring.measured
            return measure(self._connection, table)

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
        order: RowOrder | None = None,
    ) -> Window:
        self._require(table)
        if order is not None:
            return self._window_by(cast("NumberOrder | KeptOrder", order), table, offset, limit)
        columns = table.position_columns
        backwards = False
        where, clause = "", f"{limit} OFFSET {offset}"
        parameters: Position = ()
        extent = extent if extent is not None and extent.precision == "exact" else None
        stretch = offset // LANDMARK_ROWS
        if not columns:
            pass
        elif after is not None:
            where, parameters, clause = row_comparison(columns, ">"), after, str(limit)
        elif extent is not None and extent.dense_from is not None:
            where, parameters = row_comparison(columns, ">="), (extent.dense_from + offset,)
            clause = str(limit)
        elif before is not None:
            where, parameters, clause = row_comparison(columns, "<"), before, str(limit)
            backwards = True
        elif extent is not None and 0 < stretch <= len(extent.landmarks):
            where, parameters = row_comparison(columns, ">"), extent.landmarks[stretch - 1]
            clause = f"{limit} OFFSET {offset % LANDMARK_ROWS}"
        elif extent is not None and offset > extent.rows // 2:
            limit = max(0, min(limit, extent.rows - offset))
            clause = f"{limit} OFFSET {max(0, extent.rows - offset - limit)}"
            backwards = True
        found = self._read(
            table,
            where=where,
            parameters=parameters,
            order=", ".join(f"{quoted(n)} DESC" for n in columns)
            if backwards
            else quoted_list(columns),
            limit=clause,
        )
        if backwards:
            found.reverse()
        return _window(table, offset, found)

    def _window_by(
        self, order: NumberOrder | KeptOrder, table: Table, offset: int, limit: int
    ) -> Window:
        self._keep_current()
        from jondel.core.engines.sqlite import arranging

        with translated(self._path, table=table.name):
            if isinstance(order, arranging.KeptOrder) and not table.position_columns:
                kept = arranging.kept_rows(order, table, offset, limit)
                rows = tuple(unwrapped(row, self._encoding) for row in kept)
                return Window(offset, ((),) * len(rows), rows)
            positions = arranging.positions_by(order, table, offset, limit)
        if not positions:
            return Window(offset, (), ())
        where, parameters = arranging.in_positions(table, positions)
        found = _window(table, 0, self._read(table, where=where, parameters=parameters))
        known = dict(zip(found.positions, found.rows, strict=True))
        return Window(offset, tuple(positions), tuple(known.get(p, ()) for p in positions))

    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        told: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        self._require(table)
        self._keep_current()
        from jondel.core.engines.sqlite import arranging

        read = partial(self._read_first, table)
        with self._asking(table):
            unused = [name for name, order in self._kept_orders.items() if order() is None]
            arranging.drop_kept(self._connection, unused)
            for name in unused:
                del self._kept_orders[name]
            made = arranging.arrange(
                self._connection, table, arrangement, read, first, told, first_rows
            )
        if isinstance(made, arranging.KeptOrder):
            self._kept_orders[made.name] = ref(made)
        return made

    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        self._require(table)
        self._keep_current()
        from jondel.core.engines.sqlite import arranging
        from jondel.core.engines.sqlite.condition_sql import order_sql

        with self._asking(table):
            where = arranging.conditions(table, arrangement)
            return self._read_first(
                table, where, order_sql(table, arrangement.order, total=True), limit
            )

    def _read_first(self, table: Table, where: Statement | None, order: str, limit: int) -> Window:
        found = self._read(
            table,
            where=where.text() if where else "",
            parameters=where.values if where else (),
            order=order,
            limit=str(limit),
        )
        return _window(table, 0, found)

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        from jondel.core.engines.sqlite.condition_sql import arranged

        return arranged(table, arrangement, columns)

    def check_condition(self, table: Table, condition: Condition) -> None:
        self._require(table)
        from jondel.core.engines.sqlite.condition_sql import condition_sql

        found = condition_sql(table, condition)
        with self._asking(table):
            sql = f"EXPLAIN {select(table.name, ['1'], where=found.text())}"
            self._connection.execute(sql, found.values).fetchall()

    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        self._require(table)
        self._keep_current()
        from jondel.core.engines.sqlite.searching import tally

        with self._asking(table):
            return tally(self._connection, self._encoding, table, column, arrangement, only)

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        self._require(table)
        self._keep_current()
        from jondel.core.engines.sqlite.searching import find_text

        with translated(self._path, table=table.name):
            yield from find_text(self._connection, self._encoding, table, text, whole)

    @contextmanager
    def _asking(self, table: Table) -> Iterator[None]:
        """Tell errors in what a person asked of a table from errors of the table."""
        try:
            with translated(self._path, table=table.name):
                yield
        except TableUnreadable as error:
            if isinstance(error.__cause__, apsw.SQLError | apsw.TooBigError):
                raise ConditionInvalid(f"{table.name}: {error.__cause__}") from error
            raise

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        found = self._read(
            table,
            where=row_comparison(order, "="),
            parameters=position,
            limit="1",
            max_bytes=max_bytes,
        )
        return found[0][len(order) :] if found else None

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        self._require(table)
        columns = table.position_columns
        if not columns:
            return 0
        where, parameters = row_comparison(columns, "<"), position
        counted = 0
        if last is not None:
            where += f" AND {row_comparison(columns, '>=')}"
            parameters, counted = (*position, *last[0]), last[1]
        with translated(self._path, table=table.name):
            sql = select(table.name, ["count(*)"], where=where)
            return counted + cast(int, self._value(sql, parameters))

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        # "IS" for NULL in keys; BINARY because keys equal under a collation are different keys.
        where = " AND ".join(f"{quoted(name)} IS ? COLLATE BINARY" for name in key_columns)
        found = self._read(table, columns=(), where=where, parameters=tuple(key), limit="1")
        return cast(Position, found[0]) if found else None

    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        self._require(table)
        found = self._read(
            table,
            where=equal(cells),
            parameters=tuple(value for _, value in cells),
            order=quoted_list(table.position_columns),
            limit=str(limit),
        )
        return _window(table, 0, found)

    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        self._require(table)
        self._keep_current()
        limit = "" if most is None else str(most)
        inner = select(table.name, ["1"], where=equal(cells), limit=limit)
        with translated(self._path, table=table.name):
            values = tuple(value for _, value in cells)
            return cast(int, self._value(f"SELECT count(*) FROM ({inner})", values))

    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        self._require(table)
        self._keep_current()
        name = quoted(column)
        where = f"{name} IS NOT NULL AND octet_length({name}) <= {_COMPARED_BYTES}"
        where += f" AND {equal(cells)}" if cells else ""
        some = select(table.name, [f"{name} AS v"], where=where, limit=str(_LOOKED_AT_ROWS))
        with translated(self._path, table=table.name):
            found = self._connection.execute(
                f"SELECT DISTINCT v FROM ({some}) LIMIT {most}",
                cast("tuple[apsw.SQLiteValue]", tuple(value for _, value in cells or ())),
            )
            return [cast(StoredValue, row[0]) for row in found]

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        self._require(table)
        where = " OR ".join(f"{quoted(name)} IS NULL" for name in key_columns)
        with translated(self._path, table=table.name):
            rows = self._connection.execute(select(table.name, ["1"], where=where, limit="2"))
            return len(rows.fetchall()) > 1

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
    ) -> Iterator[list[Row]]:
        self._require(table)
        self._keep_current()
        with translated(self._path, table=table.name):
            yield from stream(self._connection, self._encoding, table, columns, order, only)

    # Staying on the right file

    def _current_signature(self) -> opening.Signature:
        try:
            return opening.signature(self._path)
        except OSError as error:
            raise TargetNotFound(
                f"{self._path}: the file is gone; put it back or open another"
            ) from error

    def _keep_current(self, found: opening.Signature | None = None) -> None:
        """Open the file anew where the connection would show something else than what is there.

        That is so after the file was replaced, and for an immutable file after any change.
        """
        found = found or self._current_signature()
        replaced = found[:2] != self._signature[:2]
        unwatched = self._file.access is Access.IMMUTABLE and found != self._signature
        if not (replaced or unwatched):
            return
        old = self._connection
        opening.check_path(self._path)
        self._open()
        old.close()
        self._epoch += 1

    # Reading

    def _value(self, sql: str, parameters: Sequence[StoredValue] = ()) -> object:
        return self._connection.execute(sql, cast("tuple[apsw.SQLiteValue]", parameters)).get

    def _require(self, table: Table) -> None:
        if table.unreadable:
            raise TableUnreadable(f"{self._path}: {table.name}: cannot be read: {table.unreadable}")

    def _read(
        self,
        table: Table,
        *,
        columns: Sequence[str] | None = None,
        where: str,
        parameters: Position,
        order: str = "",
        limit: str = "",
        max_bytes: int = _WINDOW_VALUE_BYTES,
    ) -> list[ShownRow]:
        """Read position columns and columns (all by default) of some rows."""
        self._keep_current()
        names = table.column_names if columns is None else columns
        for text_as_bytes in (False, True):
            expressions = [quoted(name) for name in table.position_columns]
            expressions += [
                wrapped(name, max_bytes=max_bytes, text_as_bytes=text_as_bytes) for name in names
            ]
            with translated(self._path, table=table.name):
                try:
                    with selected(
                        self._connection,
                        table.name,
                        expressions,
                        parameters,
                        where=where,
                        order=order,
                        limit=limit,
                    ) as rows:
                        return [unwrapped(row, self._encoding) for row in rows]
                except UnicodeDecodeError:
                    continue
        raise TableUnreadable(
            f"{self._path}: {table.name}: its key holds text that is not valid UTF-8; "
            "it can be compared, but not shown as a sheet"
        )


def _window(table: Table, offset: int, found: list[ShownRow]) -> Window:
    """Tell the position columns of what was read from the others."""
    width = len(table.position_columns)
    positions = tuple(cast(Position, row[:width]) for row in found)
    return Window(offset, positions, tuple(row[width:] for row in found))
