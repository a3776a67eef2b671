"""Keeps the pages of a capture that the store has not, and verifies those that it has."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.packs import PackFolder

Keep: TypeAlias = Callable[[bytes | bytearray, int], range]
"""Writes new pages, given their bytes and the page size, and returns their places."""


class PageKeeper:
    """Where new pages of one capture go.

    ``indexed`` says that they are kept for good and can be found again.
    """

    def __init__(self, packs: PackFolder, keep: Keep, *, indexed: bool) -> None:
        self.packs = packs
        self.keep = keep
        self._indexed = indexed

    def is_there(self, place: int, page: bytes | memoryview) -> bool:
        """Whether this page lies at a place of the packs."""
        try:
            return self.packs.read(place, len(page)) == page
        except (OSError, StoreUnavailable):
            return False

    def remember(self, entries: bytes) -> None:
        """Have new pages be found again, by what the index is to say of them."""
        if self._indexed:
            self.packs.extend_index(entries)
