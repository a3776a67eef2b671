"""What the commands do that need no interface."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path

import typer

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import ActionFailed, TableNotFound
from jondel.core.formats.changes_json import end_json, write_changes
from jondel.core.formats.changes_text import change_lines
from jondel.core.formats.json_values import dumped
from jondel.core.model.changes import Changes, Unread
from jondel.core.snapshots.store import Snapshot, Trigger
from jondel.core.trail.trail import NOW, Trail, check_label

_LISTED_RECORDS = 100


@contextmanager
def _opened(target: str) -> Iterator[tuple[Database, Trail]]:
    with closing(open_database(target)) as database:
        for notice in database.notices:
            _say(f"{database.name}: {notice}")
        with closing(Trail(database.location)) as trail:
            yield database, trail


def _say(message: str) -> None:
    from jondel.core.browse.display import line

    typer.echo(f"jondel: {line(message, 2000)}", err=True)


def find_databases(folder: Path, as_json: bool) -> None:
    """Print the databases below a folder."""
    from jondel.core.browse.display import line, size_text
    from jondel.core.engines.finder import find_in

    found = find_in(folder)
    if as_json:
        typer.echo(dumped([{"path": str(f.path), "bytes": f.size} for f in found]))
        return
    for entry in found:
        typer.echo(f"{line(str(entry.path), 1000)}  {size_text(entry.size)}")
    if not found:
        _say(f"{folder}: no SQLite database found here")


def take_snapshot(target: str, label: str | None, as_json: bool) -> None:
    """Take a snapshot and print its label or id."""
    with _opened(target) as (database, trail):
        taken = trail.take(database, label)
        typer.echo(dumped(end_json(taken)) if as_json else taken.label or taken.id)


def show_trail(target: str, as_json: bool) -> None:
    """Print the recorded steps, oldest first."""
    with _opened(target) as (database, trail):
        steps = trail.steps()
        if as_json:
            entries = []
            for step in steps:
                entry = {**end_json(step.after), "before": step.before and step.before.id}
                if step.summary is not None:
                    entry["changes"] = {
                        "tables": {name: vars(c) for name, c in step.summary.tables.items()},
                        "schema_changes": step.summary.schema_changes,
                    }
                entries.append(entry)
            typer.echo(dumped({"target": database.location, "steps": entries}))
            return
        if not steps:
            _say(f"{database.name}: nothing is recorded yet; take one with `jondel snapshot`")
        for step in steps:
            after = step.after
            when = after.taken_at.astimezone().strftime("%Y-%m-%d %H:%M:%S")
            size = step.summary.counts.marked() if step.summary else ""
            label = after.label or ""
            typer.echo(
                f"{after.id:<5} {when}  {label:<24} {after.trigger.text:<32} {size}".rstrip()
            )


def show_changes(
    target: str,
    start: str,
    end: str,
    tables: Sequence[str],
    internal: bool,
    limit: int,
    as_json: bool,
) -> None:
    """Print what changed from one end to another."""
    with _opened(target) as (database, trail):
        before = trail.find(start)
        after = database if end == NOW else trail.find(end)
        with trail.both_sides(before, after) as sides:
            if tables:
                _require_tables(trail, before, sides, tables)
            scope = Scope(internal, frozenset(tables) if tables else None, limit or None)
            if as_json:
                _warn_unread(write_changes(sys.stdout, (before, after), sides, scope))
            else:
                _print_changes(compare(*sides, scope) if sides else Changes())


def _require_tables(
    trail: Trail, before: Snapshot, sides: tuple[Database, Database] | None, names: Sequence[str]
) -> None:
    """Raise ``TableNotFound`` for a name that is on neither side."""
    if sides is None:
        with closing(trail.open(before)) as image:
            _require_tables(trail, before, (image, image), names)
        return
    known = {table.name for side in sides for table in side.schema().tables}
    for name in names:
        if name not in known:
            shown = ", ".join(sorted(known)[:12])
            raise TableNotFound(f"no table {name!r} on either side; there are: {shown}")


def _print_changes(changes: Changes) -> None:
    for text in change_lines(changes):
        typer.echo(text)
    _warn_unread(changes.unread)


def _warn_unread(unread: Sequence[Unread]) -> None:
    for entry in unread:
        _say(f"not compared: {entry.reason}")


def record_command(target: str, command: Sequence[str], label: str | None, as_json: bool) -> int:
    """Record a command as a step and return its exit status."""
    words = " ".join(command)
    trigger = Trigger("command", words if words.isprintable() else repr(words))
    with _opened(target) as (database, trail):
        if label is not None:
            check_label(label)
            trail.require_free(label)
        if shutil.which(command[0]) is None:
            raise ActionFailed(f"{command[0]}: command not found; check its name")
        before = trail.take_unless_unchanged(database, Trigger("command", f"before {trigger.text}"))
        status = _run(command, quiet=as_json)
        after = trail.take(database, label, trigger)
        _show_step(trail, before, after, as_json)
    return status


def _show_step(trail: Trail, before: Snapshot, after: Snapshot, as_json: bool) -> None:
    step = next(step for step in trail.steps() if step.number == after.number)
    with trail.both_sides(before, after) as sides:
        if as_json:
            _warn_unread(write_changes(sys.stdout, (before, after), sides, Scope()))
            return
    _print_changes(trail.step_changes(step, Scope(keep_records=_LISTED_RECORDS)))


def _run(command: Sequence[str], *, quiet: bool) -> int:
    """Run a command; ``quiet`` keeps its output off stdout, which is for JSON alone."""
    try:
        running = subprocess.Popen(command, stdout=sys.stderr if quiet else None)
    except OSError as error:
        raise ActionFailed(f"{command[0]}: cannot be run ({error.strerror})") from None
    # Ctrl-C reaches the command too; wait for it so that what it wrote is still recorded.
    previous = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        status = running.wait()
    finally:
        signal.signal(signal.SIGINT, previous)
    return 128 - status if status < 0 else status


def run_query(target: str, sql: str, form: str, at: str | None) -> None:
    """Run a statement on the database, or on a snapshot of it, and print the rows."""
    from jondel.core.formats.result_text import as_csv, as_json, as_table

    with _opened(target) as (database, trail):
        if at is None or at == NOW:
            result = database.execute(sql)
        else:
            with closing(trail.open(trail.find(at))) as image:
                result = image.execute(sql)
    for text in {"table": as_table, "json": as_json, "csv": as_csv}[form](result):
        typer.echo(text)
