"""The command that shows the trail and tends it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from jondel.cli.output import say, tell
from jondel.cli.problems import UsageProblem
from jondel.cli.showing import rules_of
from jondel.cli.target import opened
from jondel.core.browse.display import line
from jondel.core.diff.compare import Scope
from jondel.core.engines.registry import location_of
from jondel.core.errors import (
    JondelError,
    SnapshotNotFound,
    SnapshotProtected,
)
from jondel.core.files.json_values import dumped
from jondel.core.formats.end_json import end_json
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.snapshots.store import Store
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Step, Trail

_MOST_MEASURED = 50
"""Steps whose sizes are found at once, where nobody has looked at them yet."""


def trail(
    target: str, verb: str | None, words: Sequence[str], labelled: bool, as_json: bool
) -> None:
    """Show the trail, or change something about one of its steps."""
    if verb == "adopt":
        _require(words, 1, 1, "adopt PATH")
        Store().take_over(location_of(target), location_of(words[0]))
        return
    with opened(target, logged=False) as given:
        trail = given.trail
        if verb is None:
            if words:
                raise UsageProblem(
                    f"{words[0]!r} is not a subcommand of trail; see `jondel trail --help`"
                )
            _show_trail(trail, given.location, as_json)
            return
        if verb == "delete":
            _require(words, 1, None, "delete STEP...")
            try:
                trail.delete([trail.find(name) for name in words], protected_too=labelled)
            except SnapshotProtected as error:
                raise SnapshotProtected(f"{error}; give --labelled") from error
            return
        if verb == "export":
            _require(words, 2, 2, "export STEP FILE")
            trail.export(trail.find(words[0]), Path(words[1]))
            return
        _require(words, 1, 2 if verb in ("label", "note") else 1, f"{verb} STEP")
        snapshot = trail.find(words[0])
        if verb == "transactions":
            _show_transactions(trail, given.location, snapshot)
            return
        text = words[1] if len(words) > 1 else ""
        if verb == "label":
            trail.rename(snapshot, text or None)
        elif verb == "note":
            trail.annotate(snapshot, text)
        else:
            trail.pin(snapshot, verb == "pin")


def _show_transactions(trail: Trail, location: str, snapshot: Snapshot) -> None:
    """Print what a step wrote, transaction by transaction."""
    from jondel.core.formats.changes_text import change_lines
    from jondel.core.trail.transactions import changes_by_transaction, crossings
    from jondel.core.verify.run import knowledge_of

    step = next(step for step in trail.steps() if step.number == snapshot.number)
    known = trail.transactions.of_step(step.number)
    if known is None or step.before is None:
        raise SnapshotNotFound(
            f"{snapshot.id}: its transactions were not observed; those of actions and of "
            "`jondel record` are"
        )
    tell(f"{snapshot.id}: {known.words}")
    scope = Scope(noise=rules_of(location), inside=True)
    parts = changes_by_transaction(trail, step.before, step.after, scope)
    for part in parts:
        written_by_none = bool(known.records) and part.number > len(known.records)
        title = "not told by the server" if written_by_none else f"transaction {part.number}"
        tell(f"\n{title}")
        for text in change_lines(part.changes):
            tell(f"  {text}")
    if len(parts) > 1:
        with trail.opened(step.after) as after:
            links = knowledge_of(Project(location), after, "").links
        for words in crossings(parts, links):
            tell(f"\n{words}")


def _require(words: Sequence[str], least: int, most: int | None, usage: str) -> None:
    if len(words) < least or (most is not None and len(words) > most):
        raise UsageProblem(f"give it as `jondel trail TARGET {usage}`")


def _show_trail(trail: Trail, location: str, as_json: bool) -> None:
    rules = rules_of(location)
    for step in [step for step in trail.steps(rules) if not step.summary][-_MOST_MEASURED:]:
        with suppress(JondelError):  # a damaged snapshot is named where it is asked for
            trail.step_changes(step, Scope(keep_records=0, noise=rules))
    steps = trail.steps(rules)
    if as_json:
        tell(dumped({"target": location, "steps": [_step_json(step) for step in steps]}))
        return
    if not steps:
        say(f"{location}: nothing is recorded yet; take one with `jondel snapshot`")
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
            "tables": {str(table): vars(counts) for table, counts in step.summary.tables.items()},
            "schema_changes": step.summary.schema_changes,
        }
    return entry
