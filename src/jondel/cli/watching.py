"""The command that records everything an app does."""

from __future__ import annotations

import io
import signal
import sys
import threading
from functools import partial

from jondel.cli.making_room import make_room
from jondel.cli.output import say, tell
from jondel.cli.showing import CHANGED, LISTED_RECORDS, print_changes, rules_of
from jondel.cli.target import opened
from jondel.core.diff.compare import Scope
from jondel.core.errors import (
    TargetError,
)
from jondel.core.formats.changes_json import write_changes
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail
from jondel.core.trail.watch import watch


def watch_database(
    target: str,
    settle: float | None,
    longest: float | None,
    steps: int,
    lock: bool,
    exit_code: bool,
    as_json: bool,
) -> int:
    """Take a snapshot after every app action and print what it changed, until stopped."""
    changed = False
    stop = threading.Event()
    previous = {s: signal.signal(s, lambda *_: stop.set()) for s in (signal.SIGINT, signal.SIGTERM)}
    try:
        with opened(target, lock=lock) as given:
            trail, database = given.trail, given.database
            times = Project(database.location).watch_times()
            times = times._replace(
                settle=times.settle if settle is None else settle,
                longest=times.longest if longest is None else longest,
            )
            if not as_json:
                say(f"watching {database.name}; Ctrl-C stops")
            steps_taken = watch(
                trail, database, stop, times, _tell_trouble, partial(rules_of, given.location)
            )
            for number, ends in enumerate(steps_taken, start=1):
                changed |= _tell_step(trail, given.location, *ends, as_json)
                make_room(trail)
                if number == steps:
                    break
    finally:
        for which, handler in previous.items():
            signal.signal(which, handler)
    return CHANGED if changed and exit_code else 0


def _tell_trouble(error: TargetError | None) -> None:
    say(f"{error}; waiting" if error else "the database is there again")


def _tell_step(
    trail: Trail, location: str, before: Snapshot, after: Snapshot, as_json: bool
) -> bool:
    """Say what a step changed; returns whether anything did."""
    rules = rules_of(location)
    step = next(step for step in trail.steps() if step.number == after.number)
    if not as_json:
        tell(f"{after.id}  {after.taken_at.astimezone():%H:%M:%S}")
        scope = Scope(keep_records=LISTED_RECORDS, inside=True, noise=rules)
        changes = trail.step_changes(step, scope)
        print_changes(changes, rules)
        sys.stdout.flush()
        return not changes.empty
    trail.step_changes(step, Scope(keep_records=0, noise=rules))
    with trail.both_sides(before, after) as sides:
        text = io.StringIO()
        written = write_changes(text, (before, after), sides, Scope(noise=rules))
    # Line breaks within values are escaped in JSON: those left are between its parts.
    tell(text.getvalue().replace("\n", ""))
    sys.stdout.flush()
    return written.any
