"""Finds which rows can differ between two large states.

Of what ``page_comparison`` does, the steps that go through many pages or rows: all at once, as
arrays.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import chain

import numpy as np
import numpy.typing as npt

from jondel.core.engines.protocol import Selection
from jondel.core.engines.sqlite.btree import INDEX_TYPE, LEAF_INDEX
from jondel.core.engines.sqlite.leaf_pairs import cells_that_differ, rows_that_differ
from jondel.core.engines.sqlite.page_comparison import NEW, OLD, CellPlace, PageComparison


@dataclass(frozen=True)
class _Rows:
    """Rows of some leaves: sorted row numbers, and a digest of each row's bytes."""

    row_ids: npt.NDArray[np.int64]
    digests: npt.NDArray[np.uint64]


class ArrayComparison(PageComparison):
    """See ``PageComparison``."""

    def _prepare(self) -> None:
        old, new = (
            np.frombuffer(source.hashes, np.uint64).reshape(-1, 2)[: self._common]
            for source in self._sources
        )
        self._differ = (old != new).any(1)

    def _differs(self, index: int) -> bool:
        return bool(self._differ[index])

    def _all_differing(self) -> Iterable[int]:
        return iter(np.flatnonzero(self._differ).tolist())

    def _not_shared(self, pages: Sequence[int], others: Sequence[int]) -> Sequence[int]:
        shared = np.zeros(max(source.page_count for source in self._sources), bool)
        shared[np.asarray(others, np.intp)] = True
        shared[: self._common] &= ~self._differ
        shared[self._common :] = False
        indexes = np.asarray(pages, np.intp)
        return array(INDEX_TYPE, indexes[~shared[indexes]].astype(np.uint32).tobytes())

    def _numbered(self, table: str, leaves: Sequence[Sequence[int]]) -> Selection:
        row_ids: list[int] = [cell.row_id for cell in self._behind_changes.get(table, ())]
        sides = [np.array(side, np.intp) for side in leaves]
        if not self._changed_overflow:
            # Most leaves are in both trees at the same place: then only what differs in them
            # counts. (Where overflow pages changed too, every row has to be looked at.)
            both = np.intersect1d(sides[OLD], sides[NEW], assume_unique=True)
            row_ids += rows_that_differ(*self._pages, both)
            sides = [np.setdiff1d(side, both, assume_unique=True) for side in sides]
        old, new = (self._rows(side, sides[side].tolist()) for side in (OLD, NEW))
        differing = np.union1d(_without_equal(old, new), _without_equal(new, old))
        return Selection(row_ids=np.union1d(differing, np.array(row_ids, np.uint64).view(np.int64)))

    def _suspects(
        self, leaves: Sequence[Sequence[int]], interior: Sequence[Sequence[int]]
    ) -> Sequence[Iterable[CellPlace]]:
        if self._changed_overflow:
            return super()._suspects(leaves, interior)
        sides = [np.array(side, np.intp) for side in leaves]
        both = np.intersect1d(sides[OLD], sides[NEW], assume_unique=True)
        pairs = cells_that_differ(*self._pages, both, LEAF_INDEX)
        alone = [np.setdiff1d(side, both, assume_unique=True).tolist() for side in sides]
        return [
            chain(pairs[side], self._all_cells(side, (*interior[side], *alone[side])))
            for side in (OLD, NEW)
        ]

    def _rows(self, side: int, leaves: list[int]) -> _Rows:
        row_ids: list[int] = []
        digests: list[int] = []
        all_ids = [np.empty(0, np.int64)]
        all_digests = [np.empty(0, np.uint64)]
        for number, leaf in enumerate(leaves):
            for cell in self._pages[side].digests(leaf, row_ids, digests):
                row_ids.append(cell.row_id)
                digests.append(self._digest_of_large(side, cell))
            # Arrays take a fraction of what lists of numbers take.
            if number % 256 == 255 or number == len(leaves) - 1:
                all_ids.append(np.array(row_ids, np.uint64).view(np.int64))
                all_digests.append(np.array(digests, np.uint64))
                row_ids.clear()
                digests.clear()
        ids = np.concatenate(all_ids)
        order = np.argsort(ids, kind="stable")
        return _Rows(ids[order], np.concatenate(all_digests)[order])


def _without_equal(rows: _Rows, others: _Rows) -> npt.NDArray[np.int64]:
    """The numbers of the rows that the other side does not have with the same bytes."""
    if not len(others.row_ids):
        return rows.row_ids
    at = np.searchsorted(others.row_ids, rows.row_ids)
    at[at == len(others.row_ids)] = 0
    equal = (others.row_ids[at] == rows.row_ids) & (others.digests[at] == rows.digests)
    differing: npt.NDArray[np.int64] = rows.row_ids[~equal]
    return differing
