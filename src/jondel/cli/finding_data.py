"""The command that looks for suspicious data."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack

from jondel.cli.output import counted, say, tell
from jondel.cli.showing import CHANGED
from jondel.cli.tables import tables_called
from jondel.cli.target import Target, opened
from jondel.core.engines.protocol import Database
from jondel.core.errors import SnapshotNotFound
from jondel.core.files.json_values import dumped
from jondel.core.files.toml_entries import TomlFile
from jondel.core.findings.dismissals import (
    Dismissal,
    dismiss,
    dismissals_in,
    without_dismissed,
)
from jondel.core.findings.finding import FINDING_KINDS, Finding
from jondel.core.findings.findings_json import finding_words, findings_json
from jondel.core.findings.looking import findings_of, findings_of_recorded_step
from jondel.core.trail.project import Project


def find(
    target: str,
    step: str | None,
    tables: Sequence[str],
    lock: bool,
    dismissed: Sequence[str] | None,
    reason: str | None,
    exit_code: bool,
    as_json: bool,
) -> int:
    """Print what is suspicious in a database, or in what one step wrote."""
    from jondel.cli.problems import UsageProblem

    with opened(target, lock=lock) as given:
        project = Project(given.location)
        if dismissed is not None:
            kind, where = dismissed
            if kind not in FINDING_KINDS:
                raise UsageProblem(f"{kind!r} is none of {', '.join(FINDING_KINDS)}")
            path = dismiss(project, Dismissal(kind, where, reason or ""))
            say(f"{kind} in {where}: dismissed, in {path}")
            return 0
        with ExitStack() as stack:
            state, found = _found(given, project, step, tables, stack)
            dismissals = dismissals_in(TomlFile(project.file))
            shown = list(without_dismissed(found, dismissals))
            hidden = len(found) - len(shown)
            if as_json:
                tell(dumped(findings_json(shown, state.schema())))
            else:
                for finding in shown:
                    tell(finding_words(finding))
    if not as_json:
        say(counted(len(shown), "finding"))
    if hidden:
        say(f"{counted(hidden, 'finding')} not shown: dismissed in {project.file}")
    return CHANGED if shown and exit_code else 0


def _found(
    given: Target, project: Project, step: str | None, tables: Sequence[str], stack: ExitStack
) -> tuple[Database, list[Finding]]:
    trail = given.trail
    if step is None:
        state, _ = stack.enter_context(trail.now(given.database))
        only = tables_called(tables, [state]) if tables else None
        return state, list(findings_of(state, project, only))
    snapshot = trail.find(step)
    whole = next(s for s in trail.steps() if s.number == snapshot.number)
    if whole.before is None:
        raise SnapshotNotFound(f"{snapshot.id}: the trail begins with it; it has no changes")
    state = stack.enter_context(trail.opened(snapshot))
    found = list(findings_of_recorded_step(trail, whole.before, snapshot, project))
    if tables:
        only = tables_called(tables, [state])
        found = [finding for finding in found if finding.table in only]
    return state, found
