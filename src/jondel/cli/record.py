"""The command that records another one as a step."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from datetime import UTC, datetime

from jondel.cli.making_room import make_room
from jondel.cli.output import say, warn_unread, whole_document
from jondel.cli.recording import Recording
from jondel.cli.running import run_command
from jondel.cli.showing import Showing, print_changes, rules_of
from jondel.cli.target import Target, opened
from jondel.core.errors import ActionFailed
from jondel.core.formats.changes_json import write_changes
from jondel.core.snapshots.catalogue import Snapshot, Trigger

_NOT_MET = 3


def record_command(
    target: str,
    command: Sequence[str],
    label: str | None,
    lock: bool,
    expect: str | None,
    accept: bool,
    showing: Showing,
) -> int:
    """Record a command as a step; returns its exit status, or 3 where it did not write what is
    expected."""
    from jondel.cli.problems import UsageProblem

    if not command:
        raise UsageProblem("no command given; as in `jondel record app.db -- ./book-berth`")
    if accept and expect is None:
        raise UsageProblem("--accept goes with --expect NAME")
    words = " ".join(command)
    trigger = Trigger("command", words if words.isprintable() else repr(words))
    with opened(target, lock=lock, may_be_missing=True) as given:
        recording = Recording(given, label, trigger)
        if shutil.which(command[0]) is None:
            raise ActionFailed(f"{command[0]}: command not found; check its name")
        recording.begin()
        began = datetime.now(UTC)
        status = run_command(command, quiet=showing.form == "json")
        ends = recording.end()
        if ends is None:
            say(f"{given.name}: there is no database after the command either")
            return status
        changed = _show_step(given, recording, *ends, showing)
        met = True
        if expect is not None:
            met = _held_against(given, recording, ends, (expect, words, began), accept=accept)
        make_room(given.trail)
    return status or (showing.status(changed) if met else _NOT_MET)


def _held_against(
    given: Target,
    recording: Recording,
    ends: tuple[Snapshot, Snapshot],
    what: tuple[str, str, datetime],
    *,
    accept: bool,
) -> bool:
    """Hold the step against its expectation, or make one of it where there is none yet."""
    from jondel.core.diff.compare import Scope
    from jondel.core.reports.verdict_text import verdict_lines
    from jondel.core.trail.project import Project
    from jondel.core.verify.acceptance import Seen
    from jondel.core.verify.acceptance import accept as accepted
    from jondel.core.verify.matchers import Setting
    from jondel.core.verify.matching import hold_against
    from jondel.core.verify.plan_file import PlanFile
    from jondel.core.verify.run import knowledge_of

    name, words, began = what
    project = Project(given.location)
    file = PlanFile(project)
    changes = given.trail.changes(*ends, Scope(noise=project.noise_rules()))
    setting = Setting(began, datetime.now(UTC))
    expectation = file.read().expectations.get(name)
    if expectation is None or accept:
        with given.trail.opened(ends[1]) as after:
            knowledge = knowledge_of(project, after, words)
        made = accepted(name, Seen(changes, setting), knowledge)
        path = file.keep_expectation(made.expectation)
        say(f"{name}: accepted, in {path}; from now on this is what is expected")
        return True
    verdict = hold_against(expectation, changes, setting, recording.transactions)
    say(f"{name}: {verdict.summary}")
    if not verdict.met:
        for line in verdict_lines(verdict):
            say(line)
    return verdict.met


def _show_step(
    given: Target, recording: Recording, before: Snapshot, after: Snapshot, showing: Showing
) -> bool:
    """Show what a step changed; returns whether anything did."""
    trail, scope = given.trail, showing.scope(rules_of(given.location))
    transactions = recording.transactions
    if showing.form == "json":
        more = {} if transactions is None else {"transactions": transactions.count}
        with trail.both_sides(before, after) as sides, whole_document() as out:
            written = write_changes(out, (before, after), sides, scope, more)
        warn_unread(written.unread)
        return written.any
    step = next(step for step in trail.steps() if step.number == after.number)
    changes = trail.step_changes(step, scope)
    print_changes(changes, scope.noise, showing.form)
    if transactions is not None and transactions.count != 1 and not changes.empty:
        say(transactions.words)
        if transactions.count is not None and transactions.exact:
            say(f"`jondel trail TARGET transactions {after.id}` shows them one by one")
    return not changes.empty
