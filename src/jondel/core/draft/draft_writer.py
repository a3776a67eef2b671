"""Writes a draft as one checked transaction and records that as a step; takes it back again."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from typing import NamedTuple, TypeAlias

from jondel.core.draft.draft import Draft, DraftEntries, EntryKey, RecordEdit, key_of
from jondel.core.draft.draft_plan import DraftPlan, cells_of, plan_of
from jondel.core.engines.needed import commits_of, writer_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import RecordsMovedOn, SnapshotError
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, identical
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.trail import Trail

_TRIES = 4
_WHOLE_BYTES = 64 * 1024 * 1024

_log = logging.getLogger(__name__)


class Conflict(NamedTuple):
    """A record that is no longer what it was when it was edited; ``theirs`` is None if gone."""

    edit: RecordEdit
    table: Table
    theirs: ShownRow | None


class Written(NamedTuple):
    """What was written: how many rows, and the snapshots before and after it.

    ``step`` is the number of the step that holds it and nothing else, so that taking the step back
    takes back the draft; None where there is no such step, and ``why`` says why not.
    """

    rows: int
    step: int | None
    why: str = ""


_BEFORE = Trigger("draft", "before writing")

Places: TypeAlias = Mapping[EntryKey, Position]
"""Where records are now that were added, or have another position than before."""


def write_draft(
    draft: DraftEntries,
    database: Database,
    trail: Trail | None,
    on_committed: Callable[[Places], None] = lambda places: None,
) -> Written:
    """Write a draft. ``on_committed`` is called once the database holds it; see ``take_out``.

    Raises:
        RecordsMovedOn: a record is no longer as it was; see ``conflicts_of``. Nothing was written.
        WriteRefused: a constraint or a link would be broken. Nothing was written.
    """
    words = _words(draft)
    before: Snapshot | None = None
    problem = "" if trail is not None else "the trail cannot be used"
    for attempt in range(_TRIES):
        since = commits_of(database).mark(exact=True)
        last = attempt == _TRIES - 1
        try:
            with ExitStack() as stack:
                if trail is not None and not problem:
                    try:
                        before = stack.enter_context(trail.before_writing(database, _BEFORE))
                    except SnapshotError as error:
                        problem = str(error)
                last = last or before is None
                planned = plan_of(draft, database)
                # At last also when the app never pauses: each record is checked by itself.
                inserted = writer_of(database).apply(planned.plan, None if last else since)
        except RecordsMovedOn:
            if last or not commits_of(database).moved_since(since) or conflicts_of(draft, database):
                raise
            continue
        break
    if last and before is not None:
        problem = "the app wrote at the same time"
    written_at = commits_of(database).mark(exact=True)
    on_committed(_places(draft, planned, inserted, database))
    step = None
    if trail is not None and before is not None:
        try:
            after = trail.take(database, trigger=Trigger("draft", words))
        except SnapshotError as error:
            problem = str(error)
        else:
            if commits_of(database).moved_since(written_at):
                problem = problem or "the app wrote at the same time"
            step = after.number if not problem else None
    _log.info("%s: %s", database.name, words)
    return Written(len(planned.plan.writes), step, problem)


def _places(
    draft: DraftEntries, planned: DraftPlan, inserted: Sequence[int | None], database: Database
) -> Places:
    schema = database.schema()
    row_ids = dict(zip(planned.inserted, inserted, strict=True))
    places: dict[EntryKey, Position] = {}
    for entry in draft:
        table = schema.find(entry.table)
        if table is None:
            continue
        columns, values = table.position_columns, entry.values
        if isinstance(entry, RecordEdit):
            places[key_of(entry)] = _place_of(entry, table, database)
        elif table.row_id is not None:
            row_id = row_ids[entry.number]
            if row_id is not None:
                places[entry.number] = (row_id,)
        elif all(name in values for name in columns):
            places[entry.number] = tuple(values[name] for name in columns)
    return places


def _place_of(entry: RecordEdit, table: Table, database: Database) -> Position:
    """Where a record is after its edit was written."""
    key = table.primary_key
    if entry.deleted or not any(name in entry.values for name in (*key, *table.position_columns)):
        return entry.position
    if table.row_id is None or table.row_id in entry.values:
        pairs = zip(table.position_columns, entry.position, strict=True)
        return tuple(entry.values.get(name, at) for name, at in pairs)
    # A key of one whole number is the row number, in all but a few old declarations.
    number = entry.values[key[0]] if len(key) == 1 else None
    row = database.rows.read_record(table, entry.position, _WHOLE_BYTES)
    stayed = row is not None and row[table.column_names.index(key[0])] == number
    return entry.position if stayed or not isinstance(number, int) else (number,)


def conflicts_of(draft: DraftEntries, database: Database) -> list[Conflict]:
    """The records of a draft that are no longer as they were when they were edited."""
    schema = database.schema()
    conflicts = []
    for entry in draft:
        if not isinstance(entry, RecordEdit):
            continue
        table = schema.find(entry.table)
        if table is None:
            continue
        theirs = database.rows.read_record(table, entry.position, _WHOLE_BYTES)
        if theirs is None or _differs(entry, table, theirs):
            conflicts.append(Conflict(entry, table, theirs))
    return conflicts


def settle(draft: Draft, conflict: Conflict, *, mine: bool) -> None:
    """Keep what a person wants in a conflict, for the next attempt to write.

    ``mine`` has the edit made to the record as it is now; where it is gone, a record that was to
    be changed is inserted again with what it held and the edit. Otherwise the edit is dropped.
    """
    edit = conflict.edit
    key = (edit.table, edit.position)
    if not mine:
        draft.drop(key)
    elif conflict.theirs is not None:
        draft.renew(key, cells_of(conflict.table, conflict.theirs))
    else:
        draft.drop(key)
        if not edit.deleted:
            generated = {c.name for c in conflict.table.columns if c.generated}
            values = {**dict(edit.original), **edit.values}
            kept = {name: v for name, v in values.items() if name not in generated}
            draft.insert(edit.table, kept)


def _differs(edit: RecordEdit, table: Table, theirs: ShownRow) -> bool:
    now = dict(zip(table.column_names, theirs, strict=True))
    return any(
        name in now and not identical(now[name], value)
        for name, value in edit.original
        if name not in table.position_columns
    )


def _words(draft: DraftEntries) -> str:
    parts = [f"{count} in {table}" for table, count in draft.tables.items()]
    return "wrote a draft: " + ", ".join(parts)
