"""Puts a database, or parts of it, back to what a snapshot says.

A snapshot is taken before and after, so that a restore is a step of the trail like any other and
can be taken back itself.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Collection
from contextlib import closing
from dataclasses import dataclass, field
from typing import NamedTuple

from jondel.core.diff.compare import Scope
from jondel.core.engines.needed import commits_of, restorer_of
from jondel.core.engines.protocol import Database, Feature
from jondel.core.errors import (
    DatabaseDamaged,
    NotADatabase,
    TableNotFound,
    TableUnreadable,
    TargetNotFound,
    WriteRefused,
)
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, ChangeSummary, RecordChange, Unread
from jondel.core.model.schema import Schema, Table
from jondel.core.model.writes import SequenceState, WritePlan
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.linked_records import LinkedRecords, linked_records
from jondel.core.trail.take_back import only_record, plan_to_take_back
from jondel.core.trail.trail import Step, Trail
from jondel.core.trail.writing_back import Stopping, WritingBack

_LISTED = 3
_MOST_RECORDS = 20_000
"""Above this, the whole database is copied over instead of writing row by row."""

_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Restored:
    """What a restore did: the snapshots before and after it, and what it undid.

    ``before`` and ``after`` are the same where there was nothing to do. ``method`` says how it was
    written: ``rows``, ``copy`` of the whole database, or ``file`` where there was no usable
    database: then there is no snapshot before, and ``aside`` is where what lay there is kept.
    """

    before: Snapshot | None
    after: Snapshot
    undone: ChangeSummary
    method: str
    aside: str = ""
    linked: ChangeSummary = field(default_factory=ChangeSummary)
    """What was written too since links have it go or change with what was undone."""
    left_alone: tuple[Unread, ...] = ()
    """The tables that could not be compared, and so are as they were."""

    @property
    def changed(self) -> bool:
        """Whether there was anything to do."""
        return self.before is None or self.before.number != self.after.number


class Undoing(NamedTuple):
    """What undoing would write: the plan, what links add to it, and what is left alone."""

    plan: WritePlan
    linked: LinkedRecords
    left_alone: tuple[Unread, ...] = ()


_NEVER = Stopping()


def restore(
    trail: Trail,
    database: Database,
    to: Snapshot,
    tables: Collection[TableId] | None = None,
    stopping: Stopping = _NEVER,
    *,
    with_linked: bool = False,
) -> Restored:
    """Make the database, or some of its tables, the same as a snapshot.

    Few changed records are written back one by one in one transaction, which is quick and leaves
    everything else alone. Otherwise, and for changes of the schema, the whole database is copied
    over through the engine, also as one transaction. Either takes place only if nothing was
    committed since the snapshot that is taken first. What cannot be compared is left alone, and
    told, where rows are written; a table that is named must be one that can.

    ``with_linked``: records that go or change by the actions of links, since they point at what is
    removed, do so.

    Raises:
        RecordsMovedOn: the app wrote to the database meanwhile.
        LinkedInTheWay: there are such records, and they are not to.
        WriteRefused: it cannot be written.
        TableNotFound: a table is not in both states.
    """
    title = to.label or to.id
    since = commits_of(database).mark(exact=True)
    with trail.before_writing(database, Trigger("restore", f"before restoring {title}")) as before:
        if tables is None:
            most = _MOST_RECORDS if Feature.RESTORING in database.features else None
            scope = Scope(internal=True, keep_records=most)
        else:
            wanted = _with_shadows(trail, to, before, tables)
            scope = Scope(internal=True, tables=wanted)
        changes = trail.changes(to, before, scope, stopping.opened)
        if tables is not None:
            changes = _of_tables(changes, scope.tables or frozenset())
            if changes.unread:
                unread = changes.unread[0]
                raise WriteRefused(f"{unread.table}: cannot be compared: {unread.reason}")
        same_settings = tables is not None or _same_settings(trail, to, before)
        sequences = () if tables is not None else _sequences_that_moved(trail, to, before)
        may_be_left = not changes.unread or Feature.RESTORING not in database.features
        if changes.empty and may_be_left and same_settings and not sequences:
            return Restored(before, before, ChangeSummary(), "rows", left_alone=changes.unread)
        by_rows = tables is not None or (same_settings and suits_rows(changes))
        if Feature.RESTORING not in database.features:
            by_rows = True
            if tables is None:
                changes = _with_same_tables(changes)
        method, linked = "rows", ChangeSummary()
        writing = WritingBack(
            trail, database, to, changes, before, since, stopping, sequences,
            with_linked=with_linked, may_be_linked=tables is not None or bool(changes.unread),
        )  # fmt: skip
        may_fail = tables is None and Feature.RESTORING in database.features
        done = writing.done(may_fail=may_fail) if by_rows else None
        if done is not None:
            linked = done
        else:
            method = "copy"
            changes = changes._replace(unread=())  # it is copied like all else
            if by_rows:
                since = writing.mark_anew()
            with _opened(trail, to) as image:
                restorer_of(database).restore_from(image, since)
    stopping.committed()
    what = (
        f"restored {title}"
        if tables is None
        else f"restored {', '.join(map(str, tables))} of {title}"
    )
    after = trail.take(database, trigger=Trigger("restore", what))
    _log.info("%s: %s, by %s", database.name, what, method)
    shown = ChangeSummary.of(_shown(changes))
    return Restored(before, after, shown, method, linked=linked, left_alone=changes.unread)


def restore_whatever_is_there(
    trail: Trail,
    live: Callable[[], Database],
    to: Snapshot,
    stopping: Stopping = _NEVER,
    *,
    with_linked: bool = False,
) -> Restored:
    """Restore a whole database, also where its file is gone, damaged or something else.

    ``live`` opens the live database. Where that, or reading or writing it, fails because of what
    lies there, the snapshot becomes a new file in its place.

    Raises:
        RecordsMovedOn, WriteRefused: as ``restore``.
        TargetError: another process holds the file, or it cannot be written.
    """
    try:
        return restore(trail, live(), to, None, stopping, with_linked=with_linked)
    except (TargetNotFound, NotADatabase, DatabaseDamaged, TableUnreadable) as error:
        _log.info("restoring %s over what cannot be used: %s", to.title, error)
    aside = trail.put_in_place(to)
    stopping.committed()
    what = f"restored {to.label or to.id}"
    after = trail.take(live(), trigger=Trigger("restore", what))
    return Restored(None, after, ChangeSummary(), "file", str(aside or ""))


def take_back_step(
    trail: Trail,
    database: Database,
    step: Step,
    stopping: Stopping = _NEVER,
    *,
    with_linked: bool = False,
) -> Restored:
    """Undo the changes of one step, wherever in the trail it is; ``with_linked``: see ``restore``.

    Raises:
        RecordsMovedOn: a record is no longer as the step left it; nothing was written.
        WriteRefused: a link or a constraint would be broken, or the schema changed in the step.
    """
    before, changes = _changes_of(trail, step, stopping)
    what = step.after.label or step.after.id
    return _take_back(
        trail, database, before, changes, what, stopping, triggers=False, with_linked=with_linked
    )


def take_back_record(
    trail: Trail,
    database: Database,
    ends: tuple[Snapshot, Snapshot | Database],
    table: TableId,
    is_it: Callable[[RecordChange], bool],
    stopping: Stopping = _NEVER,
    *,
    with_linked: bool = False,
) -> Restored:
    """Undo the change of one record between two states; the database's triggers run.

    ``with_linked``: see ``restore``.

    Raises:
        RecordsMovedOn: the record is no longer as it was then; nothing was written.
        WriteRefused: a link or a constraint would be broken.
    """
    changes = _changes_of_record(trail, ends, table, is_it, stopping)
    what = f"a record of {table}"
    return _take_back(
        trail, database, ends[0], changes, what, stopping, triggers=True, with_linked=with_linked
    )


def _changes_of(trail: Trail, step: Step, stopping: Stopping) -> tuple[Snapshot, Changes]:
    """The snapshot before a step, and what the step changed."""
    if step.before is None:
        raise WriteRefused("the trail begins with this snapshot; there is no step to take back")
    changes = trail.changes(step.before, step.after, Scope(internal=True), stopping.opened)
    return step.before, changes


def _changes_of_record(
    trail: Trail,
    ends: tuple[Snapshot, Snapshot | Database],
    table: TableId,
    is_it: Callable[[RecordChange], bool],
    stopping: Stopping,
) -> Changes:
    changes = trail.changes(*ends, Scope(tables=frozenset({table})), stopping.opened)
    changes = only_record(changes._replace(schema_changes=()), table, is_it)
    if changes.empty:
        raise WriteRefused(f"{table}: this record did not change there")
    return changes


def plan_of_restoring(
    trail: Trail, database: Database, to: Snapshot, stopping: Stopping = _NEVER
) -> Undoing:
    """What restoring the whole database would write now, row by row.

    Raises:
        WriteRefused: it would be copied over instead, for which there are no statements.
    """
    scope = Scope(internal=True, keep_records=_MOST_RECORDS)
    changes = trail.changes(to, database, scope, stopping.opened)
    is_copied = Feature.RESTORING in database.features
    if not suits_rows(changes if is_copied else changes._replace(unread=())):
        raise WriteRefused(
            "the whole database is copied over in one transaction; there are no statements to show"
        )
    return _plan_of_undoing(trail, database, to, changes, stopping, triggers=False)


def plan_of_taking_back_step(
    trail: Trail, database: Database, step: Step, stopping: Stopping = _NEVER
) -> Undoing:
    """What ``take_back_step`` would write now."""
    before, changes = _changes_of(trail, step, stopping)
    return _plan_of_undoing(trail, database, before, changes, stopping, triggers=False)


def plan_of_taking_back_record(
    trail: Trail,
    database: Database,
    ends: tuple[Snapshot, Snapshot | Database],
    table: TableId,
    is_it: Callable[[RecordChange], bool],
    stopping: Stopping = _NEVER,
) -> Undoing:
    """What ``take_back_record`` would write now."""
    changes = _changes_of_record(trail, ends, table, is_it, stopping)
    return _plan_of_undoing(trail, database, ends[0], changes, stopping, triggers=True)


def _plan_of_undoing(
    trail: Trail,
    database: Database,
    earlier: Snapshot,
    changes: Changes,
    stopping: Stopping,
    *,
    triggers: bool,
) -> Undoing:
    with _opened(trail, earlier) as image:
        stopping.opened(image)
        hard = _without_derived_tables(changes)
        plan = plan_to_take_back(hard, image, database.schema(), triggers=triggers)
    return Undoing(plan, linked_records(plan, database), changes.unread)


def _without_derived_tables(changes: Changes) -> Changes:
    return changes._replace(tables=tuple(t for t in changes.tables if not t.derived))


def _take_back(
    trail: Trail,
    database: Database,
    earlier: Snapshot,
    changes: Changes,
    what: str,
    stopping: Stopping,
    *,
    triggers: bool,
    with_linked: bool,
) -> Restored:
    shown = _shown(changes)
    if changes.empty:
        raise WriteRefused(f"{what}: nothing changed there, so there is nothing to take back")
    hard = _without_derived_tables(changes)
    with trail.before_writing(database, Trigger("restore", f"before taking back {what}")) as before:
        linked = WritingBack(
            trail, database, earlier, hard, before, None, stopping,
            triggers=triggers, with_linked=with_linked,
        ).run()  # fmt: skip
    stopping.committed()
    after = trail.take(database, trigger=Trigger("restore", f"took back {what}"))
    summary = ChangeSummary.of(shown)
    return Restored(before, after, summary, "rows", linked=linked, left_alone=changes.unread)


def suits_rows(changes: Changes) -> bool:
    """Whether writing row by row gives the same as copying the database over."""
    return (
        not changes.schema_changes
        and not changes.unread
        and changes.counts.total <= _MOST_RECORDS
        and all(len(table.records) == table.counts.total for table in changes.tables)
    )


def _with_same_tables(changes: Changes) -> Changes:
    """The changes of rows; indexes and triggers stay as they are now.

    Raises:
        WriteRefused: tables are declared otherwise than they were.
    """
    unread = {entry.table for entry in changes.unread}
    declared = [
        change
        for change in changes.schema_changes
        if change.table is not None and change.table not in unread
    ]
    if declared:
        named = ", ".join(f"{c.kind}: {c.object}" for c in declared[:_LISTED])
        raise WriteRefused(
            f"the schema is not what it was then ({named}); a server's is not put back. "
            "Undo that by a migration, then restore; or restore single tables that did not change"
        )
    return changes._replace(schema_changes=())


def _sequences_that_moved(trail: Trail, to: Snapshot, now: Snapshot) -> tuple[SequenceState, ...]:
    """Where sequences were in a snapshot that are elsewhere in another one."""
    with _opened(trail, to) as image:
        were = image.scanner.sequences()
    with _opened(trail, now) as image:
        are = {state.sequence: state for state in image.scanner.sequences()}
    return tuple(state for state in were if are.get(state.sequence, state) != state)


def _same_settings(trail: Trail, one: Snapshot, other: Snapshot) -> bool:
    """Whether what a database says of itself, apart from its schema, is the same."""
    settings = []
    for snapshot in (one, other):
        with _opened(trail, snapshot) as image:
            settings.append(image.scanner.settings())
    return settings[0] == settings[1]


def _with_shadows(
    trail: Trail, to: Snapshot, now: Snapshot, tables: Collection[TableId]
) -> frozenset[TableId]:
    """The tables to compare: the named ones, and those that keep the rows of virtual ones."""
    found: set[TableId] = set()
    for snapshot in (to, now):
        with _opened(trail, snapshot) as image:
            schema = image.schema()
        for wanted in tables:
            table = schema.find(wanted)
            if table is None:
                raise TableNotFound(
                    f"no table {str(wanted)!r} in {snapshot.title}; give one of both"
                )
            found |= {wanted, *_shadows(schema, table)}
    return frozenset(found)


def _shadows(schema: Schema, table: Table) -> list[TableId]:
    if table.kind != "virtual table":
        return []
    return [t.id for t in schema.tables if t.shadow_of.lower() == table.name.lower()]


def _of_tables(changes: Changes, tables: frozenset[TableId]) -> Changes:
    """The changes without those of the schema that concern other tables."""
    kept = tuple(c for c in changes.schema_changes if c.table in tables)
    return changes._replace(schema_changes=kept)


def _shown(changes: Changes) -> Changes:
    """The changes without what the engine keeps for itself."""
    return changes._replace(tables=tuple(t for t in changes.tables if not t.internal))


def _opened(trail: Trail, snapshot: Snapshot) -> closing[Database]:
    return closing(trail.open(snapshot))
