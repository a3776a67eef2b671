"""Puts a database back without a step of the trail, as between tests, where it is done often."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.needed import writer_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import WriteError
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.restore import restore, suits_rows
from jondel.core.trail.take_back import plan_to_take_back
from jondel.core.trail.trail import Trail

_MOST_RECORDS = 5_000


def put_back(trail: Trail, database: Database, to: Snapshot, state: Database) -> bool:
    """Make a database the same as a snapshot, and say whether anything was written for that.

    ``state`` is the snapshot, open.

    A few records are written back one by one, in one transaction, each only if it is as it was
    found. What cannot be done so is done by ``restore``, which makes a step.

    Raises:
        RecordsMovedOn: the app wrote to the database meanwhile.
        WriteRefused: it cannot be written.
    """
    with trail.now(database) as (now, name):
        if name == to.image:
            return False
        changes = compare(state, now, Scope(internal=True, keep_records=_MOST_RECORDS))
        alike = state.scanner.settings() == now.scanner.settings()
        are = {other.sequence: other for other in now.scanner.sequences()}
        moved = tuple(
            were for were in state.scanner.sequences() if are.get(were.sequence, were) != were
        )
        if alike and suits_rows(changes):
            if changes.empty and not moved:
                return False
            plan = plan_to_take_back(
                changes, state, state.schema(), replacing=False, triggers=False
            )
            with suppress(WriteError):  # then by the other way, which says why if it cannot be
                writer_of(database).apply(replace(plan, sequences=moved))
                return True
    restore(trail, database, to)
    return True
