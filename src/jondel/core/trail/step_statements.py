"""Runs statements on a database or on a past step, and on several states at once."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import ExitStack, closing

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.model.rows import ResultRows
from jondel.core.trail.trail import NOW, Trail

_QUALIFIER = re.compile(r'"((?:[^"]|"")+)"\s*\.|(?<![\w"])(\w+)\s*\.')


def run_at(
    trail: Trail,
    live: Callable[[], Database],
    sql: str,
    at: str | None = None,
    limit: int | None = None,
) -> ResultRows:
    """Run one reading statement on the database, or on the snapshot ``at``.

    Tables of other states go by the state's name: ``s3.bookings``, ``"before fuel".bookings``,
    ``now.bookings``. ``live`` gives the live database, and is called only where that is asked.

    Raises:
        SnapshotNotFound: ``at`` names none.
        StatementRefused: the text is not one statement, or it would write.
    """
    with ExitStack() as stack:
        if at is None:
            asked = live()
        else:
            asked = stack.enter_context(closing(trail.open(trail.find(at))))
        beside: dict[str, Database] = {}
        for name in sorted(mentioned(sql)):
            if name == NOW:
                beside[name] = stack.enter_context(trail.now(live()))[0]
                continue
            snapshot = next((s for s in trail.snapshots() if name in (s.id, s.label)), None)
            if snapshot is not None:
                beside[name] = stack.enter_context(closing(trail.open(snapshot)))
        return statements_of(asked).execute(sql, limit=limit, beside=beside)


def mentioned(sql: str) -> set[str]:
    """What stands before a dot in a statement; some of it may name states."""
    return {
        quoted.replace('""', '"') if quoted else plain for quoted, plain in _QUALIFIER.findall(sql)
    }
