"""Takes in the pages of a small state: finds those that the store has, page by page."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

from jondel.core.engines.pages import HASH_BYTES
from jondel.core.snapshots.manifests import Manifest, put_item, resized
from jondel.core.snapshots.packs import ENTRY_BYTES, hash_page
from jondel.core.snapshots.page_keeper import PageKeeper
from jondel.core.snapshots.places import PLACE_BYTES, place_bytes, place_from


class FewPages:
    """The pages of one state that is being taken in.

    ``previous`` is the state captured before, if it has pages of this size.
    """

    def __init__(
        self, page_size: int, page_count: int, previous: Manifest | None, keeper: PageKeeper
    ) -> None:
        self._page_size = page_size
        self._previous = previous
        self._keeper = keeper
        self._comparable = min(page_count, previous.page_count) if previous is not None else 0
        # What is not put, or found to be as before, then is so already.
        self._hashes = bytearray(previous.hash_bytes if previous is not None else b"")
        self._places = bytearray(previous.place_bytes if previous is not None else b"")
        self._fit(page_count)

    def put(self, numbers: Sequence[int], data: bytes | bytearray) -> None:
        """Take pages in."""
        size, view = self._page_size, memoryview(data)
        new: list[int] = []
        for at, number in enumerate(numbers):
            page = view[at * size : (at + 1) * size]
            digest = hash_page(page)
            place = self._place_before(number, digest)
            if place is None:
                place = self._known.get(digest)
                if place is not None and not self._keeper.is_there(place, page):
                    place = None
            put_item(self._hashes, number, digest)
            if place is None:
                new.append(at)
            else:
                put_item(self._places, number, place_bytes(place))
        if not new:
            return
        kept = self._keeper.keep(b"".join([view[at * size : (at + 1) * size] for at in new]), size)
        entries = []
        for at, place in zip(new, kept, strict=True):
            put_item(self._places, numbers[at], place_bytes(place))
            entries.append(self._hash(numbers[at]) + place_bytes(place))
        self._keeper.remember(b"".join(entries))

    def resize(self, page_count: int) -> None:
        self._comparable = min(self._comparable, page_count)
        self._fit(page_count)

    def manifest(self) -> Manifest:
        """The state, of which all pages were put."""
        return Manifest(self._page_size, bytes(self._hashes), bytes(self._places))

    def groups(self) -> bytes:
        """Hashes of groups of pages are known of large states only."""
        return b""

    def _fit(self, page_count: int) -> None:
        self._hashes = resized(self._hashes, page_count * HASH_BYTES)
        self._places = resized(self._places, page_count * PLACE_BYTES)

    def _hash(self, number: int) -> bytes:
        return bytes(self._hashes[number * HASH_BYTES : (number + 1) * HASH_BYTES])

    def _place_before(self, number: int, digest: bytes) -> int | None:
        """Where the page lies if it is the one that the state before has there."""
        previous = self._previous
        if previous is None or number >= self._comparable or previous.hash_of(number) != digest:
            return None
        return previous.place_of(number)

    @cached_property
    def _known(self) -> dict[bytes, int]:
        """The places of all pages that were kept before, by their hashes."""
        return {
            part[at : at + HASH_BYTES]: place_from(part[at + HASH_BYTES : at + ENTRY_BYTES])
            for part in self._keeper.packs.index()
            for at in range(0, len(part), ENTRY_BYTES)
        }
