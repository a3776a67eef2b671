"""Tells how much room states take that others do not need."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import suppress

import numpy as np
import numpy.typing as npt

from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.manifests import ManifestFolder
from jondel.core.snapshots.packs import PackFolder

_MANIFEST_BYTES_A_PAGE = 28


def freed_by(
    manifests: ManifestFolder,
    packs: PackFolder,
    ranks: Mapping[str, int],
    kept: Iterable[str],
) -> tuple[dict[int, int], int]:
    """How many bytes each of some states frees, if they go in the order of their ranks.

    A state frees what only it and those before it need. ``kept`` are those that stay. Counts
    too little where states are written as what differs from another. The second item is how
    many bytes of the packs none of all these needs.
    """
    freed: dict[int, int] = {}
    page_size = 0
    order = [*sorted(ranks, key=lambda name: ranks[name]), *kept]
    bases: dict[str, int] = {}
    entries: list[tuple[int, npt.NDArray[np.uint64]]] = []
    stays = len(ranks) + 1_000_000_000
    for name in order:
        rank = ranks.get(name, stays)
        try:
            stored = manifests.stored(name)
        except StoreUnavailable:
            continue
        page_size = max(page_size, stored.page_size)
        entries.append((rank, stored.places))
        if stored.base is not None:
            bases[stored.base] = rank  # the ranks rise, so the last that needs it stands
        freed[rank] = len(stored.places) * _MANIFEST_BYTES_A_PAGE
    for base, rank in bases.items():
        with suppress(StoreUnavailable):
            entries.append((rank, manifests.stored(base).places))
    held = sum(identity[1] for identity in packs.identities().values())
    if not entries:
        return {}, held
    places = np.concatenate([place for _, place in entries])
    of = np.repeat([rank for rank, _ in entries], [len(place) for _, place in entries])
    by_place = np.lexsort((of, places))
    places, of = places[by_place], of[by_place]
    is_last = np.append(places[1:] != places[:-1], True) if len(places) else np.empty(0, bool)
    counted, pages = np.unique(of[is_last], return_counts=True)
    for rank, count in zip(counted.tolist(), pages.tolist(), strict=True):
        freed[rank] = freed.get(rank, 0) + count * page_size
    unneeded = max(0, held - int(is_last.sum()) * page_size)
    return {rank: size for rank, size in freed.items() if rank != stays}, unneeded
