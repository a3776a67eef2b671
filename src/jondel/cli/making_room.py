"""Keeps the store within its budget after a command has added to it."""

from __future__ import annotations

from jondel.cli.output import counted, say
from jondel.core.trail.trail import Trail


def make_room(trail: Trail) -> None:
    """Keep the store within its budget, and say what went for that."""
    gone, still_over = trail.keep_within_budget()
    if gone:
        first, last = gone[0], gone[-1]
        which = first.id if len(gone) == 1 else f"{first.id} to {last.id}"
        say(f"{counted(len(gone), 'old snapshot')} went to make room ({which})")
    if still_over:
        say(
            "the store is larger than its budget, and what is left has a label or a pin or is "
            "the latest: delete some (`jondel trail`) or raise it (`jondel store budget`)"
        )
