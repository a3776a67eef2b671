"""Watching: every app action becomes a step by itself."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable, Iterator
from typing import NamedTuple

from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.needed import commits_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import TargetError
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.trail import Trail

MOST_SECONDS = 60.0
LOOK_EVERY_SECONDS = 0.05

WATCHED = Trigger("watch", "")


class WatchTimes(NamedTuple):
    """When an app action is over, in seconds."""

    settle: float = 0.4
    """After this time without a commit."""
    longest: float = 2.0
    """After this time all the same: some apps never pause."""


class Settling:
    """Tells when an app action is over.

    Tokens differ after a commit, see ``Database.change_token``. Times are seconds of one clock.
    """

    def __init__(self, times: WatchTimes, clock: Callable[[], float] = time.monotonic) -> None:
        self._times = times
        self._clock = clock
        self._token: Hashable = None
        self._began: float | None = None
        self._last_commit = 0.0

    @property
    def busy(self) -> bool:
        """Whether something was committed that is in no step yet."""
        return self._began is not None

    def start(self, token: Hashable) -> None:
        """What was committed up to this token is in a step."""
        self._token = token
        self._began = None

    def go_on(self) -> None:
        """The action that just ended could not be recorded: it is over again at the next look."""
        self._began = self._last_commit

    def over(self, token: Hashable) -> bool:
        """Note a token just read; True where an action has just come to its end."""
        now = self._clock()
        if token != self._token:
            self._token = token
            self._last_commit = now
            if self._began is None:
                self._began = now
        if self._began is None:
            return False
        return (
            now - self._last_commit >= self._times.settle
            or now - self._began >= self._times.longest
        )


_USUAL_TIMES = WatchTimes()


def watch(
    trail: Trail,
    database: Database,
    stop: threading.Event,
    times: WatchTimes = _USUAL_TIMES,
    trouble: Callable[[TargetError | None], None] = lambda error: None,
    rules: Callable[[], NoiseRules] = NoiseRules,
) -> Iterator[tuple[Snapshot, Snapshot]]:
    """Take a snapshot, then one after each app action; yields the ends of each step.

    An action of which ``rules`` hide everything makes no step. A database that is locked or gone
    for a while is waited for: ``trouble`` is called with the error when that begins and with None
    when it is over. Runs until ``stop`` is set.
    """
    settling = Settling(times)
    last: Snapshot | None = None
    in_trouble = False
    while not stop.is_set():
        try:
            # The token first: what is committed after it makes another step.
            token = commits_of(database).change_token()
            if last is None:
                last = trail.take_unless_unchanged(database, Trigger("watch", "watching began"))
                settling.start(token)
            elif settling.over(token):
                taken = trail.take_unless_noise(database, WATCHED, rules())
                settling.start(token)
                if taken.image != last.image:
                    yield last, taken
                last = taken
            if in_trouble:
                in_trouble = False
                trouble(None)
        except TargetError as error:
            if not in_trouble:
                in_trouble = True
                trouble(error)
        stop.wait(max(LOOK_EVERY_SECONDS, commits_of(database).look_every_seconds))
