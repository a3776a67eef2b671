"""Compares leaves of a tree that lie at the same place in two states, many at once.

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
    return [
        _row_id(pages.source.read(index), offset)
        for pages, places in zip((one, other), cells_that_differ(one, other, indexes, LEAF_TABLE),
                                 strict=True)
        for index, offset in places
    ]  # fmt: skip


def cells_that_differ(
    one: Pages, other: Pages, indexes: npt.NDArray[np.intp], kind: int
) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """Where rows begin that may be in one state's leaves alone, in each state: the page and the
    offset in it.

    ``indexes`` and what is raised are those of ``rows_that_differ``; the leaves are of a ``kind``.
    """
    places: tuple[list[tuple[int, int]], list[tuple[int, int]]] = ([], [])
    for start in range(0, len(indexes), _PAGES_AT_ONCE):
        part = indexes[start : start + _PAGES_AT_ONCE].tolist()
        raw, other_raw = _joined(one, part), _joined(other, part)
        page, offset = np.nonzero(raw != other_raw)
        differs = page * _STRIDE + offset
        cells, other_cells = _cells(raw, kind), _cells(other_raw, kind)
        for found, touched in zip(
            places,
            (_touched(cells, other_cells, differs), _touched(other_cells, cells, differs)),
            strict=True,
        ):
            found += [(part[cell // _STRIDE], cell % _STRIDE) for cell in touched]
    return places


def _joined(pages: Pages, indexes: Sequence[int]) -> npt.NDArray[np.uint8]:
    read = b"".join(pages.source.read(index) for index in indexes)
    return np.frombuffer(read, np.uint8).reshape(len(indexes), -1)


def _touched(
    cells: npt.NDArray[np.int64], others: npt.NDArray[np.int64], differs: npt.NDArray[np.int64]
) -> list[int]:
    """Cells that begin here alone, or that hold a byte that differs."""
    touched = ~np.isin(cells, others, assume_unique=True)
    # A byte is in the last cell that begins before it, if it is in one at all.
    at = np.searchsorted(cells, differs, side="right") - 1
    differs, at = differs[at >= 0], at[at >= 0]
    touched[at[cells[at] // _STRIDE == differs // _STRIDE]] = True
    found: list[int] = cells[touched].tolist()
    return found


def _cells(pages: npt.NDArray[np.uint8], kind: int) -> npt.NDArray[np.int64]:
    """Where cells begin, as place of the page times the stride plus offset, rising."""
    if (pages[:, 0] != kind).any():
        raise UnexpectedPage("a page is no leaf of the kind")
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
