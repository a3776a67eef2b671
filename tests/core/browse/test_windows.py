"""Which blocks of rows are at hand and how the next ones are read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from conftest import MakeDatabase
from jondel.core.browse.windows import BLOCK_ROWS, WindowCache
from jondel.core.engines.protocol import Database


def _cache(make: MakeDatabase, opened: Callable[[Path], Database], rows: int) -> WindowCache:
    path = make(
        "CREATE TABLE t(id INTEGER PRIMARY KEY)",
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT "
        f"{rows}) INSERT INTO t SELECT i * 3 FROM n",
    )
    database = opened(path)
    table = database.schema().named("t")
    assert table is not None
    cache = WindowCache(table, database.rows.measure(table))
    cache.database = database  # type: ignore[attr-defined]
    return cache


def _read(cache: WindowCache, first: int, last: int) -> list[int]:
    blocks = cache.missing(first, last)
    for block in blocks:
        cache.add(cache.fetch(cache.database, block))  # type: ignore[attr-defined]
    return blocks


def test_only_the_blocks_in_view_are_read_and_only_once(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    cache = _cache(make, opened, 1000)
    assert _read(cache, 0, 40) == [0]
    assert _read(cache, BLOCK_ROWS - 10, BLOCK_ROWS + 30) == [1]
    assert _read(cache, 0, BLOCK_ROWS + 30) == []
    assert cache.row(500) is None


def test_a_row_anywhere_is_the_right_one_however_it_was_reached(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    cache = _cache(make, opened, 1000)
    for ordinal in (0, 999, 870, 500, 380, 250, 120, 640):
        _read(cache, ordinal, ordinal)
        assert cache.row(ordinal) == (((ordinal + 1) * 3,), ((ordinal + 1) * 3,))


def test_beyond_the_last_row_there_is_nothing_to_read(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    cache = _cache(make, opened, 10)
    assert _read(cache, 0, 500) == [0]
    assert cache.missing(11, 500) == []
    assert cache.row(10) is None


def test_memory_stays_bounded_over_a_long_way(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    cache = _cache(make, opened, 20_000)
    for first in range(0, 20_000, BLOCK_ROWS):
        _read(cache, first, first + 40)
    at_hand = [n for n in range(0, 20_000, BLOCK_ROWS) if cache.row(n) is not None]
    assert len(at_hand) <= 50
    assert at_hand[-1] == 19_968


def test_cells_that_changed_since_are_told_by_position(
    make: MakeDatabase, opened: Callable[[Path], Database]
) -> None:
    cache = _cache(make, opened, 300)
    _read(cache, 0, 9)
    before = {(3,): (3,), (6,): (6.0,), (9,): (8,), (999,): (1,)}
    assert cache.changed_since(before, range(10)) == {(6,): {0}, (9,): {0}}
    assert cache.changed_since(before, range(200, 210)) == {}
