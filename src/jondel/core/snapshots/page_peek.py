"""Single pages of a state, looked at without opening it."""

from __future__ import annotations

from jondel.core.engines.pages import PageHashes, PageIndexes
from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.manifests import ManifestFolder
from jondel.core.snapshots.packs import PackFolder, hash_page


class Peek:
    """Single pages of a state; see ``PagePeek``."""

    def __init__(self, name: str, manifests: ManifestFolder, packs: PackFolder) -> None:
        self._name = name
        self._manifests = manifests
        self._packs = packs
        self._stored = manifests.stored(name)
        self.page_size = self._stored.page_size

    def hashes(self, pages: PageIndexes) -> PageHashes | None:
        stored = self._manifests.at(self._stored, pages)
        return None if stored is None else stored[0]

    def read(self, index: int) -> bytes:
        import numpy as np  # slow to load, and seldom needed

        stored = self._manifests.at(self._stored, np.array([index], np.intp))
        if stored is None:
            raise StoreUnavailable(f"{self._name}: the state has no page {index + 1}")
        (hashes, places), size = stored, self.page_size
        data = self._packs.read(int(places[0]), size)
        if hash_page(data) != hashes[0].tobytes():
            raise StoreUnavailable(f"{self._name}: page {index + 1} is damaged in the store")
        return data
