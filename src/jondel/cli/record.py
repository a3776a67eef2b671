"""The command that records another one as a step."""

from __future__ import annotations

import shutil
from collections.abc import Sequence

from jondel.cli.making_room import make_room
from jondel.cli.output import say, warn_unread, whole_document
from jondel.cli.running import run_command
from jondel.cli.showing import Showing, print_changes, rules_of
from jondel.cli.target import opened
from jondel.core.errors import ActionFailed
from jondel.core.formats.changes_json import write_changes
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.trail import Trail


def record_command(
    target: str, command: Sequence[str], label: str | None, lock: bool, showing: Showing
) -> int:
    """Record a command as a step; returns its exit status."""
    from jondel.cli.problems import UsageProblem
    from jondel.cli.recording import Recording

    if not command:
        raise UsageProblem("no command given; as in `jondel record app.db -- ./book-berth`")
    words = " ".join(command)
    trigger = Trigger("command", words if words.isprintable() else repr(words))
    with opened(target, lock=lock, may_be_missing=True) as given:
        recording = Recording(given, label, trigger)
        if shutil.which(command[0]) is None:
            raise ActionFailed(f"{command[0]}: command not found; check its name")
        recording.begin()
        status = run_command(command, quiet=showing.form == "json")
        ends = recording.end()
        if ends is None:
            say(f"{given.name}: there is no database after the command either")
            return status
        changed = _show_step(given.trail, given.location, *ends, showing)
        make_room(given.trail)
    return status or showing.status(changed)


def _show_step(
    trail: Trail, location: str, before: Snapshot, after: Snapshot, showing: Showing
) -> bool:
    """Show what a step changed; returns whether anything did."""
    scope = showing.scope(rules_of(location))
    if showing.form == "json":
        with trail.both_sides(before, after) as sides, whole_document() as out:
            written = write_changes(out, (before, after), sides, scope)
        warn_unread(written.unread)
        return written.any
    step = next(step for step in trail.steps() if step.number == after.number)
    changes = trail.step_changes(step, scope)
    print_changes(changes, scope.noise, showing.form)
    return not changes.empty
