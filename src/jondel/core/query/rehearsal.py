"""Tries a script out: what it would change is seen before anything is written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass

from jondel.core.engines.needed import commits_of, rehearser_of
from jondel.core.engines.protocol import CommitMark, Database
from jondel.core.engines.roles import TransactionRehearser
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
    if not isinstance(state, Snapshot) and state.rehearsals is not None:
        with _by_the_server(trail, state, state.rehearsals, statements, sink_for, opened) as found:
            yield found
        return
    since = None if isinstance(state, Snapshot) else commits_of(state).mark()
    with trail.opened(state) as before:
        opened(before)
        outcome, after = rehearser_of(before).rehearse(
            statements, sink_for, foreign_keys=foreign_keys
        )
        with closing(after):
            opened(after)
            yield Rehearsal(outcome, before, after, since)


@contextmanager
def _by_the_server(
    trail: Trail,
    live: Database,
    rehearsals: TransactionRehearser,
    statements: Sequence[ScriptStatement],
    sink_for: Callable[[int], ResultSink | None],
    opened: Callable[[Database], None],
) -> Iterator[Rehearsal]:
    """Try a script out in a transaction that is rolled back as soon as its changes are known."""
    from jondel.core.mirror.overlaid import overlaid  # only servers have mirrors

    opened(live)
    with ExitStack() as stack:
        with rehearsals.transaction() as transaction:
            before, _ = stack.enter_context(trail.now(live, transaction.deltas))
            outcome = transaction.run(statements, sink_for)
            after = stack.enter_context(closing(overlaid(before, transaction.deltas)))
        for side in (before, after):
            opened(side)
        yield Rehearsal(outcome, before, after, transaction.since)
