"""Reads tables to profile them: whole, or as much of them as tells what they usually hold."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import overload

from jondel.core.diff.keys import Key, comparison_key
from jondel.core.engines.protocol import Database
from jondel.core.findings.table_profile import TableProfile
from jondel.core.model.schema import ROW_ID, Table
from jondel.core.model.values import Clipped, ShownRow, Value

_LARGEST_BYTES = 64 << 10
"""Of larger values the beginning is looked at."""
_SAMPLED_ROWS = 10_000
_BATCH_ROWS = 2048
_LOOKED_AT = 200

GoOn = Callable[[], None]


def key_of(database: Database, table: Table) -> Key:
    """By what the records of a table are called."""
    return comparison_key(database, database, table, table)


def whole_profile(
    database: Database, table: Table, key: Key, go_on: GoOn = lambda: None
) -> TableProfile:
    """The profile of all rows.

    Raises:
        ReadError: the table cannot be read, or it was interrupted.
    """
    profile = TableProfile(table)
    for columns, keys in _read(database, table, key):
        go_on()
        profile.feed(columns, keys)
    return profile


def sampled_profile(database: Database, table: Table, key: Key) -> TableProfile:
    """The profile of the first and the last rows, of all where there are not many.

    Raises:
        ReadError: the table cannot be read, or it was interrupted.
    """
    profile = TableProfile(table)
    extent = database.rows.measure(table, quick=True)
    if extent.rows <= 2 * _SAMPLED_ROWS:
        return whole_profile(database, table, key)
    for offset in (0, max(_SAMPLED_ROWS, extent.rows - _SAMPLED_ROWS)):
        window = database.rows.read_window(table, offset, _SAMPLED_ROWS, extent=extent)
        profile.feed(list(zip(*window.rows, strict=True)), window.positions)
    return profile


def _read(
    database: Database, table: Table, key: Key
) -> Iterator[tuple[Sequence[Sequence[Value]], Sequence[tuple[object, ...]]]]:
    columns = [*key.columns_in(table), *table.column_names]
    order = key.columns_in(table)
    width = len(order)
    waiting: list[ShownRow] = []
    largest = _LARGEST_BYTES if _has_large_values(database, table) else None
    for batch in database.scanner.stream_rows(table, columns, order, largest=largest):
        waiting += batch
        if len(waiting) >= _BATCH_ROWS:
            yield _parted(waiting, width)
            waiting = []
    if waiting:
        yield _parted(waiting, width)


def _has_large_values(database: Database, table: Table) -> bool:
    """Whether some of the first values are large: to cut such takes as long as reading the rest."""
    window = database.rows.read_window(table, 0, _LOOKED_AT)
    return any(isinstance(value, Clipped | bytes) for row in window.rows for value in row)


class _Keys(Sequence[tuple[object, ...]]):
    """The keys of some rows, made of their columns when the first is asked for."""

    def __init__(self, columns: Sequence[Sequence[Value]]) -> None:
        self._columns = columns
        self._made: list[tuple[object, ...]] | None = None

    def __len__(self) -> int:
        return len(self._columns[0]) if self._columns else 0

    @overload
    def __getitem__(self, at: int) -> tuple[object, ...]: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[tuple[object, ...]]: ...
    def __getitem__(self, at: int | slice) -> tuple[object, ...] | Sequence[tuple[object, ...]]:
        return self._all[at]

    def __iter__(self) -> Iterator[tuple[object, ...]]:
        return iter(self._all)

    @property
    def _all(self) -> list[tuple[object, ...]]:
        if self._made is None:
            self._made = list(zip(*self._columns, strict=True))
        return self._made


def _parted(
    rows: Sequence[ShownRow], width: int
) -> tuple[Sequence[Sequence[Value]], Sequence[tuple[object, ...]]]:
    """Rows as columns, and their keys, which are the first ``width`` values of each."""
    columns = list(zip(*rows, strict=True))
    return columns[width:], _Keys(columns[:width])


def key_columns(key: Key) -> tuple[str, ...]:
    return (ROW_ID,) if key.is_row_id else key.columns
