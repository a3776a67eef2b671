"""Makes room on a shelf, and finds lost pages again; the caller holds the shelf's lock."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.manifests import ManifestFolder, Stored
from jondel.core.snapshots.packs import PackFolder
from jondel.core.snapshots.page_arrays import (
    index_entries,
    index_parts,
    packs_of,
    wrong_pages,
)

_COMPACTED_BELOW = 0.6
_COMPACTED_THOROUGHLY_BELOW = 0.95
"""A pack is rewritten when less than this share of it is still needed."""


@dataclass(frozen=True)
class Damage:
    """The manifests that can be read, and the places at which there is not what they say."""

    stored: Mapping[str, Stored]
    wrong: Collection[int]


class Upkeep:
    """What is done to a shelf as a whole."""

    def __init__(self, manifests: ManifestFolder, packs: PackFolder) -> None:
        self._manifests = manifests
        self._packs = packs

    # Finding lost pages again

    def damage(self, names: Iterable[str]) -> Damage:
        """Look for what is damaged; from now on the index does not lead there."""
        stored: dict[str, Stored] = {}
        for name in names:
            with suppress(StoreUnavailable):
                stored[name] = self._manifests.stored(name)
        wrong = self._wrong_places(stored)
        self._rewrite_index(stored, without=wrong)
        return Damage(stored, wrong)

    def find_again(self, damage: Damage) -> None:
        """Have manifests name the places where lost pages are now."""
        good: dict[bytes, int] = {}
        for hashes, places in index_parts(self._packs):
            for at, place in enumerate(places.tolist()):
                if place not in damage.wrong:
                    good.setdefault(hashes[at].tobytes(), place)
        for name, entry in damage.stored.items():
            places = entry.places.copy()
            for at in np.flatnonzero(np.isin(places, list(damage.wrong))).tolist():
                places[at] = good.get(entry.hash_of(at), places[at])
            if not np.array_equal(places, entry.places):
                self._manifests.write(name, replace(entry, place_bytes=places.tobytes()))

    def _wrong_places(self, stored: Mapping[str, Stored]) -> set[int]:
        """The places at which there is not what a manifest says."""
        checked: set[int] = set()
        wrong: set[int] = set()
        for entry in stored.values():
            new = ~np.isin(entry.places, list(checked)) if checked else slice(None)
            places, hashes = entry.places[new], entry.hashes[new]
            checked.update(places.tolist())
            bad = wrong_pages(self._packs, places, hashes, entry.page_size)
            wrong.update(places[bad].tolist())
        return wrong

    # Making room

    def keep_only(self, wanted: set[str], *, thorough: bool) -> bool:
        """Remove all other states, and the pages that only they needed; whether packs may be others
        now. ``thorough`` makes as much room as can be."""
        self._manifests.sweep()
        present = set(self._manifests.names())
        stored: dict[str, Stored] = {}
        readable = True
        for name in wanted & present:
            try:
                stored[name] = self._manifests.stored(name)
            except StoreUnavailable:
                readable = False
        bases = {entry.base or name for name, entry in stored.items()}
        for name in bases - stored.keys():
            try:
                stored[name] = self._manifests.stored(name)
            except StoreUnavailable:
                readable = False
        for name in present - wanted - bases:
            self._manifests.remove(name)
        if readable:  # a damaged list of pages could need any page; better keep too much
            self._clear_packs(stored, _COMPACTED_THOROUGHLY_BELOW if thorough else _COMPACTED_BELOW)
        return readable

    def _clear_packs(self, stored: dict[str, Stored], compacted_below: float) -> None:
        live = _distinct_places(stored.values())
        sizes = {entry.page_size for entry in stored.values()}
        page_size = max(sizes, default=0)
        by_pack = packs_of(live)
        needed, counts = np.unique(by_pack, return_counts=True)
        kept = dict(zip(needed.tolist(), (counts * page_size).tolist(), strict=True))
        sparse = []
        for pack in self._packs.numbers():
            if pack not in kept:
                self._packs.remove(pack)
            elif len(sizes) == 1 and kept[pack] < compacted_below * self._packs.pack_size(pack):
                sparse.append(pack)
        if sparse:
            self._compact(sparse, stored, live[np.isin(by_pack, sparse)], page_size)
        self._rewrite_index(stored)

    def _compact(
        self,
        sparse: list[int],
        stored: dict[str, Stored],
        places: npt.NDArray[np.uint64],
        page_size: int,
    ) -> None:
        """Copy what is needed of sparse packs to new ones and point the manifests there.

        Old packs go last: whenever this stops, each manifest finds its pages.
        """
        appender = self._packs.appender(fresh=True)
        moved = np.empty(len(places), np.uint64)
        try:
            for at, place in enumerate(places.tolist()):
                data = self._packs.read(place, page_size).ljust(page_size, b"\0")
                moved[at] = appender.append(data, page_size).start
            appender.finish()
        finally:
            appender.close()
        for name, entry in list(stored.items()):
            if not len(entry.places):
                continue
            order = np.searchsorted(places, entry.places)
            order[order == len(places)] = 0
            hit = places[order] == entry.places
            if hit.any():
                new_places = np.where(hit, moved[order], entry.places)
                stored[name] = replace(entry, place_bytes=new_places.tobytes())
                self._manifests.write(name, stored[name], sync=False)
        os.sync()  # of all of them at once
        for pack in sparse:
            self._packs.remove(pack)

    def _rewrite_index(
        self, stored: Mapping[str, Stored], without: Collection[int] = frozenset()
    ) -> None:
        """Make the index tell of the pages that manifests refer to, and of no others."""
        if not stored:
            self._packs.replace_index(b"")
            return
        places = np.concatenate([entry.places for entry in stored.values()])
        hashes = np.concatenate([entry.hashes for entry in stored.values()])
        _, first = np.unique(places, return_index=True)
        first = first[~np.isin(places[first], list(without))] if without else first
        self._packs.replace_index(index_entries(hashes[first], places[first]))


def _distinct_places(stored: Iterable[Stored]) -> npt.NDArray[np.uint64]:
    parts = [entry.places for entry in stored]
    return np.unique(np.concatenate(parts)) if parts else np.empty(0, np.uint64)
