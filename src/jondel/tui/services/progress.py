"""Tells how far work in another thread is."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable

_EVERY_SECONDS = 0.2


def now_and_then(tell: Callable[[int], None]) -> Callable[[int], None]:
    """What can be called in any thread, as often as one likes: ``tell`` is called in this one's
    loop, and not too often."""
    loop, told = asyncio.get_running_loop(), [time.monotonic()]

    def from_elsewhere(count: int) -> None:
        if time.monotonic() - told[0] > _EVERY_SECONDS:
            told[0] = time.monotonic()
            loop.call_soon_threadsafe(tell, count)

    return from_elsewhere
