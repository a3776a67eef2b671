"""What the commands do that tend the trail, put the database back, and look into the past."""

from __future__ import annotations

import io
import signal
import sys
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

from jondel.cli.commands import LISTED_RECORDS, make_room, print_changes, rules_of
from jondel.cli.output import confirmed, opened, say, tell
from jondel.cli.problems import UsageProblem
from jondel.core.browse.display import line
from jondel.core.diff.compare import Scope
from jondel.core.engines.protocol import Database
from jondel.core.errors import JondelError, SnapshotProtected, TableNotFound, TargetError
from jondel.core.formats.changes_json import cells_json, end_json, row_json, write_changes
from jondel.core.formats.changes_text import cell_text
from jondel.core.keeping.json_values import dumped
from jondel.core.model.changes import MARKS, RecordChange
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.history import Version, record_history
from jondel.core.trail.project import Project
from jondel.core.trail.restore import Restored, restore, take_back_record, take_back_step
from jondel.core.trail.trail import Step, Trail
from jondel.core.trail.watch import watch

_MOST_MEASURED = 50
"""Steps whose sizes are found at once, where nobody has looked at them yet."""


def trail(
    target: str, verb: str | None, words: Sequence[str], labelled: bool, as_json: bool
) -> None:
    """Show the trail, or change something about one of its steps."""
    with opened(target) as (database, found):
        if verb is None:
            if words:
                raise UsageProblem(f"{words[0]!r} is no verb of trail; see `jondel trail --help`")
            _show_trail(found, database, as_json)
            return
        if verb == "delete":
            _require(words, 1, None, "delete STEP...")
            try:
                found.delete([found.find(name) for name in words], protected_too=labelled)
            except SnapshotProtected as error:
                raise SnapshotProtected(f"{error}; give --labelled") from error
            return
        _require(words, 1, 2 if verb in ("label", "note") else 1, f"{verb} STEP")
        snapshot = found.find(words[0])
        text = words[1] if len(words) > 1 else ""
        if verb == "label":
            found.rename(snapshot, text or None)
        elif verb == "note":
            found.annotate(snapshot, text)
        else:
            found.pin(snapshot, verb == "pin")


def _require(words: Sequence[str], least: int, most: int | None, usage: str) -> None:
    if len(words) < least or (most is not None and len(words) > most):
        raise UsageProblem(f"give it as `jondel trail TARGET {usage}`")


def _show_trail(found: Trail, database: Database, as_json: bool) -> None:
    rules = rules_of(database)
    for step in [step for step in found.steps(rules) if not step.summary][-_MOST_MEASURED:]:
        with suppress(JondelError):  # a damaged snapshot is named where it is asked for
            found.step_changes(step, Scope(keep_records=0, noise=rules))
    steps = found.steps(rules)
    if as_json:
        tell(dumped({"target": database.location, "steps": [_step_json(step) for step in steps]}))
        return
    if not steps:
        say(f"{database.name}: nothing is recorded yet; take one with `jondel snapshot`")
    for step in steps:
        after = step.after
        when = after.taken_at.astimezone().strftime("%Y-%m-%d %H:%M:%S")
        size = step.summary.counts.marked() if step.summary else ""
        pin = "pinned" if after.pinned else ""
        tell(
            f"{after.id:<5} {when}  {after.label or '':<24} {after.trigger.text:<32} "
            f"{size:<12} {pin:<7} {line(after.note, 60) if after.note else ''}".rstrip()
        )


def _step_json(step: Step) -> dict[str, Any]:
    entry = {
        **end_json(step.after),
        "before": step.before and step.before.id,
        "note": step.after.note,
        "pinned": step.after.pinned,
    }
    if step.summary is not None:
        entry["changes"] = {
            "tables": {name: vars(counts) for name, counts in step.summary.tables.items()},
            "schema_changes": step.summary.schema_changes,
        }
    return entry


def restore_database(
    target: str, name: str, tables: Sequence[str], yes: bool, as_json: bool
) -> None:
    """Put a database, or some of its tables, back to a snapshot."""
    with opened(target) as (database, found):
        to = found.find(name)
        if not yes:
            only = frozenset(tables) if tables else None
            lost = found.changes(to, database, Scope(tables=only, keep_records=LISTED_RECORDS))
            say(f"restoring {to.title} will undo this:")
            print_changes(lost, rules_of(database))
        if confirmed(f"restore {database.name} to {to.title}?", yes):
            _tell_restored(restore(found, database, to, tables or None), as_json)
            make_room(found)


def take_back(
    target: str, name: str, table: str | None, key: Sequence[str], yes: bool, as_json: bool
) -> None:
    """Undo one step's changes, or one record's."""
    if (table is None) != (not key):
        raise UsageProblem("give --table and --key together; they name one record")
    with opened(target) as (database, found):
        snapshot = found.find(name)
        step = next(step for step in found.steps() if step.number == snapshot.number)
        if not yes:
            say(f"taking back {snapshot.title} will undo this:")
            only = frozenset({table}) if table else None
            scope = Scope(tables=only, keep_records=LISTED_RECORDS)
            if step.before is not None:
                print_changes(found.changes(step.before, step.after, scope), rules_of(database))
        if not confirmed(f"take back {snapshot.title} in {database.name}?", yes):
            return
        if table is None:
            done = take_back_step(found, database, step)
        elif step.before is None:
            raise UsageProblem(f"{snapshot.id}: the trail begins here; no step ends with it")
        else:
            ends = (step.before, step.after)
            done = take_back_record(found, database, ends, table, _has_key(key))
        _tell_restored(done, as_json)


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
        undone = {name: vars(counts) for name, counts in done.undone.tables.items()}
        tell(
            dumped(
                {
                    "before": end_json(done.before),
                    "after": end_json(done.after),
                    "undone": undone,
                    "schema_changes": done.undone.schema_changes,
                    "method": done.method,
                }
            )
        )
        return
    if done.before.number == done.after.number:
        tell("nothing to do")
        return
    for name, counts in done.undone.tables.items():
        tell(f"{line(name, 100)}  {counts.marked()} undone")
    say(f"the state before is kept as {done.before.id}; restore that to undo this")


def show_history(target: str, table: str, key: Sequence[str], as_json: bool) -> None:
    """Print the versions of one record over the trail."""
    with opened(target) as (database, found):
        known = database.schema().find(table)
        if known is None:
            raise TableNotFound(f"no table {table!r} in {database.name}; check its name")
        columns = known.primary_key or ("rowid",)
        if len(key) != len(columns):
            raise UsageProblem(f"the key of {known.name} is {', '.join(columns)}; give its values")
        values = _key_values(database, known, columns, key)
        versions = list(record_history(found, known.name, columns, values, database))
    if as_json:
        tell(dumped({"table": known.name, "versions": [_version_json(v) for v in versions]}))
        return
    if not versions:
        say(f"{known.name}: no record of this key over the trail")
    for version in versions:
        for text in _version_lines(version):
            tell(text)


def _key_values(
    database: Database, table: Table, columns: Sequence[str], words: Sequence[str]
) -> tuple[StoredValue, ...]:
    """Give the words of a key the storage class that the table's column gives them."""
    values: list[StoredValue] = []
    for name, word in zip(columns, words, strict=True):
        column = table.column(name)
        declared = column.declared_type.upper() if column else "INTEGER"
        number = word.lstrip("-").isdecimal()
        if number and "CHAR" not in declared and "TEXT" not in declared and "CLOB" not in declared:
            values.append(int(word))
        else:
            values.append(word)
    return tuple(values)


def _version_json(version: Version) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "step": end_json(version.snapshot) if version.snapshot else {"now": True},
        "kind": version.kind or "start",
    }
    if version.problem:
        entry["problem"] = version.problem
    elif version.kind == "changed":
        entry["cells"] = cells_json(version.cells)
    elif version.row is not None:
        entry["row"] = row_json(version.columns, version.row)
    return entry


def _version_lines(version: Version) -> list[str]:
    name = version.snapshot.id if version.snapshot else "now"
    title = version.snapshot.title if version.snapshot else "since the last snapshot"
    mark = MARKS[version.kind] if version.kind else " "
    head = f"{name:<5} {mark} {line(title, 40)}"
    if version.problem:
        return [f"{head}  {line(version.problem, 200)}"]
    if version.kind == "changed":
        return [head, *(f"        {cell_text(cell)}" for cell in version.cells)]
    if version.row is None:
        return [head]
    cells = zip(version.columns, version.row, strict=True)
    return [head, *(f"        {line(c, 60)}  {line(v, 60)}" for c, v in cells)]


def watch_database(target: str, settle: float | None, steps: int, as_json: bool) -> None:
    """Take a snapshot after every app action and print what it changed, until stopped."""
    stop = threading.Event()
    previous = {s: signal.signal(s, lambda *_: stop.set()) for s in (signal.SIGINT, signal.SIGTERM)}
    try:
        with opened(target) as (database, found):
            seconds = Project(database.location).settle_seconds() if settle is None else settle
            if not as_json:
                say(f"watching {database.name}; Ctrl-C stops")
            for number, ends in enumerate(
                watch(found, database, stop, seconds, _tell_trouble), start=1
            ):
                _tell_step(found, database, *ends, as_json)
                make_room(found)
                if number == steps:
                    break
    finally:
        for which, handler in previous.items():
            signal.signal(which, handler)


def _tell_trouble(error: TargetError | None) -> None:
    say(f"{error}; waiting" if error else "the database is there again")


def _tell_step(
    found: Trail, database: Database, before: Snapshot, after: Snapshot, as_json: bool
) -> None:
    rules = rules_of(database)
    step = next(step for step in found.steps() if step.number == after.number)
    if not as_json:
        tell(f"{after.id}  {after.taken_at.astimezone():%H:%M:%S}")
        print_changes(
            found.step_changes(step, Scope(keep_records=LISTED_RECORDS, noise=rules)), rules
        )
        sys.stdout.flush()
        return
    found.step_changes(step, Scope(keep_records=0, noise=rules))
    with found.both_sides(before, after) as sides:
        text = io.StringIO()
        write_changes(text, (before, after), sides, Scope(noise=rules))
    # Line breaks within values are escaped in JSON: those left are between its parts.
    tell(text.getvalue().replace("\n", ""))
    sys.stdout.flush()
