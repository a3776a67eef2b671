"""Places: where pages lie in the store.

A place is a pack's number and a byte offset in that pack, which takes the lower bits.
"""

from __future__ import annotations

PLACE_BYTES = 8
PLACE_BITS = 40
OFFSET_MASK = (1 << PLACE_BITS) - 1
SCRATCH = 1 << 63
"""Set in the place of a page that is not in a pack but in a scratch file; see ``PageImage``."""


def pack_of(place: int) -> int:
    """The number of the pack that a place is in."""
    return place >> PLACE_BITS


def offset_of(place: int) -> int:
    """Where a place begins in its pack, in bytes."""
    return place & OFFSET_MASK


def place_in(pack: int, offset: int) -> int:
    """The place of what begins in a pack at an offset."""
    return (pack << PLACE_BITS) + offset


def place_bytes(place: int) -> bytes:
    """A place as it is written."""
    return place.to_bytes(PLACE_BYTES, "little")


def place_from(content: bytes | memoryview) -> int:
    """The place that was written so."""
    return int.from_bytes(content, "little")
