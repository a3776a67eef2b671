"""What the commands do that look, take snapshots and compare."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from jondel.cli.output import counted, opened, say, tell, warn_unread
from jondel.core.diff.compare import Scope, compare
from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.errors import ActionFailed, TableNotFound
from jondel.core.formats.changes_json import end_json, write_changes
from jondel.core.formats.changes_text import change_lines
from jondel.core.keeping.json_values import dumped
from jondel.core.model.changes import Changes
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.project import Project
from jondel.core.trail.trail import NOW, Trail, check_label

LISTED_RECORDS = 100


def open_target(target: str | None, read_only: bool = False) -> None:
    """Open the interface."""
    from jondel.cli.interface import open_target as open_it

    open_it(target, read_only=read_only)


def open_demo(fresh: bool, clock: str | None) -> None:
    """Open the demo."""
    from jondel.cli.interface import open_demo as open_it

    open_it(fresh=fresh, clock=clock)


def find_databases(folder: Path, as_json: bool) -> None:
    """Print the databases below a folder."""
    from jondel.core.browse.display import line, size_text
    from jondel.core.engines.finder import find_in

    found = find_in(folder)
    if as_json:
        tell(dumped([{"path": str(f.path), "bytes": f.size} for f in found]))
        return
    for entry in found:
        tell(f"{line(str(entry.path), 1000)}  {size_text(entry.size)}")
    if not found:
        say(f"{folder}: no SQLite database found here")


def take_snapshot(target: str, label: str | None, as_json: bool) -> None:
    """Take a snapshot and print its label or id."""
    with opened(target) as (database, trail):
        taken = trail.take(database, label)
        tell(dumped(end_json(taken)) if as_json else taken.label or taken.id)
        make_room(trail)


def make_room(trail: Trail) -> None:
    """Keep the store within its budget, and say what went for that."""
    gone, still_over = trail.keep_within_budget()
    for snapshot in gone:
        say(f"snapshot {snapshot.id} of {snapshot.taken_at:%Y-%m-%d} went to make room")
    if still_over:
        say(
            "the store is larger than its budget, and what is left has a label or a pin or is "
            "the latest: delete some (`jondel trail`) or raise it (`jondel store budget`)"
        )


def show_changes(
    target: str,
    start: str,
    end: str,
    tables: Sequence[str],
    internal: bool,
    noise: bool,
    limit: int,
    as_json: bool,
) -> None:
    """Print what changed from one end to another."""
    with opened(target) as (database, trail):
        ends = tuple(database if name == NOW else trail.find(name) for name in (start, end))
        before, after = ends
        rules = rules_of(database, noise)
        with trail.both_sides(before, after) as sides:
            if sides is None and tables:
                with trail.both_sides(before, database) as both:
                    _require_tables(both or (database, database), tables)
            _show(before, after, sides, _scope(tables, internal, limit, rules), as_json)


def compare_files(
    one: str,
    other: str,
    tables: Sequence[str],
    internal: bool,
    noise: bool,
    limit: int,
    as_json: bool,
) -> None:
    """Print how one database differs from another."""
    from jondel.core.trail.two_files import two_files

    with closing(open_database(one)) as before, closing(open_database(other)) as after:
        rules = rules_of(after, noise)
        with two_files(before, after) as sides:
            _show(before, after, sides, _scope(tables, internal, limit, rules), as_json)


def rules_of(database: Database, noise: bool = False) -> NoiseRules:
    """The noise rules of a database's project; none where noise is wanted."""
    return NoiseRules() if noise else Project(database.location).noise_rules()


def _scope(tables: Sequence[str], internal: bool, limit: int, rules: NoiseRules) -> Scope:
    only = frozenset(tables) if tables else None
    return Scope(internal, only, limit or None, noise=rules)


def _show(
    before: Snapshot | Database,
    after: Snapshot | Database,
    sides: tuple[Database, Database] | None,
    scope: Scope,
    as_json: bool,
) -> None:
    if sides is not None:
        _require_tables(sides, scope.tables or ())
    if as_json:
        warn_unread(write_changes(sys.stdout, (before, after), sides, scope))
    else:
        print_changes(compare(*sides, scope) if sides else Changes(), scope.noise)


def _require_tables(
    sides: tuple[Database, Database], names: Sequence[str] | frozenset[str]
) -> None:
    """Raise ``TableNotFound`` for a name that is on neither side."""
    known = {table.name for side in sides for table in side.schema().tables}
    for name in sorted(names):
        if name not in known:
            shown = ", ".join(sorted(known)[:12])
            raise TableNotFound(f"no table {name!r} on either side; there are: {shown}")


def print_changes(changes: Changes, rules: NoiseRules) -> None:
    """Print changes as text, and say what noise rules hid."""
    for text in change_lines(changes):
        tell(text)
    if changes.hidden:
        say(
            f"hidden by noise rules: {counted(changes.hidden, 'record')}, by "
            f"{counted(len(rules.listed()), 'rule')}; --noise shows them"
        )
    warn_unread(changes.unread)


def record_command(target: str, command: Sequence[str], label: str | None, as_json: bool) -> int:
    """Record a command as a step and return its exit status."""
    from jondel.cli.problems import UsageProblem

    if not command:
        raise UsageProblem("no command given; as in `jondel record app.db -- ./book-berth`")
    words = " ".join(command)
    trigger = Trigger("command", words if words.isprintable() else repr(words))
    with opened(target) as (database, trail):
        if label is not None:
            check_label(label)
            trail.require_free(label)
        if shutil.which(command[0]) is None:
            raise ActionFailed(f"{command[0]}: command not found; check its name")
        before = trail.take_unless_unchanged(database, Trigger("command", f"before {trigger.text}"))
        status = _run(command, quiet=as_json)
        after = trail.take(database, label, trigger)
        _show_step(trail, database, before, after, as_json)
        make_room(trail)
    return status


def _show_step(
    trail: Trail, database: Database, before: Snapshot, after: Snapshot, as_json: bool
) -> None:
    rules = rules_of(database)
    if as_json:
        with trail.both_sides(before, after) as sides:
            warn_unread(write_changes(sys.stdout, (before, after), sides, Scope(noise=rules)))
            return
    step = next(step for step in trail.steps() if step.number == after.number)
    scope = Scope(keep_records=LISTED_RECORDS, noise=rules)
    print_changes(trail.step_changes(step, scope), rules)


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


def run_query(target: str, sql: str, form: str, at: str | None, as_json: bool) -> None:
    """Run a statement on the database, or on a snapshot of it, and print the rows."""
    from jondel.core.formats.result_text import as_csv, as_table
    from jondel.core.formats.result_text import as_json as json_of
    from jondel.core.trail.asking import ask

    with opened(target) as (database, trail):
        result = ask(trail, database, sql, None if at in (None, NOW) else at)
    writers = {"table": as_table, "json": json_of, "csv": as_csv}
    for text in writers["json" if as_json else form](result):
        tell(text)
