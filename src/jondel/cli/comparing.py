"""The commands that compare two states, or two files."""

from __future__ import annotations

from contextlib import closing

from jondel.cli.output import warn_unread, whole_document
from jondel.cli.showing import Showing, print_changes, rules_of
from jondel.cli.tables import tables_called
from jondel.cli.target import opened
from jondel.core.diff.compare import compare
from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.find.connections import target_named
from jondel.core.formats.changes_json import write_changes
from jondel.core.model.changes import Changes
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import NOW


def show_changes(target: str, start: str, end: str, lock: bool, showing: Showing) -> int:
    """Print what changed from one end to another."""
    with opened(target, lock=lock) as given:
        trail = given.trail
        before, after = (
            given.database if name == NOW else trail.find(name) for name in (start, end)
        )
        rules = rules_of(given.location, showing.noise)
        with trail.both_sides(before, after) as sides:
            if sides is None and showing.tables:
                with trail.opened(after) as state:
                    tables_called(showing.tables, [state])
            return _show(before, after, sides, rules, showing)


def compare_files(one: str, other: str, lock: bool, showing: Showing) -> int:
    """Print how one database differs from another."""
    from jondel.core.trail.two_databases import two_files

    with (
        closing(open_database(target_named(one), lock=lock)) as before,
        closing(open_database(target_named(other), lock=lock)) as after,
    ):
        rules = rules_of(after.location, showing.noise)
        with two_files(before, after) as sides:
            return _show(before, after, sides, rules, showing)


def _show(
    before: Snapshot | Database,
    after: Snapshot | Database,
    sides: tuple[Database, Database] | None,
    rules: NoiseRules,
    showing: Showing,
) -> int:
    named = showing.tables and sides is not None
    scope = showing.scope(rules, tables_called(showing.tables, sides or ()) if named else None)
    if showing.form == "json":
        with whole_document() as out:
            written = write_changes(out, (before, after), sides, scope)
        warn_unread(written.unread)
        return showing.status(written.any)
    changes = compare(*sides, scope) if sides else Changes()
    print_changes(changes, scope.noise, showing.form)
    return showing.status(not changes.empty)
