"""Remembers how far a database was, to tell later whether anything was committed since."""

from __future__ import annotations

from dataclasses import dataclass

from jondel.core.engines.sqlite.committed_state import CommittedState
from jondel.core.engines.sqlite.file_times import Times
from jondel.core.engines.sqlite.wal import LogMark

_CHANGE_COUNTER = slice(24, 28)


@dataclass(frozen=True, eq=False)
class Mark:
    """A place among the commits of one file.

    ``log`` is the end of the log; without one, the file counts its commits in its header, and its
    ``times`` tell of those that an app in exclusive mode does not count. Without times (the file
    holds a transaction that is to be rolled back) the counter alone decides.
    """

    identity: tuple[int, int]
    log: LogMark | None
    counter: bytes
    times: Times | None

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Mark) or self.identity != other.identity or self.log != other.log:
            return False
        if self.log is not None:
            return True
        if self.counter != other.counter:
            return False
        return None in (self.times, other.times) or self.times == other.times

    def __hash__(self) -> int:
        return hash((self.identity, self.log))


def mark_of(state: CommittedState) -> Mark:
    """The mark of a state that was just found."""
    log = state.log.end if state.log is not None else None
    times = None if state.from_journal else state.times
    return Mark(state.times[:2], log, state.header[_CHANGE_COUNTER], times)
