"""What the times of a file prove about whether it was written.

A kernel takes the times of files from a clock that ticks every few milliseconds, so two writes
within a tick can leave one time. A time is proof once it is older than a tick: any later write
changes it. Newer kernels give a file that was asked for its times a finer one at its next write;
where such times are seen, every time is proof at once.
"""

from __future__ import annotations

import os
import sys
import time
from typing import NamedTuple

_COARSE_CLOCK = 5
"""``CLOCK_REALTIME_COARSE`` of Linux, which the times of files are taken from."""
_TICK_SECONDS = 0.011
_COARSE_TICK_SECONDS = 2.1
"""The same where a file system keeps whole seconds, or two."""
_WHOLE_SECOND_NS = 1_000_000_000
_fine_devices: set[int] = set()
"""File systems that times finer than a tick were seen on."""


class Times(NamedTuple):
    """Identity, size (bytes) and times (ns) of a file.

    ``changed`` is the time of its inode, which every write changes and nobody can set.
    """

    device: int
    inode: int
    size: int
    modified: int
    changed: int


def times_of(info: os.stat_result) -> Times:
    """The times in what ``stat`` said just now."""
    if sys.platform == "linux" and info.st_dev not in _fine_devices:
        if info.st_ctime_ns > time.clock_gettime_ns(_COARSE_CLOCK):
            _fine_devices.add(info.st_dev)
    return Times(info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns, info.st_ctime_ns)


def seconds_to_proof(times: Times) -> float:
    """How long it takes until a file that still has these times was surely not written since."""
    if times.device in _fine_devices:
        return 0.0
    coarse = times.changed % _WHOLE_SECOND_NS == 0 and times.modified % _WHOLE_SECOND_NS == 0
    tick = _COARSE_TICK_SECONDS if coarse else _TICK_SECONDS
    age = time.time() - times.changed / 1e9
    # A clock that was set back leaves times from the future, which no write gives again.
    return tick - age if -tick < age < tick else 0.0
