"""Waits for an instant at which a committed state of a database can be read."""

from __future__ import annotations

import threading
import time
from pathlib import Path

from jondel.core.engines.sqlite.committed_state import CommittedState, LiveFiles, NotYet
from jondel.core.engines.sqlite.error_translation import locked_message
from jondel.core.errors import Cancelled, TargetBusy, TargetLocked

PATIENCE_SECONDS = 2.0
"""How long a committed state is waited for."""


def wait_for_state(files: LiveFiles, stop: threading.Event, deadline: float) -> CommittedState:
    """Find a state, waiting for one until the deadline (of ``time.monotonic``).

    Raises:
        Cancelled, TargetLocked, TargetBusy, OSError
    """
    while True:
        state = files.find()
        if isinstance(state, CommittedState):
            return state
        check_stop(stop)
        if time.monotonic() >= deadline:
            raise no_state(files.path, state)
        time.sleep(state.seconds)


def latest_state(files: LiveFiles, stop: threading.Event) -> CommittedState:
    """Find a state, waiting no longer than is bearable; raises as ``wait_for_state``."""
    return wait_for_state(files, stop, time.monotonic() + PATIENCE_SECONDS)


def no_state(path: Path, reason: NotYet | None = None) -> TargetLocked:
    """The error for a database of which no committed state could be read in time."""
    if reason is not None and reason.held:
        return TargetLocked(locked_message(path))
    return TargetBusy(
        f"{path}: the app writes without a pause long enough to read between; "
        "wait for it, or read under a lock, which makes the app wait"
    )


def check_stop(stop: threading.Event) -> None:
    """Raise ``Cancelled`` where that was asked for."""
    if stop.is_set():
        raise Cancelled("stopped")
