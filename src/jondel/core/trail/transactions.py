"""The transactions of a step: observed while it happens, kept, and looked at one by one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from itertools import pairwise
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.browse.links import Link
from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.protocol import Database
from jondel.core.engines.roles import Observation
from jondel.core.errors import JondelError
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    ChangeCounts,
    Changes,
    RecordChange,
    TableChanges,
)
from jondel.core.model.transactions import Transactions
from jondel.core.model.values import Value
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import Trail

_MOST_KEPT = 200
"""Of more transactions than these only the number is kept."""


@contextmanager
def observed(database: Database) -> Iterator[Observation | None]:
    """Observe the transactions that are committed in the block; None where that cannot be."""
    observer = database.transactions
    if observer is None:
        yield None
        return
    try:
        context = observer.observed()
        observation = context.__enter__()
    except JondelError:
        yield None
        return
    try:
        yield observation
    finally:
        context.__exit__(None, None, None)


def keep_transactions(
    trail: Trail,
    observation: Observation | None,
    before: Snapshot,
    after: Snapshot,
    changes: Changes | None = None,
) -> Transactions | None:
    """Find out in how many transactions a step was written, and remember it.

    ``changes`` are the step's, where they are known. What cannot be found out is no reason to fail.
    """
    if observation is None:
        return None
    with suppress(JondelError):
        changes = changes or trail.changes(before, after)
        with closing(trail.open(before)) as one, closing(trail.open(after)) as other:
            told = observation.told(one, other, changes)
            states = observation.states(one) if _worth_keeping(told) else iter(())
            images = trail.keep_states(states, before)
        trail.transactions.keep(after.number, told, images)
        return told
    return None


def _worth_keeping(told: Transactions) -> bool:
    return told.exact and told.count is not None and 1 < told.count <= _MOST_KEPT


class TransactionChanges(NamedTuple):
    """What one transaction of a step wrote; ``number`` counts from 1."""

    number: int
    changes: Changes


def changes_by_transaction(
    trail: Trail, before: Snapshot, after: Snapshot, scope: Scope
) -> list[TransactionChanges]:
    """The changes of a step, transaction by transaction; empty where they are not told apart."""
    known = trail.transactions.of_step(after.number)
    if known is None or known.count is None or (not known.exact and not known.records):
        return []
    if known.count == 1:
        return [TransactionChanges(1, trail.changes(before, after, scope))]
    if known.records:
        return list(_parted(trail.changes(before, after, scope), known))
    images = trail.transactions.images(after.number)
    if not images:
        return []
    states = [before.image, *images, after.image]
    found = []
    for number, (one, other) in enumerate(pairwise(states), 1):
        with trail.image(one) as old, trail.image(other) as new:
            found.append(TransactionChanges(number, compare(old, new, scope)))
    return found


def _parted(changes: Changes, known: Transactions) -> Iterator[TransactionChanges]:
    """Changes parted by which transaction wrote which record; what nobody is known to have
    written comes last."""
    for number in range(len(known.records) + 1):
        tables = []
        for table in changes.tables:
            records = [r for r in table.records if _writer(table, r, known) == number]
            if records:
                counts = ChangeCounts()
                for record in records:
                    counts = counts.counted(record.kind)
                tables.append(table._replace(records=tuple(records), counts=counts))
        if tables or number < len(known.records):
            yield TransactionChanges(number + 1, Changes(tuple(tables)))


def _writer(table: TableChanges, record: RecordChange, known: Transactions) -> int:
    key = table.table, record.key
    return next((n for n, one in enumerate(known.records) if key in one), len(known.records))


def crossings(parts: Sequence[TransactionChanges], links: Sequence[Link]) -> Iterator[str]:
    """What belongs together and came in different transactions, in words: a record and another one
    that it points at, which was added in another transaction."""
    added: dict[tuple[TableId, str, Value], int] = {}
    for part in parts:
        for table, record, cells in _written(part.changes):
            if record.kind == "added":
                for name, value in cells.items():
                    added[table.table, name, value] = part.number
    told: set[str] = set()
    for part in parts:
        for table, record, cells in _written(part.changes):
            for link in links:
                if link.child != table.table or len(link.columns) != 1:
                    continue
                value = cells.get(link.columns[0])
                other = added.get((link.parent, link.parent_columns[0], value))
                if value is None or other in (None, part.number):
                    continue
                name = " · ".join(line(key, 60) for key in record.key)
                words = (
                    f"{table.table} {name} came in transaction {part.number}, and "
                    f"{link.parent} {line(value, 60)}, which it points at, in transaction {other}"
                )
                if words not in told:
                    told.add(words)
                    yield words


def _written(changes: Changes) -> Iterator[tuple[TableChanges, RecordChange, dict[str, Value]]]:
    """The records that are there after some changes, with their cells."""
    for table in changes.tables:
        for record in table.records:
            if record.after is not None:
                yield table, record, dict(zip(table.columns_after, record.after, strict=True))
