"""Waits until an action's writing is over."""

from __future__ import annotations

import threading
import time

from jondel.core.engines.needed import commits_of
from jondel.core.engines.protocol import Database
from jondel.core.trail.watch import LOOK_EVERY_SECONDS, WatchTimes


def wait_until_settled(database: Database, times: WatchTimes, cancelled: threading.Event) -> bool:
    """Wait until nothing was committed for the settle time; False where it never came to that.

    An app that never pauses is waited for no longer than ``times.longest``.

    Raises:
        TargetError: the database cannot be read.
    """
    commits = commits_of(database)
    began = last = time.monotonic()
    token = commits.change_token()
    while not cancelled.is_set():
        now = time.monotonic()
        if now - last >= times.settle:
            return True
        if now - began >= times.settle + times.longest:
            return False
        cancelled.wait(max(min(LOOK_EVERY_SECONDS, times.settle), commits.look_every_seconds))
        newer = commits.change_token()
        if newer != token:
            token, last = newer, time.monotonic()
    return False
