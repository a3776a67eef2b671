"""Finds which rows can differ between two captured states, from the pages that differ.

A table's rows lie in the leaf pages of its tree. A leaf that is in the table's tree on both sides
with the same content holds the same rows on both; of the others, every row's bytes are compared.
Long rows go on in overflow pages, which can change without their leaf: such pages are told from
all others by their first byte, and where one changed, the rows that lead to it are looked for.

Rows found here may turn out to be equal; rows not found here are. SQLite reads and compares them.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import chain
from typing import TypeAlias

import xxhash

from jondel.core.engines.pages import HASH_BYTES, PageSource
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
OLD, NEW = 0, 1
CellPlace: TypeAlias = tuple[int, int]
"""A page, as an index from 0, and where in it a row begins."""


@dataclass(frozen=True)
class TableTrees:
    """Where a table that both sides have is rooted on each, as page numbers from 1.

    ``key_width`` is how many values a record begins with that are its key; 0 for a table whose
    rows have numbers.
    """

    roots: tuple[int, int]
    key_width: int


class PageComparison:
    """Two states of one database, compared by their pages; the older side is the first.

    ``ArrayComparison`` does the same for large ones.
    """

    def __init__(
        self,
        sources: tuple[PageSource, PageSource],
        tables: dict[str, TableTrees],
        encoding: str,
    ) -> None:
        self._sources = sources
        self._tables = tables
        self._encoding = encoding
        self._pages = (Pages(sources[OLD]), Pages(sources[NEW]))
        self._common = min(source.page_count for source in sources)
        self._trees: dict[tuple[int, str], Tree] = {}
        self._prepare()

    def _prepare(self) -> None:
        """Find the pages that both sides have and that differ."""
        old, new = (source.hashes for source in self._sources)
        self._differing_pages = {
            index
            for index in range(self._common)
            if old[index * HASH_BYTES : (index + 1) * HASH_BYTES]
            != new[index * HASH_BYTES : (index + 1) * HASH_BYTES]
        }

    def _differs(self, index: int) -> bool:
        """Whether a page that both sides have differs."""
        return index in self._differing_pages

    def _all_differing(self) -> Iterable[int]:
        """All pages that both sides have and that differ, rising."""
        return sorted(self._differing_pages)

    def selection(self, table: str) -> Selection | None:
        """The rows of a table that can differ; None where all must be read to know."""
        if table not in self._tables:
            return None
        try:
            old, new = self._tree(OLD, table), self._tree(NEW, table)
            leaves = self._differing(old.leaves, new.leaves)
            total = len(old.leaves) + len(new.leaves)
            if total > _SMALL_TREE and sum(map(len, leaves)) > _LARGEST_SHARE * total:
                return None
            if not self._tables[table].key_width:
                return self._numbered(table, leaves)
            return self._keyed(table, leaves, self._differing(old.interior, new.interior))
        except UnexpectedPage:
            return None

    def same_leaves(self) -> set[str]:
        """The tables that are one page each, which is the same on both sides, as most are of many.

        None where long rows changed beyond the pages that they begin in.
        """
        tables: set[str] = set()
        try:
            if self._changed_overflow:
                return tables
            for name, trees in self._tables.items():
                old, new = (root - 1 for root in trees.roots)
                if old != new or not 0 <= old < self._common or self._differs(old):
                    continue
                if self._pages[OLD].kind(old) in (LEAF_TABLE, LEAF_INDEX):
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

    def _differing(self, old: Sequence[int], new: Sequence[int]) -> list[Sequence[int]]:
        """The pages of each side that the other does not have, or has with another content."""
        return [self._not_shared(old, new), self._not_shared(new, old)]

    def _not_shared(self, pages: Sequence[int], others: Sequence[int]) -> Sequence[int]:
        """The pages of one tree that the other does not have, or has with another content."""
        shared = set(others)
        return [
            index
            for index in pages
            if index not in shared or index >= self._common or self._differs(index)
        ]

    # Tables with row numbers

    def _numbered(self, table: str, leaves: Sequence[Sequence[int]]) -> Selection:
        sides: list[set[tuple[int, int]]] = []
        for side in (OLD, NEW):
            row_ids: list[int] = []
            digests: list[int] = []
            for leaf in leaves[side]:
                for cell in self._pages[side].digests(leaf, row_ids, digests):
                    row_ids.append(cell.row_id)
                    digests.append(self._digest_of_large(side, cell))
            sides.append(set(zip(row_ids, digests, strict=True)))
        differing = {row_id for row_id, _ in sides[OLD] ^ sides[NEW]}
        differing.update(cell.row_id for cell in self._behind_changes.get(table, ()))
        return Selection(row_ids=array("q", sorted(map(_signed, differing))))

    def _digest_of_large(self, side: int, cell: Cell) -> int:
        """The digest of a row with overflow pages; unlike on the other side if one changed."""
        digest = xxhash.xxh3_64(cell.payload)
        digest.update(b"%d %d" % (cell.size, cell.overflow))
        if self._changed_overflow and self._leads_to_change(side, cell):
            digest.update(b"%d" % side)
        return digest.intdigest()

    # Tables without

    def _keyed(
        self, table: str, leaves: Sequence[Sequence[int]], interior: Sequence[Sequence[int]]
    ) -> Selection | None:
        width = self._tables[table].key_width
        digest_of = xxhash.xxh3_64_intdigest
        sides: list[dict[int, CellPlace]] = []
        for side, places in enumerate(self._suspects(leaves, interior)):
            rows = {}
            for place in places:
                cell = self._pages[side].cell_at(*place)
                digest = (
                    self._digest_of_large(side, cell)
                    if cell.overflow >= 0
                    else digest_of(cell.payload)
                )
                rows[digest] = place
            sides.append(rows)
        keys: set[tuple[StoredValue, ...]] = set()
        for side in (OLD, NEW):
            for digest in sides[side].keys() - sides[1 - side].keys():
                place = sides[side][digest]
                keys.add(self._key(side, self._pages[side].cell_at(*place), width))
            if len(keys) > _MOST_KEYS:
                return None
        keys |= {self._key(OLD, cell, width) for cell in self._behind_changes.get(table, ())}
        return Selection(keys=tuple(keys))

    def _suspects(
        self, leaves: Sequence[Sequence[int]], interior: Sequence[Sequence[int]]
    ) -> Sequence[Iterable[CellPlace]]:
        """On each side, the rows of a table without row numbers that can be there alone."""
        return [self._all_cells(side, (*interior[side], *leaves[side])) for side in (OLD, NEW)]

    def _all_cells(self, side: int, indexes: Iterable[int]) -> Iterator[CellPlace]:
        for index in indexes:
            for offset in self._pages[side].offsets(index):
                yield index, offset

    def _key(self, side: int, cell: Cell, width: int) -> tuple[StoredValue, ...]:
        record = self._pages[side].whole_payload(cell)
        key: list[StoredValue] = []
        for value in leading_values(record, width):
            key.append(text_of(value.raw, self._encoding) if isinstance(value, Text) else value)
        return tuple(key)

    # Overflow pages that changed

    @cached_property
    def _changed_overflow(self) -> frozenset[int]:
        """The pages that long rows go on in, on both sides, and that differ."""
        if self._common >= _MOST_PAGES_WITH_PLAIN_OVERFLOW:
            raise UnexpectedPage("too large to tell overflow pages by their first byte")
        skipped = self._special_pages().union(*(pages.unused_pages() for pages in self._pages))
        return frozenset(
            index
            for index in self._all_differing()
            if index
            and index not in skipped
            and all(source.read(index)[0] < 2 for source in self._sources)
        )

    def _special_pages(self) -> set[int]:
        """The lock-byte page, and the pages that tell an auto-vacuum where pages belong."""
        lock_byte = _LOCK_BYTE // self._sources[OLD].page_size
        special = {lock_byte}
        for side in (OLD, NEW):
            header = self._sources[side].read(0)
            if int.from_bytes(header[52:56], "big"):
                stride = self._pages[side].usable // 5 + 1
                special |= {
                    index + (index == lock_byte) for index in range(1, self._common, stride)
                }
        return special

    def _leads_to_change(self, side: int, cell: Cell) -> bool:
        changed = self._changed_overflow
        return any(index in changed for index in self._pages[side].chain(cell.overflow))

    @cached_property
    def _behind_changes(self) -> dict[str, list[Cell]]:
        """By table, the rows that changed in their overflow pages and not in their leaf.

        Overflow pages that rows of differing leaves lead to need no looking for. For the rest,
        the long rows of all other leaves are gone through until each has been found.
        """
        cells: dict[str, list[Cell]] = {}
        sought = set(self._changed_overflow)
        if not sought:
            return cells
        shared: dict[str, list[int]] = {}
        for table, trees in self._tables.items():
            old, new = self._tree(OLD, table), self._tree(NEW, table)
            pairs = [(old.leaves, new.leaves)]
            if trees.key_width:
                pairs.append((old.interior, new.interior))
            differing = [self._differing(*pair) for pair in pairs]
            for side in (OLD, NEW):
                for index in chain.from_iterable(pair[side] for pair in differing):
                    for cell in self._pages[side].large_cells(index):
                        sought.difference_update(self._pages[side].chain(cell.overflow))
            own = set(chain.from_iterable(pair[OLD] for pair in pairs))
            own.difference_update(*(pair[OLD] for pair in differing))
            shared[table] = sorted(own)
        for table, indexes in shared.items():
            for index in indexes:
                if not sought:
                    return cells
                for cell in self._pages[OLD].large_cells(index):
                    behind = set(self._pages[OLD].chain(cell.overflow))
                    if sought & behind:
                        sought -= behind
                        cells.setdefault(table, []).append(cell)
        return cells


def _signed(row_id: int) -> int:
    """A row number that was read as if it were not signed."""
    return row_id - (1 << 64) if row_id >> 63 else row_id
