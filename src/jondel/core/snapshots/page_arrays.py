"""Hashes and places of many pages at once, as arrays."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from jondel.core.engines.pages import PageHashes
from jondel.core.snapshots.packs import PackFolder, hash_page
from jondel.core.snapshots.places import PLACE_BITS

_ENTRY = np.dtype([("hash", "<u8", (2,)), ("place", "<u8")])


def hashes_of(data: bytes | bytearray | memoryview, page_size: int) -> PageHashes:
    """The hashes of whole pages, or of groups of pages, that lie one behind the other."""
    view = memoryview(data)
    digests = [hash_page(view[at : at + page_size]) for at in range(0, len(view), page_size)]
    return np.frombuffer(b"".join(digests), np.uint64).reshape(-1, 2)


def places_of(places: range) -> npt.NDArray[np.uint64]:
    """Places at equal distances."""
    return np.arange(places.start, places.stop, places.step, dtype=np.uint64)


def packs_of(places: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """The number of the pack of each place."""
    return places >> np.uint64(PLACE_BITS)


def distinct_packs(places: npt.NDArray[np.uint64]) -> set[int]:
    """The numbers of the packs that some places are in."""
    return set(np.unique(packs_of(places)).tolist())


def index_parts(packs: PackFolder) -> Iterator[tuple[PageHashes, npt.NDArray[np.uint64]]]:
    """The hashes and places of all pages that were appended, a part at a time."""
    for part in packs.index():
        entries = np.frombuffer(part, _ENTRY)
        yield entries["hash"].reshape(-1, 2), entries["place"]


def index_entries(hashes: PageHashes, places: npt.NDArray[np.uint64]) -> bytes:
    """Hashes and places as the index holds them."""
    entries = np.empty(len(places), _ENTRY)
    entries["hash"] = hashes
    entries["place"] = places
    return entries.tobytes()


def wrong_pages(
    packs: PackFolder, places: npt.NDArray[np.uint64], hashes: PageHashes, page_size: int
) -> npt.NDArray[np.bool_]:
    """Which of the pages at some places are not what their hashes say."""
    wrong = np.zeros(len(places), bool)
    for at, place in enumerate(places.tolist()):
        wrong[at] = not packs.holds(place, hashes[at].tobytes(), page_size)
    return wrong
