"""A state of a database that can be written to, while what it lies on stays as it is.

Pages that are written are kept here, those up to a size in memory and then in a file without a
name; all others are read from the state below.
"""

from __future__ import annotations

import tempfile
from typing import IO

import xxhash

from jondel.core.engines.pages import HASH_BYTES, PageSource

_IN_MEMORY_BYTES = 64 << 20
_USUAL_PAGE = 4096


class OverlayPages:
    """See ``PageSource``; SQLite writes to it by way of ``page_vfs``."""

    def __init__(self, below: PageSource) -> None:
        """``below`` is not closed with it."""
        self._below = below
        self._read_below = below.read
        self.page_size = below.page_size if below.page_count else _USUAL_PAGE
        self.page_count = self._seen_below = below.page_count
        self.touched: set[int] = set()
        self._places: dict[int, int] = {}
        self._kept: IO[bytes] = tempfile.SpooledTemporaryFile(  # noqa: SIM115
            _IN_MEMORY_BYTES, prefix="jondel-"
        )
        self._end = 0

    @property
    def written(self) -> int:
        """How many pages are another than below."""
        return len(self._places)

    @property
    def hashes(self) -> bytes:
        """See ``PageSource``; pages that are written anew are hashed each time it is asked for."""
        hashes = bytearray(self._below.hashes[: self.page_count * HASH_BYTES])
        hashes.extend(bytes(self.page_count * HASH_BYTES - len(hashes)))
        for index in self._places:
            hashes[index * HASH_BYTES : (index + 1) * HASH_BYTES] = xxhash.xxh3_128_digest(
                self.read(index)
            )
        return bytes(hashes)

    def read(self, index: int) -> bytes:
        self.touched.add(index)
        place = self._places.get(index)
        if place is not None:
            self._kept.seek(place)
            return self._kept.read(self.page_size)
        if index < self._seen_below:
            return self._read_below(index)
        return bytes(self.page_size)

    def write(self, index: int, data: bytes) -> None:
        """Put a whole page."""
        if index >= self.page_count:
            self.page_count = index + 1
        place = self._places.get(index)
        if place is None:
            place = self._places[index] = self._end
            self._end += self.page_size
        self._kept.seek(place)
        self._kept.write(data)

    def cut(self, page_count: int) -> None:
        """Have no more than so many pages."""
        self.page_count = min(self.page_count, page_count)
        self._seen_below = min(self._seen_below, page_count)
        for index in [index for index in self._places if index >= page_count]:
            del self._places[index]

    def close(self) -> None:
        self._kept.close()
