"""The commands that put a database back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Protocol

from jondel.cli.making_room import make_room
from jondel.cli.output import confirmed, counted, say, tell
from jondel.cli.problems import UsageProblem
from jondel.cli.showing import LISTED_RECORDS, print_changes, rules_of
from jondel.cli.tables import tables_called
from jondel.cli.target import opened
from jondel.core.browse.display import line
from jondel.core.diff.compare import Scope
from jondel.core.engines.registry import other_host
from jondel.core.errors import LinkedInTheWay, TargetError
from jondel.core.files.json_values import dumped
from jondel.core.formats.end_json import end_json
from jondel.core.model.changes import RecordChange
from jondel.core.model.values import StoredValue
from jondel.core.trail.restore import (
    Restored,
    restore,
    restore_whatever_is_there,
    take_back_record,
    take_back_step,
)


def restore_database(
    target: str,
    name: str,
    tables: Sequence[str],
    with_linked: bool,
    yes: bool,
    lock: bool,
    as_json: bool,
) -> None:
    """Put a database, or some of its tables, back to a snapshot."""
    with opened(target, lock=lock) as given:
        trail = given.trail
        to = trail.find(name)
        only = None
        if tables:
            with trail.opened(to) as state:
                only = tables_called(tables, [state])
        if not yes:
            try:
                scope = Scope(tables=only, keep_records=LISTED_RECORDS, inside=True)
                lost = trail.changes(to, given.database, scope)
            except TargetError as error:
                say(f"{error}; what lies there will be kept aside")
            else:
                say(f"restoring {to.title} will undo this:")
                print_changes(lost, rules_of(given.location))
        host = other_host(target)
        where = f"{given.name} on {host}" if host else given.name
        if not confirmed(f"restore {where} to {to.title}?", yes):
            return
        work: PutBack
        if only is not None:
            work = partial(restore, trail, given.database, to, only)
        else:
            work = partial(restore_whatever_is_there, trail, lambda: given.database, to)
        done = _with_linked_if_wanted(work, with_linked, yes)
        if done is None:
            return
        _tell_restored(done, as_json)
        make_room(trail)


def take_back(
    target: str,
    name: str,
    table: str | None,
    key: Sequence[str],
    with_linked: bool,
    yes: bool,
    lock: bool,
    as_json: bool,
) -> None:
    """Undo one step's changes, or one record's."""
    if (table is None) != (not key):
        raise UsageProblem("give --table and --key together; they name one record")
    with opened(target, lock=lock) as given:
        trail, database = given.trail, given.database
        snapshot = trail.find(name)
        step = next(step for step in trail.steps() if step.number == snapshot.number)
        only = None
        if table is not None:
            with trail.opened(snapshot) as state:
                (only,) = tables_called([table], [state])
        if not yes:
            say(f"taking back {snapshot.title} will undo this:")
            scope = Scope(
                tables=frozenset({only}) if only is not None else None,
                keep_records=LISTED_RECORDS,
                inside=True,
            )
            if step.before is not None:
                taken_back = trail.changes(step.before, step.after, scope)
                print_changes(taken_back, rules_of(given.location))
        if not confirmed(f"take back {snapshot.title} in {database.name}?", yes):
            return
        work: PutBack
        if only is None:
            work = partial(take_back_step, trail, database, step)
        elif step.before is None:
            raise UsageProblem(f"{snapshot.id}: the trail begins here; no step ends with it")
        else:
            ends = (step.before, step.after)
            work = partial(take_back_record, trail, database, ends, only, _has_key(key))
        done = _with_linked_if_wanted(work, with_linked, yes)
        if done is not None:
            _tell_restored(done, as_json)


class PutBack(Protocol):
    """Work that puts something back; ``with_linked`` as in ``core.trail.restore``."""

    def __call__(self, *, with_linked: bool) -> Restored: ...


def _with_linked_if_wanted(work: PutBack, with_linked: bool, yes: bool) -> Restored | None:
    """Do it; ask about records that links would take along. None where nothing is to be written.

    Raises:
        LinkedInTheWay: there are such, and nobody is asked.
    """
    try:
        return work(with_linked=with_linked)
    except LinkedInTheWay as error:
        if yes:
            raise
        for obstacle in error.obstacles:
            say(obstacle.reason)
        if not confirmed(f"take {counted(len(error.writes), 'such record')} along?", yes):
            return None
    return work(with_linked=True)


def _has_key(words: Sequence[str]) -> Callable[[RecordChange], bool]:
    def matches(record: RecordChange) -> bool:
        return len(record.key) == len(words) and all(
            _word_of(value) == word for value, word in zip(record.key, words, strict=True)
        )

    return matches


def _word_of(value: StoredValue) -> str:
    """How a key's value is written on the command line."""
    if isinstance(value, bytes):
        return value.hex()
    return str(value)


def _tell_restored(done: Restored, as_json: bool) -> None:
    if as_json:
        undone = {str(table): vars(counts) for table, counts in done.undone.tables.items()}
        tell(
            dumped(
                {
                    "before": end_json(done.before) if done.before else None,
                    "after": end_json(done.after),
                    "undone": undone,
                    "schema_changes": done.undone.schema_changes,
                    "method": done.method,
                    "linked": {str(t): vars(c) for t, c in done.linked.tables.items()},
                    "left_alone": [
                        {"table": str(unread.table), "reason": unread.reason}
                        for unread in done.left_alone
                    ],
                    **({"kept_aside": done.aside} if done.aside else {}),
                }
            )
        )
        return
    for unread in done.left_alone:
        say(f"{line(str(unread.table), 100)} was left alone: {unread.reason}")
    if not done.changed:
        tell("nothing to do")
        return
    if done.before is None:
        tell(f"the file is there again, as of {done.after.trigger.text.removeprefix('restored ')}")
        if done.aside:
            say(f"what lay there is kept as {done.aside}")
        return
    for table, counts in done.undone.tables.items():
        tell(f"{line(str(table), 100)}  {counts.marked()} undone")
    for table, counts in done.linked.tables.items():
        tell(f"{line(str(table), 100)}  {counts.marked()} along with that")
    say(f"the state before is kept as {done.before.id}; restore that to undo this")
