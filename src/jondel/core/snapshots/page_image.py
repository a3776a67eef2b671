"""One state of a database as pages in the store: what an engine opens a snapshot from."""

from __future__ import annotations

from threading import Lock
from typing import TYPE_CHECKING

from jondel.core.engines.pages import HASH_BYTES
from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.manifests import Manifest
from jondel.core.snapshots.packs import PackFolder, hash_page
from jondel.core.snapshots.places import SCRATCH

if TYPE_CHECKING:
    from tempfile import SpooledTemporaryFile

_RECENT_BYTES = 2 << 20
_READ_AHEAD_BYTES = 128 << 10


class PageImage:
    """The pages of a manifest, each checked against its hash when it is read.

    Pages of a state that is not to be kept lie in ``scratch``, a file of this image alone.
    """

    def __init__(
        self,
        manifest: Manifest,
        packs: PackFolder,
        what: str,
        scratch: SpooledTemporaryFile[bytes] | None = None,
    ) -> None:
        self._manifest = manifest
        self._packs = packs
        self._what = what
        self._scratch = scratch
        self.page_size, self.page_count = manifest.page_size, manifest.page_count
        self._hashes = manifest.hash_bytes
        self.touched: set[int] = set()
        """The indexes of the pages that were read so far."""
        self._reading_scratch = Lock()
        # A comparison reads a page for what it is, for its bytes, and then through SQLite.
        self._recent: dict[int, bytes] = {}
        self._most_recent = max(16, _RECENT_BYTES // manifest.page_size)
        # A table is mostly read from its beginning to its end, page after page.
        self._ahead = b""
        self._ahead_first = self._ahead_end = 0
        self._last = -2

    @property
    def hashes(self) -> bytes:
        return self._manifest.hash_bytes

    def read(self, index: int) -> bytes:
        """One page; ``index`` counts from 0. Raises ``StoreUnavailable``."""
        self.touched.add(index)
        if self._ahead_first < index < self._ahead_end:
            self._last, size = index, self.page_size
            start = (index - self._ahead_first) * size
            data = self._ahead[start : start + size]
            at = index * HASH_BYTES
            if hash_page(data) == self._hashes[at : at + HASH_BYTES]:
                return data
        known = self._recent.get(index)
        if known is not None:
            return known
        if index == self._last + 1:
            self._read_ahead(index)
        self._last = index
        place = self._manifest.place_of(index)
        if place & SCRATCH and self._scratch is not None:
            with self._reading_scratch:
                self._scratch.seek(place & ~SCRATCH)
                data = self._scratch.read(self.page_size)
        else:
            data = self._packs.read(place, self.page_size)
        if hash_page(data) != self._manifest.hash_of(index):
            raise StoreUnavailable(
                f"{self._what}: page {index + 1} is damaged in the store "
                f"({self._packs.describe(place)}); what lies elsewhere can still be read"
            )
        if len(self._recent) >= self._most_recent:
            self._recent.clear()
        self._recent[index] = data
        return data

    def _read_ahead(self, index: int) -> None:
        """Read pages that follow one at once, where they lie behind it; each is checked later."""
        manifest, size = self._manifest, self.page_size
        pages = min(_READ_AHEAD_BYTES // size, self.page_count - index)
        first = manifest.place_of(index)
        self._ahead_end = 0
        if pages < 2 or first & SCRATCH:
            return
        if manifest.place_of(index + pages - 1) != first + (pages - 1) * size:
            return
        self._ahead = self._packs.read(first, pages * size)
        self._ahead_first, self._ahead_end = index, index + pages

    def damaged_pages(self) -> list[int]:
        """The indexes of all pages that cannot be read as they were written."""
        damaged = []
        for index in range(self.page_count):
            try:
                self.read(index)
            except StoreUnavailable:
                damaged.append(index)
        return damaged

    def close(self) -> None:
        """Let go of it; the files it reads belong to whoever made it."""
