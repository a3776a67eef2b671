"""Compares leaves of a table's tree that lie at the same place in two states, many at once.

A row is in both leaves where a cell begins at the same place in both and no byte of it differs. So
the bytes that differ, and the cells that begin in one leaf alone, lead to all rows that can differ;
what is free space, or a row that only moved within its page, may lead to some that do not.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from jondel.core.engines.sqlite.btree import LEAF_TABLE, Pages, UnexpectedPage, varint

_PAGES_AT_ONCE = 128
_HEADER_BYTES = 8
_STRIDE = 1 << 16
"""More than any offset in a page, so that page and offset make one number."""


def rows_that_differ(one: Pages, other: Pages, indexes: npt.NDArray[np.intp]) -> list[int]:
    """The row numbers of rows that may be in one state's leaves alone; not signed, unordered.

    ``indexes`` (from 0) are of pages that are leaves of the same table in both states; the first
    page of the file is never one.

    Raises:
        UnexpectedPage: a page is no such leaf.
    """
    row_ids: list[int] = []
    for start in range(0, len(indexes), _PAGES_AT_ONCE):
        part = indexes[start : start + _PAGES_AT_ONCE].tolist()
        row_ids += _rows_of_part([one.source.read(index) for index in part],
                               [other.source.read(index) for index in part])  # fmt: skip
    return row_ids


def _rows_of_part(one: Sequence[bytes], other: Sequence[bytes]) -> list[int]:
    size = len(one[0])
    raw = np.frombuffer(b"".join(one), np.uint8).reshape(-1, size)
    other_raw = np.frombuffer(b"".join(other), np.uint8).reshape(-1, size)
    page, offset = np.nonzero(raw != other_raw)
    differs = page * _STRIDE + offset
    cells, other_cells = _cells(raw), _cells(other_raw)
    return [
        *_touched(one, cells, other_cells, differs),
        *_touched(other, other_cells, cells, differs),
    ]


def _touched(
    pages: Sequence[bytes],
    cells: npt.NDArray[np.int64],
    others: npt.NDArray[np.int64],
    differs: npt.NDArray[np.int64],
) -> list[int]:
    """The row numbers of cells that begin here alone, or that hold a byte that differs."""
    touched = ~np.isin(cells, others, assume_unique=True)
    # A byte is in the last cell that begins before it, if it is in one at all.
    at = np.searchsorted(cells, differs, side="right") - 1
    differs, at = differs[at >= 0], at[at >= 0]
    touched[at[cells[at] // _STRIDE == differs // _STRIDE]] = True
    return [_row_id(pages[place // _STRIDE], place % _STRIDE) for place in cells[touched].tolist()]


def _cells(pages: npt.NDArray[np.uint8]) -> npt.NDArray[np.int64]:
    """Where cells begin, as page number times the stride plus offset, rising."""
    if (pages[:, 0] != LEAF_TABLE).any():
        raise UnexpectedPage("a page holds no rows of a table")
    counts = pages[:, 3].astype(np.int64) * 256 + pages[:, 4]
    most = int(counts.max())
    if _HEADER_BYTES + 2 * most > pages.shape[1]:
        raise UnexpectedPage("a page has more cells than it can hold")
    pointers = pages[:, _HEADER_BYTES : _HEADER_BYTES + 2 * most].astype(np.int64)
    offsets = pointers[:, ::2] * 256 + pointers[:, 1::2]
    there = np.arange(most) < counts[:, None]
    if (offsets[there] >= pages.shape[1]).any():
        raise UnexpectedPage("a cell begins beyond its page")
    places = offsets + (np.arange(len(pages)) * _STRIDE)[:, None]
    return np.sort(places[there])


def _row_id(page: bytes, offset: int) -> int:
    try:
        _, after = varint(page, offset)
        return varint(page, after)[0]
    except IndexError as error:
        raise UnexpectedPage("a cell ends beyond its page") from error
