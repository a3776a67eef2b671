"""Tries a script out: what it would change is seen before anything is written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass

from jondel.core.engines.needed import commits_of, rehearser_of
from jondel.core.engines.protocol import CommitMark, Database
from jondel.core.model.outcomes import ResultSink, ScriptOutcome, ScriptStatement
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import Trail


@dataclass(frozen=True)
class Rehearsal:
    """A script that was tried out: what it came to, and the two states to compare.

    ``since`` is how far the live database was then; None of a past step.
    """

    outcome: ScriptOutcome
    before: Database
    after: Database
    since: CommitMark | None


@contextmanager
def rehearsed(
    trail: Trail,
    state: Snapshot | Database,
    statements: Sequence[ScriptStatement],
    sink_for: Callable[[int], ResultSink | None],
    *,
    foreign_keys: bool = True,
    opened: Callable[[Database], None] = lambda database: None,
) -> Iterator[Rehearsal]:
    """Try a script out on a snapshot, or on the live database as it is now.

    ``opened`` is called with each state that is worked on, so that it can be interrupted.

    Raises:
        FeatureMissing: that cannot be done with it.
    """
    since = None if isinstance(state, Snapshot) else commits_of(state).mark()
    with trail.opened(state) as before:
        opened(before)
        outcome, after = rehearser_of(before).rehearse(
            statements, sink_for, foreign_keys=foreign_keys
        )
        with closing(after):
            opened(after)
            yield Rehearsal(outcome, before, after, since)
