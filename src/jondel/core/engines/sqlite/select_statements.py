"""Runs the SELECT statements that read tables whole, or many of their rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from itertools import chain, islice
from typing import Any, cast

import apsw

from jondel.core.engines.protocol import Selection
from jondel.core.engines.sqlite.sql_text import (
    mark_of,
    parameters,
    quoted,
    quoted_list,
    select,
    source_of,
    unwrapped,
    ways_to_read,
    wrapped,
)
from jondel.core.model.ordering import sort_key
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import Row, ShownRow

_FIRST_BATCH_ROWS, _MOST_BATCH_ROWS = 16, 512
_BATCH_BYTES = 8 << 20
_SAMPLED_ROWS = 8
_BY_CODE_POINT = "jondel_code_point"


def order_by_code_point(connection: apsw.Connection) -> None:
    """Register what ``stream`` orders text by where the database's encoding is not UTF-8."""
    connection.create_collation(_BY_CODE_POINT, lambda one, other: (one > other) - (one < other))


def stream(
    connection: apsw.Connection,
    encoding: str,
    table: Table,
    columns: Sequence[str],
    order: Sequence[str],
    only: Selection | None,
    largest: int | None = None,
) -> Iterator[list[ShownRow]]:
    """Read rows in batches; see ``Database.stream_rows``."""
    reading = _Reading(connection, encoding, table, columns, order, largest)
    if only is not None and only.row_ids is None:
        yield from _batched(reading.by_key(key) for key in sorted(only.keys, key=sort_key))
        return
    delivered = 0
    if encoding != "utf-8":
        yield from reading.in_order(only, text_as_bytes=True)
        return
    try:
        for batch in reading.in_order(only, text_as_bytes=False):
            yield batch
            delivered += len(batch)
    except UnicodeDecodeError:
        # From here on, text comes as its bytes; slower, and able to carry anything.
        yield from reading.in_order(only, text_as_bytes=True, skip=delivered)


class _Reading:
    """What is read from one table, and in which order."""

    def __init__(
        self,
        connection: apsw.Connection,
        encoding: str,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        largest: int | None,
    ) -> None:
        self._largest = largest
        self._connection = connection
        self._encoding = encoding
        self._table = table
        self._columns = columns
        self._order = order
        self._by_key_statements: dict[tuple[bool, tuple[str, ...]], list[str]] = {}
        """Of the few kinds of keys that there are."""

    def in_order(
        self, only: Selection | None, *, text_as_bytes: bool, skip: int = 0
    ) -> Iterator[list[ShownRow]]:
        collation = "BINARY" if self._encoding == "utf-8" else _BY_CODE_POINT
        row_id = self._table.row_id
        ordering = ", ".join(
            quoted(name) if name == row_id else f"{quoted(name)} COLLATE {collation}"
            for name in self._order
        )
        where = ""
        parameters: tuple[Any, ...] = ()
        if only is not None and only.row_ids is not None:
            if only.empty:
                return
            assert row_id is not None
            where, parameters = f"{quoted(row_id)} IN carray(?)", (apsw.carray(only.row_ids),)
        with selected(
            self._connection,
            source_of(self._table),
            self._expressions(text_as_bytes),
            parameters,
            where=where,
            order=ordering,
            limit=f"-1 OFFSET {skip}" if skip else "",
        ) as rows:
            wanted = _FIRST_BATCH_ROWS
            while batch := list(islice(rows, wanted)):
                wanted = _rows_for_next_batch(batch)
                if text_as_bytes or self._largest is not None:
                    batch = [unwrapped(row, self._encoding) for row in batch]
                yield cast("list[ShownRow]", batch)

    def by_key(self, key: Row) -> list[ShownRow]:
        """The row of a key, if there is one."""
        marks = tuple(map(mark_of, key))
        for text_as_bytes in ways_to_read(self._encoding):
            statements = self._by_key_statements.get((text_as_bytes, marks))
            if statements is None:
                statements = self._by_key(text_as_bytes, marks)
                self._by_key_statements[text_as_bytes, marks] = statements
            values = parameters((*key, *key))
            try:
                if len(statements) == 1:  # there are many keys; this is the shortest way
                    found = self._connection.execute(statements[0], values).fetchall()
                    return [unwrapped(row, self._encoding) for row in found]
                with in_step(self._connection, statements, values) as rows:
                    return [unwrapped(row, self._encoding) for row in rows]
            except UnicodeDecodeError:
                continue
        return []

    def _by_key(self, text_as_bytes: bool, marks: tuple[str, ...]) -> list[str]:
        # Twice, so that the key's index can be used and only the very same bytes count.
        where = f"({quoted_list(self._order)}) = ({', '.join(marks)})"
        where += "".join(
            f" AND {quoted(name)} = {mark} COLLATE BINARY"
            for name, mark in zip(self._order, marks, strict=True)
        )
        return _statements(
            self._connection,
            source_of(self._table),
            self._expressions(text_as_bytes),
            where=where,
        )

    def _expressions(self, text_as_bytes: bool) -> list[str]:
        return [
            wrapped(
                name,
                max_bytes=None if name in self._order else self._largest,
                text_as_bytes=text_as_bytes,
                with_head=False,
            )
            for name in self._columns
        ]


@contextmanager
def selected(
    connection: apsw.Connection,
    source: str,
    expressions: Sequence[str],
    parameters: Sequence[Any] | Position = (),
    *,
    where: str = "",
    order: str = "",
    limit: str = "",
) -> Iterator[Iterator[tuple[Any, ...]]]:
    """Run a SELECT whose order is total, even of more columns than one statement may return."""
    statements = _statements(connection, source, expressions, where=where, order=order, limit=limit)
    with in_step(connection, statements, parameters) as rows:
        yield rows


def _statements(
    connection: apsw.Connection, source: str, expressions: Sequence[str], **clauses: str
) -> list[str]:
    """The statements that a SELECT becomes, each of no more columns than one may return."""
    most = connection.limit(apsw.SQLITE_LIMIT_COLUMN)
    groups = [expressions[start : start + most] for start in range(0, len(expressions), most)]
    return [select(source, group, **clauses) for group in groups or [()]]


@contextmanager
def in_step(
    connection: apsw.Connection, statements: Sequence[str], parameters: Sequence[Any] | Position
) -> Iterator[Iterator[tuple[Any, ...]]]:
    """Run the statements that a SELECT became; the first one's read transaction makes them see the
    same rows."""
    with ExitStack() as stack:
        cursors: list[Iterator[tuple[Any, ...]]] = []
        for sql in statements:
            cursor = connection.execute(sql, cast("tuple[apsw.SQLiteValue]", parameters))
            cursors.append(stack.enter_context(closing(cursor)))
        if len(cursors) == 1:
            yield cursors[0]
        else:
            yield (tuple(chain(*parts)) for parts in zip(*cursors, strict=True))


def _batched(groups: Iterator[list[ShownRow]]) -> Iterator[list[ShownRow]]:
    wanted = _FIRST_BATCH_ROWS
    batch: list[ShownRow] = []
    for rows in groups:
        batch += rows
        if len(batch) >= wanted:
            yield batch
            wanted = _rows_for_next_batch(batch)
            batch = []
    if batch:
        yield batch


def _rows_for_next_batch(batch: Sequence[tuple[object, ...]]) -> int:
    """How many rows like these make a batch of a bearable size in memory."""
    sample = batch[:: max(1, len(batch) // _SAMPLED_ROWS)]
    largest = max(sum(len(v) for v in row if isinstance(v, str | bytes)) for row in sample)
    return max(1, min(_MOST_BATCH_ROWS, _BATCH_BYTES // (largest + 1)))
