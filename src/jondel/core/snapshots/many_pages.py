"""Takes in the pages of a large state: finds those that the store has, many at once, as arrays."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
import numpy.typing as npt

from jondel.core.engines.pages import PageHashes, PageIndexes
from jondel.core.snapshots.manifests import Manifest, as_hashes
from jondel.core.snapshots.packs import PackFolder
from jondel.core.snapshots.page_arrays import hashes_of, index_entries, index_parts, places_of
from jondel.core.snapshots.page_keeper import PageKeeper

GROUP_BYTES = 65536
"""Pages are hashed in groups of this size too: the largest page there is."""

_MOST_CHUNKS_WAITING = 8
"""Differing groups of so many chunks wait to be looked at together."""


class ManyPages:
    """The pages of one state that is being taken in.

    ``previous`` is the state captured before, if it has pages of this size. ``known_groups`` are
    the hashes of its groups of pages, zeros where they are not known.
    """

    def __init__(
        self,
        page_size: int,
        page_count: int,
        previous: Manifest | None,
        keeper: PageKeeper,
        known_groups: bytes,
        *,
        partial: bool,
    ) -> None:
        self._page_size = page_size
        self._previous = previous
        self._keeper = keeper
        self._known_groups = as_hashes(known_groups)
        self._differing: list[tuple[int, bytes]] = []
        self._chunks_differing = 0
        self._index: _Index | None = None
        self._next = 0
        self._hashes = np.zeros((page_count, 2), np.uint64)
        self._places = np.zeros(page_count, np.uint64)
        self._comparable = 0
        groups = -(-page_count * page_size // GROUP_BYTES)
        self._groups = np.zeros((groups, 2), np.uint64)
        if partial:
            common = min(groups, len(self._known_groups))
            self._groups[:common] = self._known_groups[:common]
        if previous is not None:
            # What is not put, or found to be as before, then is so already.
            self._comparable = min(page_count, previous.page_count)
            self._hashes[: self._comparable] = previous.hashes[: self._comparable]
            self._places[: self._comparable] = previous.places[: self._comparable]

    def put(self, numbers: Sequence[int], data: bytes | bytearray) -> None:
        """Take pages in; runs of pages that are as before are known by one hash for many."""
        if isinstance(numbers, range):
            indexes = np.arange(numbers.start, numbers.stop)
        else:
            indexes = np.array(numbers, np.intp)
        if int(indexes[0]) < self._next:
            self._put_differing()  # which would otherwise undo what is put again here
            self._groups[np.unique(indexes // (GROUP_BYTES // self._page_size))] = 0
            self._put_pages(indexes, memoryview(data))
            return
        self._next = int(indexes[-1]) + 1
        groups = self._differing_groups(indexes, data)
        if groups is None:
            self._put_pages(indexes, memoryview(data))
            return
        view, pages = memoryview(data), GROUP_BYTES // self._page_size
        differing = np.flatnonzero(groups).tolist()
        for group in differing:
            # A copy: the room of the whole chunk is then free for the next one.
            part = bytes(view[group * GROUP_BYTES : (group + 1) * GROUP_BYTES])
            self._differing.append((int(indexes[0]) + group * pages, part))
        self._chunks_differing += bool(differing)
        if self._chunks_differing >= _MOST_CHUNKS_WAITING:
            self._put_differing()

    def _put_differing(self) -> None:
        """Look at the pages of differing groups, many at a time."""
        parts, self._differing, self._chunks_differing = self._differing, [], 0
        if parts:
            size = self._page_size
            runs = [np.arange(first, first + len(part) // size) for first, part in parts]
            joined = b"".join([part for _, part in parts])
            self._put_pages(np.concatenate(runs), memoryview(joined))

    def _differing_groups(
        self, indexes: PageIndexes, data: bytes | bytearray
    ) -> npt.NDArray[np.bool_] | None:
        """Which groups of the pages differ from before; None where that cannot be told."""
        pages = GROUP_BYTES // self._page_size
        first, count = int(indexes[0]), len(indexes)
        if first % pages or int(indexes[-1]) != first + count - 1:
            self._groups[np.unique(indexes // pages)] = 0
            return None
        hashes = hashes_of(data, GROUP_BYTES)
        start = first // pages
        self._groups[start : start + len(hashes)] = hashes
        known = self._known_groups
        if start + len(hashes) > len(known) or first + count > self._comparable:
            return None
        differing: npt.NDArray[np.bool_] = (known[start : start + len(hashes)] != hashes).any(1)
        return differing

    def _put_pages(self, indexes: PageIndexes, data: memoryview) -> None:
        hashes = hashes_of(data, self._page_size)
        places = np.zeros(len(hashes), np.uint64)
        new = np.ones(len(hashes), bool)
        old = indexes < self._comparable
        if self._previous is not None and old.any():
            there = indexes[old]
            same = (self._previous.hashes[there] == hashes[old]).all(1)
            new[old] = ~same
            places[old] = np.where(same, self._previous.places[there], 0)
        wanted = np.flatnonzero(new)
        if len(wanted):
            self._place_new(data, hashes, places, wanted)
        self._hashes[indexes] = hashes
        self._places[indexes] = places

    def resize(self, page_count: int) -> None:
        self._put_differing()
        self._hashes = _resized(self._hashes, page_count)
        self._places = _resized(self._places, page_count)
        self._groups = _resized(self._groups, -(-page_count * self._page_size // GROUP_BYTES))
        # The last group is another one now.
        self._groups[-1:] = 0
        self._comparable = min(self._comparable, page_count)

    def manifest(self) -> Manifest:
        """The state, of which all pages were put."""
        self._put_differing()
        return Manifest(self._page_size, self._hashes.tobytes(), self._places.tobytes())

    def groups(self) -> bytes:
        """The hashes of its groups of pages, zeros where they are not known."""
        return self._groups.tobytes()

    def _place_new(
        self,
        data: memoryview,
        hashes: PageHashes,
        places: npt.NDArray[np.uint64],
        wanted: npt.NDArray[np.intp],
    ) -> None:
        size = self._page_size
        if self._index is None:
            self._index = _Index(self._keeper.packs)
        unknown = []
        for at, place in zip(wanted.tolist(), self._index.find(hashes[wanted]), strict=True):
            if place is not None and self._keeper.is_there(
                place, data[at * size : (at + 1) * size]
            ):
                places[at] = place
            else:
                unknown.append(at)
        if not unknown:
            return
        if len(unknown) * size == len(data):
            kept = places_of(self._keeper.keep(_whole(data), size))
        else:
            joined = b"".join([data[at * size : (at + 1) * size] for at in unknown])
            kept = places_of(self._keeper.keep(joined, size))
        places[unknown] = kept
        self._keeper.remember(index_entries(hashes[unknown], kept))


def _resized(array: npt.NDArray[np.uint64], length: int) -> npt.NDArray[np.uint64]:
    """The beginning of an array, or the array with zeros behind it."""
    larger = np.zeros((length, *array.shape[1:]), array.dtype)
    common = min(length, len(array))
    larger[:common] = array[:common]
    return larger


def _whole(data: memoryview) -> bytes | bytearray:
    """The object behind a view of all of it, else a copy."""
    whole = data.obj
    if isinstance(whole, bytes | bytearray) and len(whole) == len(data):
        return whole
    return bytes(data)


class _Index:
    """Finds pages by their hash among those kept before the capture began."""

    def __init__(self, packs: PackFolder) -> None:
        self._packs = packs
        self._asked = False

    def find(self, hashes: PageHashes) -> list[int | None]:
        """A place for each hash where a page of its first half lies, or None."""
        if not self._asked:
            # Often one question is all: then keeping what is known would cost time and room.
            self._asked = True
            known = self._among_all(hashes)
        else:
            known = self._among_kept(hashes)
        return [known.get(first) for first in hashes[:, 0].tolist()]

    def _among_all(self, hashes: PageHashes) -> dict[int, int]:
        wanted = np.sort(hashes[:, 0])
        found: dict[int, int] = {}
        for part, places in index_parts(self._packs):
            firsts = part[:, 0]
            at = np.searchsorted(wanted, firsts)
            at[at == len(wanted)] = 0
            hits = np.flatnonzero(wanted[at] == firsts)
            found.update(zip(firsts[hits].tolist(), places[hits].tolist(), strict=True))
        return found

    def _among_kept(self, hashes: PageHashes) -> dict[int, int]:
        firsts, places = self._kept
        if not len(firsts):
            return {}
        at = np.searchsorted(firsts, hashes[:, 0])
        at[at == len(firsts)] = 0
        hits = at[firsts[at] == hashes[:, 0]]
        return dict(zip(firsts[hits].tolist(), places[hits].tolist(), strict=True))

    @cached_property
    def _kept(self) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint64]]:
        """All first halves, rising, and their places."""
        parts = [(part[:, 0].copy(), places.copy()) for part, places in index_parts(self._packs)]
        if not parts:
            return np.empty(0, np.uint64), np.empty(0, np.uint64)
        firsts = np.concatenate([part for part, _ in parts])
        places = np.concatenate([part for _, part in parts])
        order = np.argsort(firsts)
        return firsts[order], places[order]
