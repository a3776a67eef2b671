"""Reads the rows of SQLite files: as they lie, by an order, one by one, or all of them."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any, cast
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
from jondel.core.engines.sqlite import row_counts, stored_values
from jondel.core.engines.sqlite.error_translation import translated
from jondel.core.engines.sqlite.key_occurrence import which_occur
from jondel.core.engines.sqlite.select_statements import selected, stream
from jondel.core.engines.sqlite.sql_text import (
    equal,
    mark_of,
    parameters,
    quoted,
    quoted_list,
    row_comparison,
    select,
    source_of,
    unwrapped,
    ways_to_read,
    wrapped,
)
from jondel.core.engines.sqlite.steady_reader import SteadyReader, steady
from jondel.core.errors import (
    ConditionInvalid,
    TableUnreadable,
)
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped, Row, ShownRow, StoredValue

if TYPE_CHECKING:  # not needed to look at a table as it is
    from jondel.core.engines.protocol import Database
    from jondel.core.engines.sqlite.row_orders import KeptOrder, NumberOrder
    from jondel.core.model.filters import Arrangement, Condition
    from jondel.core.model.statements import Statement
    from jondel.core.model.writes import Cells

_WINDOW_VALUE_BYTES = 4096
"""Larger values are clipped in windows; a screen shows a fraction of this."""
_LOOKED_AT_ROWS, _COMPARED_BYTES = 5000, 1000
"""For a column's distinct values: so many rows are looked at, and only values as small as this."""


class SqliteReader(SteadyReader):
    """Reads the rows of a SQLite database. What can be done besides is in ``SqliteDatabase``."""

    @steady
    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        self._require(table)
        with translated(self._path, table=table.name):
            if quick:
                return row_counts.measured_quickly(self._connection, table)
            return row_counts.measured(self._connection, self._encoding, table)

    @steady
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
        position: Position = ()
        extent = extent if extent is not None and extent.precision == "exact" else None
        stretch = offset // LANDMARK_ROWS
        if not columns:
            pass
        elif after is not None:
            where, position, clause = row_comparison(columns, ">", after), after, str(limit)
        elif extent is not None and extent.dense_from is not None:
            position = (extent.dense_from + offset,)
            where, clause = row_comparison(columns, ">=", position), str(limit)
        elif before is not None:
            where, position, clause = row_comparison(columns, "<", before), before, str(limit)
            backwards = True
        elif extent is not None and 0 < stretch <= len(extent.landmarks):
            position = extent.landmarks[stretch - 1]
            where = row_comparison(columns, ">", position)
            clause = f"{limit} OFFSET {offset % LANDMARK_ROWS}"
        elif extent is not None and offset > extent.rows // 2:
            limit = max(0, min(limit, extent.rows - offset))
            clause = f"{limit} OFFSET {max(0, extent.rows - offset - limit)}"
            backwards = True
        rows = self._read(
            table,
            where=where,
            values=parameters(position),
            order=", ".join(f"{quoted(n)} DESC" for n in columns)
            if backwards
            else quoted_list(columns),
            limit=clause,
        )
        if backwards:
            rows.reverse()
        return _window(table, offset, rows)

    def _window_by(
        self, order: NumberOrder | KeptOrder, table: Table, offset: int, limit: int
    ) -> Window:
        from jondel.core.engines.sqlite import row_orders

        with translated(self._path, table=table.name):
            if isinstance(order, row_orders.KeptOrder) and not table.position_columns:
                rows = tuple(row_orders.kept_rows(order, table, offset, limit, self._encoding))
                return Window(offset, ((),) * len(rows), rows)
            positions = row_orders.positions_by(order, table, offset, limit, self._encoding)
        if not positions:
            return Window(offset, (), ())
        where, values = row_orders.in_positions(table, positions)
        window = _window(table, 0, self._read(table, where=where, values=values))
        known = dict(zip(window.positions, window.rows, strict=True))
        return Window(offset, tuple(positions), tuple(known.get(p, ()) for p in positions))

    @steady
    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        on_progress: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        self._require(table)
        from jondel.core.engines.sqlite import row_orders

        read = partial(self._read_first, table)
        with self._asking(table):
            unused = [name for name, order in self._kept_orders.items() if order() is None]
            row_orders.drop_kept(self._connection, unused)
            for name in unused:
                del self._kept_orders[name]
            made = row_orders.arrange(
                self._connection, table, arrangement, read, first, on_progress, first_rows
            )
        if isinstance(made, row_orders.KeptOrder):
            self._kept_orders[made.name] = ref(made)
        return made

    @steady
    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        self._require(table)
        from jondel.core.engines.sqlite import row_orders
        from jondel.core.engines.sqlite.condition_sql import order_sql

        with self._asking(table):
            where = row_orders.conditions(table, arrangement)
            return self._read_first(
                table, where, order_sql(table, arrangement.order, total=True), limit
            )

    def _read_first(self, table: Table, where: Statement | None, order: str, limit: int) -> Window:
        rows = self._read(
            table,
            where=where.text() if where else "",
            values=where.values if where else (),
            order=order,
            limit=str(limit),
        )
        return _window(table, 0, rows)

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        from jondel.core.engines.sqlite.condition_sql import arranged

        return arranged(table, arrangement, columns)

    @steady
    def check_condition(self, table: Table, condition: Condition) -> None:
        self._require(table)
        from jondel.core.engines.sqlite.condition_sql import condition_sql

        test = condition_sql(table, condition)
        with self._asking(table):
            sql = f"EXPLAIN {select(source_of(table), ['1'], where=test.text())}"
            self._connection.execute(sql, test.values).fetchall()

    @steady
    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        self._require(table)
        from jondel.core.engines.sqlite.column_search import tally

        with self._asking(table):
            return tally(self._connection, self._encoding, table, column, arrangement, only)

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        self._require(table)
        from jondel.core.engines.sqlite.column_search import find_text

        def hits() -> Generator[Hit, None, None]:
            with translated(self._path, table=table.name):
                yield from find_text(self._connection, self._encoding, table, text, whole)

        yield from self.steady_stream(hits, repeatable=True)

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

    @steady
    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        rows = self._read(
            table,
            where=row_comparison(order, "=", position),
            values=parameters(position),
            limit="1",
            max_bytes=max_bytes,
        )
        return rows[0][len(order) :] if rows else None

    @steady
    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        self._require(table)
        columns = table.position_columns
        if not columns:
            return 0
        where, values = row_comparison(columns, "<", position), position
        counted = 0
        if last is not None:
            where += f" AND {row_comparison(columns, '>=', last[0])}"
            values, counted = (*position, *last[0]), last[1]
        with translated(self._path, table=table.name):
            sql = select(source_of(table), ["count(*)"], where=where)
            return counted + cast(int, self._value(sql, parameters(values)))

    @steady
    def places_of_absent(
        self,
        table: Table,
        arrangement: Arrangement,
        order: RowOrder | None,
        rows: Sequence[tuple[Position, Row]],
    ) -> list[tuple[int, int]]:
        self._require(table)
        from jondel.core.engines.sqlite import absent_rows
        from jondel.core.engines.sqlite.connection import open_scratch

        declared = self.schema().declaration(table.id)
        placed: list[tuple[int, int]] = []
        for index in absent_rows.in_order(open_scratch, declared, table, arrangement, rows):
            position, row = rows[index]
            if order is not None:
                before = absent_rows.comes_before(table, arrangement, position, row)
                place = self._first_not_before(
                    cast("NumberOrder | KeptOrder", order), table, before
                )
            else:
                last = (rows[placed[-1][0]][0], placed[-1][1]) if placed else None
                place = self.ordinal_of(table, position, last)
            placed.append((index, place))
        return placed

    def _first_not_before(
        self, order: NumberOrder | KeptOrder, table: Table, before: Statement
    ) -> int:
        """How many rows of an order meet an expression that its first rows alone meet."""
        from jondel.core.engines.sqlite.row_orders import positions_by

        low, high = 0, order.rows
        with translated(self._path, table=table.name):
            while low < high:
                middle = (low + high) // 2
                (position,) = positions_by(order, table, middle, 1, self._encoding)
                where = row_comparison(table.position_columns, "=", position)
                sql = select(source_of(table), [before.text()], where=where)
                answer = self._value(sql, (*before.values, *parameters(position)))
                # A row that went since counts as coming before; it makes no difference.
                if answer is None or answer:
                    low = middle + 1
                else:
                    high = middle
        return low

    @steady
    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        self._require(table)
        order = table.position_columns
        if not order:
            return None
        # "IS" for NULL in keys; BINARY because keys equal under a collation are different keys.
        pairs = zip(key_columns, key, strict=True)
        where = " AND ".join(f"{quoted(n)} IS {mark_of(v)} COLLATE BINARY" for n, v in pairs)
        positions = self._read(table, columns=(), where=where, values=parameters(key), limit="1")
        return cast(Position, positions[0]) if positions else None

    @steady
    def which_occur(
        self, table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
    ) -> set[int]:
        self._require(table)
        with translated(self._path, table=table.name):
            return which_occur(self._connection, table, columns, keys)

    @steady
    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        self._require(table)
        rows = self._read(
            table,
            where=equal(cells),
            values=parameters(value for _, value in cells),
            order=quoted_list(table.position_columns),
            limit=str(limit),
        )
        return _window(table, 0, rows)

    @steady
    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        self._require(table)
        limit = "" if most is None else str(most)
        inner = select(source_of(table), ["1"], where=equal(cells), limit=limit)
        with translated(self._path, table=table.name):
            values = parameters(value for _, value in cells)
            return cast(int, self._value(f"SELECT count(*) FROM ({inner})", values))

    @steady
    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        self._require(table)
        name = quoted(column)
        where = f"{name} IS NOT NULL AND octet_length({name}) <= {_COMPARED_BYTES}"
        where += f" AND {equal(cells)}" if cells else ""
        some = select(source_of(table), [f"{name} AS v"], where=where, limit=str(_LOOKED_AT_ROWS))
        with translated(self._path, table=table.name):
            values = self._connection.execute(
                f"SELECT DISTINCT v FROM ({some}) LIMIT {most}",
                parameters(value for _, value in cells or ()),
            )
            return [cast(StoredValue, row[0]) for row in values]

    @steady
    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        self._require(table)
        where = " OR ".join(f"{quoted(name)} IS NULL" for name in key_columns)
        with translated(self._path, table=table.name):
            rows = self._connection.execute(select(source_of(table), ["1"], where=where, limit="2"))
            return len(rows.fetchall()) > 1

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        self._require(table)

        def batches() -> Generator[list[ShownRow], None, None]:
            with translated(self._path, table=table.name):
                yield from stream(
                    self._connection, self._encoding, table, columns, order, only, largest
                )

        yield from self.steady_stream(batches, repeatable=False)

    @steady
    def read_value(self, table: Table, row_id: int, column: str) -> StoredValue:
        self._require(table)
        where = f"{quoted(table.row_id or '')} = ?"
        for text_as_bytes in ways_to_read(self._encoding):
            expression = wrapped(column, max_bytes=None, text_as_bytes=text_as_bytes)
            sql = select(source_of(table), [expression], where=where)
            with translated(self._path, table=table.name):
                try:
                    value = self._value(sql, (row_id,))
                except UnicodeDecodeError:
                    continue
            return cast(StoredValue, unwrapped((value,), self._encoding)[0])
        raise AssertionError("bytes can always be read")

    @steady
    def read_head(self, table: Table, row_id: int, column: str, value: Clipped) -> Clipped:
        head = stored_values.head(self._connection, table, row_id, column)
        if head is None:
            return value
        if value.kind == "text" and self._encoding != "utf-8":
            head = head.decode(self._encoding, "replace").encode()
        return replace(value, head=head)

    @steady
    def same_value(
        self, table: Table, row_id: int, column: str, other: Database, other_table: Table
    ) -> bool:
        self._require(table)
        assert isinstance(other, SqliteReader)
        with translated(self._path, table=table.name):
            same = stored_values.same(
                (self._connection, table), (other._connection, other_table), row_id, column
            )
        if same is not None:
            return same
        return self.read_value(table, row_id, column) == other.read_value(
            other_table, row_id, column
        )

    # Reading

    def _read(
        self,
        table: Table,
        *,
        columns: Sequence[str] | None = None,
        where: str,
        values: tuple[Any, ...],
        order: str = "",
        limit: str = "",
        max_bytes: int = _WINDOW_VALUE_BYTES,
    ) -> list[ShownRow]:
        """Read position columns and columns (all by default) of some rows."""
        names = table.column_names if columns is None else columns
        for text_as_bytes in ways_to_read(self._encoding):
            expressions = [
                wrapped(name, max_bytes=None, text_as_bytes=text_as_bytes)
                for name in table.position_columns
            ]
            expressions += [
                wrapped(name, max_bytes=max_bytes, text_as_bytes=text_as_bytes) for name in names
            ]
            with translated(self._path, table=table.name):
                try:
                    with selected(
                        self._connection,
                        source_of(table),
                        expressions,
                        values,
                        where=where,
                        order=order,
                        limit=limit,
                    ) as rows:
                        return [unwrapped(row, self._encoding) for row in rows]
                except UnicodeDecodeError:
                    if text_as_bytes:
                        raise
        raise AssertionError("bytes can always be read")


def _window(table: Table, offset: int, rows: list[ShownRow]) -> Window:
    """Tell the position columns of what was read from the others."""
    width = len(table.position_columns)
    positions = tuple(cast(Position, row[:width]) for row in rows)
    return Window(offset, positions, tuple(row[width:] for row in rows))
