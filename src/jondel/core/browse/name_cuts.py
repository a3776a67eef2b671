"""Cuts names that are too long for where they stand, so that what tells them apart stays."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from jondel.core.browse.display import CLIP_SIGN

_SHARES = (0.25, 0.5, 0.75, 0.1, 0.9)
"""How much of the room the beginning of a name gets; names that look alike try the next."""


def cut_names(names: Sequence[str], rooms: Mapping[str, int]) -> dict[str, str]:
    """Each name in at most as many characters as it has room for, whole where that is enough.

    A name that must be cut keeps its beginning and its end, with a sign between, in such shares
    that no other name looks like it, if there are such.
    """
    first, *others = _SHARES
    cuts = {name: _cut(name, rooms[name], first) for name in names}
    for share in others:
        counts = Counter(cuts.values())
        alike = [name for name in names if counts[cuts[name]] > 1]
        if not alike:
            break
        cuts.update((name, _cut(name, rooms[name], share)) for name in alike)
    return cuts


def _cut(name: str, room: int, share: float) -> str:
    if len(name) <= room:
        return name
    if room < 3:
        return name[: max(0, room - 1)] + CLIP_SIGN
    head = min(max(1, round((room - 1) * share)), room - 2)
    tail = room - 1 - head
    return f"{name[:head]}{CLIP_SIGN}{name[len(name) - tail :]}"
