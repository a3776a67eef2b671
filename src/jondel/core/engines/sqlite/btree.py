"""Walks the b-trees of a SQLite database by its pages, without SQLite.

Only what a comparison needs is read: where a table's rows lie, and which bytes they consist of.
What they mean is left to SQLite. Format: https://www.sqlite.org/fileformat2.html#b_tree_pages
"""

from __future__ import annotations

import struct
from array import array
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import xxhash

from jondel.core.engines.pages import HASH_BYTES, PageSource

INTERIOR_INDEX, INTERIOR_TABLE, LEAF_INDEX, LEAF_TABLE = 0x02, 0x05, 0x0A, 0x0D
_FILE_HEADER_BYTES = 100
_CELLS_AT = {INTERIOR_INDEX: 12, INTERIOR_TABLE: 12, LEAF_INDEX: 8, LEAF_TABLE: 8}
_DEEPEST = 40
_MOST_REMEMBERED = 20_000
INDEX_TYPE = "I"
_digest = xxhash.xxh3_64_intdigest
_pointer = struct.Struct(">I").unpack_from
_real = struct.Struct(">d").unpack_from


class UnexpectedPage(Exception):
    """A page is not what the tree says it is: damage, or a format unknown here."""


@dataclass(frozen=True)
class Tree:
    """The pages of one b-tree, as indexes from 0, 4 bytes each; leaves in key order.

    ``interior`` pages of a table's tree hold no rows; those of an index's tree do.
    """

    interior: array[int]
    leaves: array[int]


class Cell(NamedTuple):
    """One row as it lies in its page.

    ``row_id`` is taken as if it were not signed, and 0 in an index's tree. ``payload`` is what of
    the record lies in the page, ``size`` the whole record's size, and ``overflow`` the page (from
    0) where it goes on, or -1.
    """

    row_id: int
    payload: bytes
    size: int
    overflow: int


@dataclass(frozen=True)
class _Children:
    """The children of an interior page, in key order, and the highest of their indexes."""

    indexes: array[int]
    highest: int


_children_of: dict[bytes, _Children] = {}
"""By the content of the page: two states of a database share nearly all of their interior pages,
and so does the next state."""


class Pages:
    """The pages of one state, and the trees in them."""

    def __init__(self, source: PageSource) -> None:
        self.source = source
        self._page_count = source.page_count
        header = source.read(0)[:_FILE_HEADER_BYTES] if source.page_count else b""
        reserved = header[20] if header else 0
        self.usable = source.page_size - reserved
        self._most_local = ((self.usable - 12) * 64 // 255 - 23, self.usable - 35)
        """Bytes of a record that stay in a page at most: of an index's tree, of a table's leaf."""

    def tree(self, root: int) -> Tree:
        """Find the pages of the tree with this root (a page number, from 1).

        Raises:
            UnexpectedPage: something on the way is not a b-tree page.
        """
        self._check(root - 1)
        level, interior = array(INDEX_TYPE, [root - 1]), array(INDEX_TYPE)
        for _ in range(_DEEPEST):
            if self.kind(level[0]) in (LEAF_TABLE, LEAF_INDEX):
                return Tree(interior, level)
            interior += level
            level = self._below(level)
        raise UnexpectedPage("a tree of pages goes in circles")

    def kind(self, index: int) -> int:
        """The first byte of a b-tree page's header."""
        self._check(index)
        return self.source.read(index)[_start(index)]

    def cells(self, index: int) -> Iterator[Cell]:
        """The rows in a page, in key order; of an interior page of an index's tree too."""
        for offset in self.offsets(index):
            yield self.cell_at(index, offset)

    def offsets(self, index: int) -> tuple[int, ...]:
        """Where in a page its rows begin, in key order."""
        page = self.source.read(index)
        start = _start(index)
        kind = page[start]
        if kind not in (LEAF_TABLE, LEAF_INDEX, INTERIOR_INDEX):
            raise UnexpectedPage(f"page {index + 1} holds no rows")
        count = int.from_bytes(page[start + 3 : start + 5], "big")
        try:
            return struct.unpack_from(f">{count}H", page, start + _CELLS_AT[kind])
        except struct.error as error:
            raise UnexpectedPage(f"page {index + 1} is damaged") from error

    def cell_at(self, index: int, offset: int) -> Cell:
        """The row that begins at one of the ``offsets`` of a page."""
        page = self.source.read(index)
        kind = page[_start(index)]
        try:
            return self._cell(page, offset + (4 if kind == INTERIOR_INDEX else 0), kind)
        except IndexError as error:
            raise UnexpectedPage(f"page {index + 1} is damaged") from error

    def _cell(self, page: bytes, offset: int, kind: int) -> Cell:
        size, offset = varint(page, offset)
        row_id = 0
        if kind == LEAF_TABLE:
            row_id, offset = varint(page, offset)
        most = self._most_local[kind == LEAF_TABLE]
        if size <= most:
            return Cell(row_id, page[offset : offset + size], size, -1)
        least = (self.usable - 12) * 32 // 255 - 23
        local = least + (size - least) % (self.usable - 4)
        local = least if local > most else local
        end = offset + local
        overflow = int.from_bytes(page[end : end + 4], "big") - 1
        self._check(overflow)
        return Cell(row_id, page[offset:end], size, overflow)

    def chain(self, first: int) -> Iterator[int]:
        """The overflow pages of a record, as indexes from 0."""
        index = first
        for _ in range(self.source.page_count):
            yield index
            index = int.from_bytes(self.source.read(index)[:4], "big") - 1
            if index < 0:
                return
            self._check(index)
        raise UnexpectedPage("a chain of overflow pages goes in circles")

    def whole_payload(self, cell: Cell) -> bytes:
        """A record's bytes, overflow pages included."""
        parts = [cell.payload]
        if cell.overflow >= 0:
            for index in self.chain(cell.overflow):
                parts.append(self.source.read(index)[4 : self.usable])
        return b"".join(parts)[: cell.size]

    def unused_pages(self) -> array[int]:
        """The pages on the freelist."""
        header = self.source.read(0)[:_FILE_HEADER_BYTES] if self.source.page_count else b""
        trunk = int.from_bytes(header[32:36], "big") - 1
        unused = array(INDEX_TYPE)
        for _ in range(self.source.page_count):
            if trunk < 0:
                return unused
            self._check(trunk)
            page = self.source.read(trunk)
            count = int.from_bytes(page[4:8], "big")
            if 8 + 4 * count > len(page):
                raise UnexpectedPage("the list of unused pages is damaged")
            unused.append(trunk)
            unused += _from_numbers(struct.unpack_from(f">{count}I", page, 8))
            trunk = int.from_bytes(page[:4], "big") - 1
        raise UnexpectedPage("the list of unused pages goes in circles")

    def _below(self, level: array[int]) -> array[int]:
        """The children of interior pages; there are thousands of these in a large tree."""
        below, hashes, known, highest = array(INDEX_TYPE), self.source.hashes, _children_of, 0
        for index in level:
            content = hashes[index * HASH_BYTES : (index + 1) * HASH_BYTES]
            children = known.get(content)
            if children is None:
                indexes = self._read_children(index)
                children = _Children(indexes, max(indexes))
                if len(known) >= _MOST_REMEMBERED:
                    known.clear()
                known[content] = children
            if children.highest > highest:
                highest = children.highest
            below += children.indexes
        self._check(highest)
        return below

    def _read_children(self, index: int) -> array[int]:
        page = self.source.read(index)
        start = _start(index)
        if page[start] not in (INTERIOR_TABLE, INTERIOR_INDEX):
            raise UnexpectedPage(f"page {index + 1} is not an interior page")
        count = int.from_bytes(page[start + 3 : start + 5], "big")
        try:
            offsets = struct.unpack_from(f">{count}H", page, start + _CELLS_AT[page[start]])
            pointers = [_pointer(page, offset)[0] for offset in (*offsets, start + 8)]
        except struct.error as error:
            raise UnexpectedPage(f"page {index + 1} is damaged") from error
        return _from_numbers(pointers)

    def digests(self, index: int, row_ids: list[int], digests: list[int]) -> list[Cell]:
        """Append the row number and a 64-bit digest of each row in a page of a table's tree.

        Rows with overflow pages are not appended but returned.
        """
        page = self.source.read(index)
        start = _start(index)
        if page[start] != LEAF_TABLE:
            raise UnexpectedPage(f"page {index + 1} holds no rows of a table")
        count = int.from_bytes(page[start + 3 : start + 5], "big")
        most = self.usable - 35
        view = memoryview(page)
        large = []
        try:
            # The same as cells(), without making an object a row.
            for at in range(start + 8, start + 8 + 2 * count, 2):
                offset = (page[at] << 8) | page[at + 1]
                size = page[offset]
                after = offset + 1
                if size > 127:
                    size, after = varint(page, offset)
                    if size > most:
                        large.append(self._cell(page, offset, LEAF_TABLE))
                        continue
                row_id = page[after]
                after += 1
                if row_id > 127:
                    # What varint does, for the shorter numbers; calls would take most of the time.
                    row_id &= 127
                    first, byte = after, 128
                    while byte > 127 and after < first + 7:
                        byte = page[after]
                        row_id = (row_id << 7) | (byte & 127)
                        after += 1
                    if byte > 127:
                        row_id, after = varint(page, first - 1)
                row_ids.append(row_id)
                digests.append(_digest(view[after : after + size]))
        except IndexError as error:
            raise UnexpectedPage(f"page {index + 1} is damaged") from error
        return large

    def large_cells(self, index: int) -> list[Cell]:
        """The rows in a page that have overflow pages; quick where there are none."""
        page = self.source.read(index)
        start = _start(index)
        kind = page[start]
        if kind not in _CELLS_AT or kind == INTERIOR_TABLE:
            return []
        count = int.from_bytes(page[start + 3 : start + 5], "big")
        # A size of one byte is below 128, and so little always fits into a page.
        skipped = 4 if kind == INTERIOR_INDEX else 0
        try:
            offsets = struct.unpack_from(f">{count}H", page, start + _CELLS_AT[kind])
            long = [offset + skipped for offset in offsets if page[offset + skipped] > 127]
            cells = [self._cell(page, offset, kind) for offset in long]
        except (IndexError, struct.error) as error:
            raise UnexpectedPage(f"page {index + 1} is damaged") from error
        return [cell for cell in cells if cell.overflow >= 0]

    def _check(self, index: int) -> None:
        if not 0 <= index < self._page_count:
            raise UnexpectedPage("a page points beyond the end of the file")


def _from_numbers(numbers: Sequence[int]) -> array[int]:
    """The indexes of pages that are given by their numbers, which count from 1."""
    if 0 in numbers:
        raise UnexpectedPage("a page points to no page")
    return array(INDEX_TYPE, [number - 1 for number in numbers])


def leading_values(record: bytes, count: int) -> tuple[int | float | bytes | Text | None, ...]:
    """Decode the first values of a record; text as its bytes, see ``Text``.

    Format: https://www.sqlite.org/fileformat2.html#record_format
    """
    header_size, at = varint(record, 0)
    offset = header_size
    values: list[int | float | bytes | Text | None] = []
    for _ in range(count):
        if at >= header_size:
            raise UnexpectedPage("a record is shorter than its key")
        serial, at = varint(record, at)
        value, offset = _value(record, offset, serial)
        values.append(value)
    return tuple(values)


@dataclass(frozen=True)
class Text:
    """Text in the database's encoding."""

    raw: bytes


_INTEGER_BYTES: Sequence[int] = (0, 1, 2, 3, 4, 6, 8)


def _value(
    record: bytes, offset: int, serial: int
) -> tuple[int | float | bytes | Text | None, int]:
    if serial == 0:
        return None, offset
    if serial <= 6:
        end = offset + _INTEGER_BYTES[serial]
        return int.from_bytes(record[offset:end], "big", signed=True), end
    if serial == 7:
        try:
            return _real(record, offset)[0], offset + 8
        except struct.error as error:
            raise UnexpectedPage("a record is cut short") from error
    if serial in (8, 9):
        return serial - 8, offset
    if serial < 12:
        raise UnexpectedPage("a record holds a value of an unknown kind")
    end = offset + (serial - 12) // 2
    raw = record[offset:end]
    if len(raw) < end - offset:
        raise UnexpectedPage("a record is cut short")
    return (Text(raw) if serial & 1 else raw), end


def varint(data: bytes, at: int) -> tuple[int, int]:
    """A number of variable length and where it ends."""
    number = 0
    for place in range(8):
        byte = data[at + place]
        number = (number << 7) | (byte & 0x7F)
        if byte < 0x80:
            return number, at + place + 1
    return (number << 8) | data[at + 8], at + 9


def _start(index: int) -> int:
    return 0 if index else _FILE_HEADER_BYTES
