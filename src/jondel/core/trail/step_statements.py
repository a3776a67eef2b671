"""Runs statements on a database or on a past step, and on several states at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.model.outcomes import ResultSink
from jondel.core.model.rows import ResultRows
from jondel.core.model.statements import Statement
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
    with _asked(trail, live, sql, at) as (asked, beside):
        return statements_of(asked).execute(sql, limit=limit, beside=beside)


def stream_at(
    trail: Trail,
    live: Callable[[], Database],
    statement: Statement,
    sink: ResultSink,
    at: str | None = None,
    opened: Callable[[Database], None] = lambda database: None,
) -> None:
    """The same, handing the rows on as they come; ``opened`` is called with what is asked."""
    with _asked(trail, live, statement.text(), at) as (asked, beside):
        opened(asked)
        statements_of(asked).stream(statement, sink, beside=beside)


@contextmanager
def _asked(
    trail: Trail, live: Callable[[], Database], sql: str, at: str | None
) -> Iterator[tuple[Database, dict[str, Database]]]:
    """What a statement is asked of, and the states that it names beside that."""
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
        yield asked, beside


def mentioned(sql: str) -> set[str]:
    """What stands before a dot in a statement; some of it may name states."""
    return {
        quoted.replace('""', '"') if quoted else plain for quoted, plain in _QUALIFIER.findall(sql)
    }
