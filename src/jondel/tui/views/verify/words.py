"""What the Verify view says: its lines, of which each stands for an action or a finding."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

from jondel.core.browse.display import line, safe_name
from jondel.core.findings.finding import Finding
from jondel.core.reports.verdict_text import verdict_lines
from jondel.core.snapshots.action_runs import ActionRun
from jondel.core.verify.actions import Action, Request
from jondel.core.verify.verdict import Verdict
from jondel.tui.services.verifying import KnownPlan, StepKnowledge
from jondel.tui.widgets.part_lines import PartLine, Parts

_NAME_CELLS = 26
_WHAT_CELLS = 34
_RUNS_SHOWN = 10
_SIGNS = {True: ("✔ met", "added"), False: ("✘ NOT MET", "removed"), None: ("· ran", "dim")}
_NEVER = ("  not run", "dim")
_ANOTHER_STATE = (
    "Each run begins from what the one before left, and may rightly write another thing.",
    "E: have a snapshot restored first, so that the same is written each time.",
)
_HELP = (
    "No actions are known. An action is a saved way to make the app do something:",
    "",
    "+  writes one here: a command, an HTTP request, or what you do by hand",
    "   Enter on it takes a snapshot, runs it, waits, and takes another",
    "   Y then expects from now on what it wrote; further runs are held against that",
    "",
    "They are kept in jondel.toml. `jondel verify` runs them in CI.",
)


def list_lines(
    plan: KnownPlan,
    findings: Sequence[Finding] | None,
    findings_of: str,
    running: str,
    width: int,
) -> Iterator[PartLine]:
    """All lines of the list, in ``width`` cells.

    ``findings`` is None while they are looked for; ``findings_of`` says of what they are, and
    ``running`` is the action that runs now, with how far it is.
    """
    if plan.problem:
        short = plan.problem.replace(str(plan.path), plan.path.name)
        for text in textwrap.wrap(line(short, 1000), width):
            yield PartLine([(f" {text}", "removed")])
        yield PartLine([("", "plain")])
    if not plan.actions:
        for text in _HELP:
            yield PartLine([(f" {text}", "plain")])
    else:
        head = (
            f"{'action':<{_NAME_CELLS + 13}}{'runs, latest last':<{_RUNS_SHOWN + 12}}what it does"
        )
        yield PartLine([(head, "plain")], heading=True)
        for action in plan.actions:
            yield PartLine(_action_parts(plan, action, running), action)
    unused = [name for name in plan.expectations if not _is_used(plan, name)]
    if unused:
        yield PartLine([("", "plain")])
        yield PartLine([("expectations of no action", "plain")], heading=True)
        for name in unused:
            yield PartLine([(f" {safe_name(name)}", "plain")])
    yield PartLine([("", "plain")])
    count = "" if findings is None else f"  {len(findings) or 'none'}"
    yield PartLine([(f"findings {findings_of}{count}", "plain")], heading=True)
    for finding in findings or ():
        yield PartLine(_finding_parts(finding), finding)


def _is_used(plan: KnownPlan, name: str) -> bool:
    return any(action.expectation == name for action in plan.actions)


def _action_parts(plan: KnownPlan, action: Action, running: str) -> Parts:
    runs = plan.runs_of(action)
    sign, style = _SIGNS[runs[-1].met] if runs else _NEVER
    if runs and runs[-1].failure:
        sign, style = "✘ failed", "removed"
    if running.startswith(f"{action.name}\n"):
        sign, style = f"▸ {running.partition(chr(10))[2]}"[:11], "brass"
    name = safe_name(action.name)
    parts = [
        (f"{sign:<11} ", style),
        (f"{name[:_NAME_CELLS]:<{_NAME_CELLS}} ", "strong"),
    ]
    course = list(_course(runs))
    took = f"{runs[-1].seconds:.2f} s" if runs else ""
    parts += [(f"{' ' * (_RUNS_SHOWN - len(course))}", "dim"), *course, (f" {took:>9}  ", "dim")]
    begins = f"  from {line(action.start, 20)}" if action.start else ""
    return [*parts, (f"{line(_what(action), _WHAT_CELLS)}{begins}", "dim")]


def _what(action: Action) -> str:
    """What it does, in short: of a request where it goes on the app's own host."""
    if isinstance(action.way, Request):
        path = action.way.url.partition("://")[2] or action.way.url
        return f"{action.way.method} /{path.partition('/')[2]}"
    return action.way.what


def _course(runs: Sequence[ActionRun]) -> Iterator[tuple[str, str]]:
    """How an action went over time, the latest last."""
    for run in runs[-_RUNS_SHOWN:]:
        if run.met is None:
            yield "·", "dim"
        else:
            yield ("●", "added") if run.met else ("○", "removed")


def _finding_parts(finding: Finding) -> Parts:
    where = safe_name(finding.place) if finding.table is not None else "the step"
    key = " · ".join(line(part, 40) for part in finding.key)
    value = line(finding.value, 40) if finding.column else ""
    more = f"  and {finding.others} more" if finding.others else ""
    return [
        ("! ", "brass"),
        (f"{finding.kind:<18} ", "strong"),
        (f"{where} {key}".strip() + "  ", "plain"),
        (value, "sea"),
        (f"  {finding.sure:.0%}{more}", "dim"),
    ]


def detail_of_action(
    action: Action, plan: KnownPlan, knowledge: StepKnowledge | None, note: str
) -> Iterator[PartLine]:
    """What came of an action's last run, and in what it is not what was expected."""
    yield PartLine([(f"{safe_name(action.name)}", "plain")], heading=True)
    yield PartLine([(f" {line(action.way.what, 400)}", "dim")])
    runs = plan.runs_of(action)
    if note:
        yield PartLine([(f" {note}", "brass")])
    if not runs:
        yield PartLine([(" Enter runs it: what it writes becomes a step.", "plain")])
        return
    run = runs[-1]
    yield PartLine(_outcome_parts(run))
    if run.failure:
        yield PartLine([(f" failed: {line(run.failure, 400)}", "removed")])
    elif run.said:
        yield PartLine([(f" the app said: {line(run.said, 400)}", "plain")])
    if knowledge is not None and knowledge.transactions:
        yield PartLine([(f" {knowledge.transactions}", "dim")])
    if action.expectation not in plan.expectations:
        yield PartLine([("", "plain")])
        yield PartLine(
            [(" Nothing is expected of it yet. Y: from now on expect what it wrote.", "plain")]
        )
    elif knowledge is not None and knowledge.verdict is not None:
        yield from verdict_part_lines(knowledge.verdict)
        if not knowledge.verdict.met and not action.start:
            yield PartLine([("", "plain")])
            for words in _ANOTHER_STATE:
                yield PartLine([(f" {words}", "dim")])


def verdict_part_lines(verdict: Verdict) -> Iterator[PartLine]:
    """A step held against its expectation, line by line."""
    yield PartLine([("", "plain")])
    if verdict.met:
        yield PartLine([(" ✔ met: it wrote what is expected", "added")])
    else:
        yield PartLine([(f" ✘ not met: {line(verdict.summary, 400)}", "removed")])
    styles = {"met": "added", "differing": "changed", "missing": "removed", "unexpected": "removed"}
    for text in verdict_lines(verdict, met_too=True):
        word = text.split()[0] if text.split() else ""
        yield PartLine([(f" {text.rstrip()}", styles.get(word, "plain"))])


def _outcome_parts(run: ActionRun) -> Parts:
    when = run.began.astimezone().strftime("%Y-%m-%d %H:%M:%S")
    status = "" if run.status is None else f"  status {run.status}"
    step = "  its step was deleted" if run.number is None else f"  step s{run.number}"
    return [(f" last run {when}{status}  {run.seconds:.3f} s{step}", "dim")]


def detail_of_finding(finding: Finding) -> Iterator[PartLine]:
    """A finding with all that is known of it."""
    where = safe_name(finding.place) if finding.table is not None else "the step"
    yield PartLine([(f"{finding.kind} in {where}", "plain")], heading=True)
    key = ", ".join(
        f"{safe_name(name)} {line(value, 200)}"
        for name, value in zip(finding.key_columns, finding.key, strict=False)
    )
    if key:
        yield PartLine([(f" record {key}", "plain")])
    if finding.column:
        yield PartLine([(f" {safe_name(finding.column)} holds {line(finding.value, 400)}", "sea")])
    yield PartLine([(f" {line(finding.evidence, 1000)}", "plain")])
    more = f"; the same is true of {finding.others} more" if finding.others else ""
    yield PartLine([(f" {finding.sure:.0%} sure{more}", "dim")])
    yield PartLine([("", "plain")])
    lead = "Enter goes to the record · " if finding.key else ""
    yield PartLine([(f" {lead}z dismisses such findings here, with a reason", "dim")])
