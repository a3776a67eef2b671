"""Finds which rows can differ between two captured states, from the pages that differ.

A table's rows lie in the leaf pages of its tree. A leaf that is in the table's tree on both sides
with the same content holds the same rows on both; of the others, every row's bytes are compared.
Long rows go on in overflow pages, which can change without their leaf: such pages are told from
all others by their first byte, and where one changed, the rows that lead to it are looked for.

Rows found here may turn out to be equal; rows not found here are. SQLite reads and compares them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import xxhash

from jondel.core.engines.pages import PageSource
from jondel.core.engines.protocol import Selection
from jondel.core.engines.sqlite.btree import (
    LEAF_INDEX,
    LEAF_TABLE,
    Cell,
    Pages,
    Text,
    Tree,
    UnexpectedPage,
    leading_values,
)
from jondel.core.engines.sqlite.leaf_pairs import rows_that_differ
from jondel.core.engines.sqlite.sql_text import text_of
from jondel.core.model.values import StoredValue

_LARGEST_SHARE = 0.6
"""Above this share of differing leaves, reading all rows in order is quicker and takes less."""
_SMALL_TREE = 500
_LOCK_BYTE = 1 << 30
_MOST_PAGES_WITH_PLAIN_OVERFLOW = 1 << 25
"""With fewer pages than this, an overflow page begins with a byte below 2, and no b-tree page."""
_MOST_KEYS = 50_000
"""Rows without a number are read one by one; above this, reading all in order is quicker."""
_OLD, _NEW = 0, 1


@dataclass(frozen=True)
class _Rows:
    """Rows of some leaves: sorted row numbers, and a digest of each row's bytes."""

    row_ids: npt.NDArray[np.int64]
    digests: npt.NDArray[np.uint64]


@dataclass(frozen=True)
class TableTrees:
    """Where a table that both sides have is rooted on each, as page numbers from 1.

    ``key_width`` is how many values a record begins with that are its key; 0 for a table whose
    rows have numbers.
    """

    roots: tuple[int, int]
    key_width: int


class PageComparison:
    """Two states of one database, compared by their pages; the older side is the first."""

    def __init__(
        self,
        sources: tuple[PageSource, PageSource],
        tables: dict[str, TableTrees],
        encoding: str,
    ) -> None:
        self._sources = sources
        self._tables = tables
        self._encoding = encoding
        self._pages = (Pages(sources[_OLD]), Pages(sources[_NEW]))
        self._common = min(source.page_count for source in sources)
        self._trees: dict[tuple[int, str], Tree] = {}
        hashes = [source.hashes[: self._common] for source in sources]
        self._differs = (hashes[_OLD] != hashes[_NEW]).any(1)

    def selection(self, table: str) -> Selection | None:
        """The rows of a table that can differ; None where all must be read to know."""
        if table not in self._tables:
            return None
        try:
            old, new = self._tree(_OLD, table), self._tree(_NEW, table)
            leaves = self._differing(old.leaves, new.leaves)
            total = len(old.leaves) + len(new.leaves)
            if total > _SMALL_TREE and sum(map(len, leaves)) > _LARGEST_SHARE * total:
                return None
            if not self._tables[table].key_width:
                return self._numbered(table, leaves)
            interior = self._differing(old.interior, new.interior)
            pages = [np.concatenate(pair) for pair in zip(interior, leaves, strict=True)]
            return self._keyed(table, pages)
        except UnexpectedPage:
            return None

    def same_leaves(self) -> set[str]:
        """The tables that are one page each, which is the same on both sides, as most are of many.

        None where long rows changed beyond the pages that they begin in.
        """
        tables: set[str] = set()
        try:
            if len(self._changed_overflow):
                return tables
            for name, trees in self._tables.items():
                old, new = (root - 1 for root in trees.roots)
                if old != new or not 0 <= old < self._common or self._differs[old]:
                    continue
                if self._pages[_OLD].kind(old) in (LEAF_TABLE, LEAF_INDEX):
                    tables.add(name)
        except UnexpectedPage:
            tables.clear()
        return tables

    def _tree(self, side: int, table: str) -> Tree:
        tree = self._trees.get((side, table))
        if tree is None:
            tree = self._pages[side].tree(self._tables[table].roots[side])
            self._trees[side, table] = tree
        return tree

    def _differing(
        self, old: npt.NDArray[np.intp], new: npt.NDArray[np.intp]
    ) -> list[npt.NDArray[np.intp]]:
        """The pages of each side that the other does not have, or has with another content."""
        return [self._not_shared(old, new), self._not_shared(new, old)]

    def _not_shared(
        self, pages: npt.NDArray[np.intp], others: npt.NDArray[np.intp]
    ) -> npt.NDArray[np.intp]:
        shared = np.zeros(max(source.page_count for source in self._sources), bool)
        shared[others] = True
        shared[: self._common] &= ~self._differs
        shared[self._common :] = False
        return pages[~shared[pages]]

    # Tables with row numbers

    def _numbered(self, table: str, leaves: Sequence[npt.NDArray[np.intp]]) -> Selection:
        row_ids: list[int] = [cell.row_id for cell in self._behind_changes.get(table, ())]
        if not len(self._changed_overflow):
            # Most leaves are in both trees at the same place: then only what differs in them
            # counts. (Where overflow pages changed too, every row has to be looked at.)
            both = np.intersect1d(leaves[_OLD], leaves[_NEW], assume_unique=True)
            row_ids += rows_that_differ(*self._pages, both)
            leaves = [np.setdiff1d(side, both, assume_unique=True) for side in leaves]
        old, new = (self._rows(side, leaves[side].tolist()) for side in (_OLD, _NEW))
        differing = np.union1d(_without_equal(old, new), _without_equal(new, old))
        return Selection(row_ids=np.union1d(differing, np.array(row_ids, np.uint64).view(np.int64)))

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

    def _digest_of_large(self, side: int, cell: Cell) -> int:
        """The digest of a row with overflow pages; unlike on the other side if one changed."""
        digest = xxhash.xxh3_64(cell.payload)
        digest.update(b"%d %d" % (cell.size, cell.overflow))
        if len(self._changed_overflow) and self._leads_to_change(side, cell):
            digest.update(b"%d" % side)
        return digest.intdigest()

    # Tables without

    def _keyed(self, table: str, pages: Sequence[npt.NDArray[np.intp]]) -> Selection | None:
        width = self._tables[table].key_width
        sides: list[dict[int, tuple[int, int]]] = []
        for side in (_OLD, _NEW):
            rows = {}
            for index in pages[side].tolist():
                for place, cell in enumerate(self._pages[side].cells(index)):
                    digest = (
                        self._digest_of_large(side, cell)
                        if cell.overflow >= 0
                        else xxhash.xxh3_64_intdigest(cell.payload)
                    )
                    rows[digest] = (index, place)
            sides.append(rows)
        keys: set[tuple[StoredValue, ...]] = set()
        for side in (_OLD, _NEW):
            wanted: dict[int, set[int]] = {}
            for digest in sides[side].keys() - sides[1 - side].keys():
                index, place = sides[side][digest]
                wanted.setdefault(index, set()).add(place)
            for index, places in wanted.items():
                for place, cell in enumerate(self._pages[side].cells(index)):
                    if place in places:
                        keys.add(self._key(side, cell, width))
            if len(keys) > _MOST_KEYS:
                return None
        keys |= {self._key(_OLD, cell, width) for cell in self._behind_changes.get(table, ())}
        return Selection(keys=tuple(keys))

    def _key(self, side: int, cell: Cell, width: int) -> tuple[StoredValue, ...]:
        record = self._pages[side].whole_payload(cell)
        key: list[StoredValue] = []
        for value in leading_values(record, width):
            key.append(text_of(value.raw, self._encoding) if isinstance(value, Text) else value)
        return tuple(key)

    # Overflow pages that changed

    @cached_property
    def _changed_overflow(self) -> npt.NDArray[np.bool_]:
        """For each page whether it is, on both sides, one that long rows go on in, and differs.

        Empty where there is none.
        """
        if self._common >= _MOST_PAGES_WITH_PLAIN_OVERFLOW:
            raise UnexpectedPage("too large to tell overflow pages by their first byte")
        changed = np.zeros(self._common, bool)
        unused = [set(pages.unused_pages().tolist()) for pages in self._pages]
        skipped = unused[_OLD] | unused[_NEW] | self._special_pages()
        for index in np.flatnonzero(self._differs).tolist():
            if index and index not in skipped:
                changed[index] = all(source.read(index)[0] < 2 for source in self._sources)
        return changed if changed.any() else changed[:0]

    def _special_pages(self) -> set[int]:
        """The lock-byte page, and the pages that tell an auto-vacuum where pages belong."""
        lock_byte = _LOCK_BYTE // self._sources[_OLD].page_size
        special = {lock_byte}
        for side in (_OLD, _NEW):
            header = self._sources[side].read(0)
            if int.from_bytes(header[52:56], "big"):
                stride = self._pages[side].usable // 5 + 1
                special |= {
                    index + (index == lock_byte) for index in range(1, self._common, stride)
                }
        return special

    def _leads_to_change(self, side: int, cell: Cell) -> bool:
        changed = self._changed_overflow
        return any(
            index < len(changed) and bool(changed[index])
            for index in self._pages[side].chain(cell.overflow)
        )

    @cached_property
    def _behind_changes(self) -> dict[str, list[Cell]]:
        """By table, the rows that changed in their overflow pages and not in their leaf.

        Overflow pages that rows of differing leaves lead to need no looking for. For the rest,
        the long rows of all other leaves are gone through until each has been found.
        """
        cells: dict[str, list[Cell]] = {}
        sought = set(np.flatnonzero(self._changed_overflow).tolist())
        if not sought:
            return cells
        shared: dict[str, npt.NDArray[np.intp]] = {}
        for table, trees in self._tables.items():
            old, new = self._tree(_OLD, table), self._tree(_NEW, table)
            pairs = [(old.leaves, new.leaves)]
            if trees.key_width:
                pairs.append((old.interior, new.interior))
            differing = [self._differing(*pair) for pair in pairs]
            for side in (_OLD, _NEW):
                for index in np.concatenate([pair[side] for pair in differing]).tolist():
                    for cell in self._pages[side].large_cells(index):
                        sought.difference_update(self._pages[side].chain(cell.overflow))
            own = np.concatenate([pair[_OLD] for pair in pairs])
            shared[table] = np.setdiff1d(own, np.concatenate([pair[_OLD] for pair in differing]))
        for table, indexes in shared.items():
            for index in indexes.tolist():
                if not sought:
                    return cells
                for cell in self._pages[_OLD].large_cells(index):
                    chain = set(self._pages[_OLD].chain(cell.overflow))
                    if sought & chain:
                        sought -= chain
                        cells.setdefault(table, []).append(cell)
        return cells


def _without_equal(rows: _Rows, others: _Rows) -> npt.NDArray[np.int64]:
    """The numbers of the rows that the other side does not have with the same bytes."""
    if not len(others.row_ids):
        return rows.row_ids
    at = np.searchsorted(others.row_ids, rows.row_ids)
    at[at == len(others.row_ids)] = 0
    equal = (others.row_ids[at] == rows.row_ids) & (others.digests[at] == rows.digests)
    differing: npt.NDArray[np.int64] = rows.row_ids[~equal]
    return differing
