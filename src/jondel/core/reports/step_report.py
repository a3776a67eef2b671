"""A step, or a range of steps, as a report: a page, Markdown or JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from jondel.core.browse.display import line, safe_name
from jondel.core.files.json_values import dumped
from jondel.core.findings.finding import Finding
from jondel.core.findings.findings_json import finding_words
from jondel.core.formats.changes_json import changes_json
from jondel.core.formats.changes_markdown import change_markdown, escaped
from jondel.core.formats.end_json import end_json
from jondel.core.model.changes import Changes
from jondel.core.reports.charts import Bars
from jondel.core.reports.masked import Masks
from jondel.core.reports.page import changes_html, figure, heading, page, paragraph
from jondel.core.snapshots.action_runs import ActionRun
from jondel.core.trail.trail import Step


class ReportedStep(NamedTuple):
    """A step with all that is reported of it."""

    step: Step
    changes: Changes
    run: ActionRun | None = None
    transactions: str = ""
    findings: Sequence[Finding] = ()


def step_report(
    form: str,
    database: str,
    steps: Sequence[ReportedStep],
    masks: Masks,
    chart: tuple[Bars, str] | None = None,
) -> str:
    """The report in a form: ``html``, ``markdown`` or ``json``; ``chart`` with its SVG."""
    steps = [
        reported._replace(
            changes=masks.changes(reported.changes),
            findings=[masks.finding(found, reported.changes) for found in reported.findings],
        )
        for reported in steps
    ]
    title = f"What was written to {database}"
    if form == "json":
        return dumped({"database": database, "steps": list(map(_json, steps))}) + "\n"
    if form == "markdown":
        return "\n".join(_markdown(title, steps)) + "\n"
    return page(title, _html(steps, chart))


def _title(reported: ReportedStep) -> str:
    after = reported.step.after
    title = "" if after.title == after.id else f" {line(after.title, 200)}"
    return f"{after.id}{title}"


def _about(reported: ReportedStep) -> Iterator[str]:
    after, run = reported.step.after, reported.run
    yield f"taken {after.taken_at:%Y-%m-%d %H:%M:%S} UTC"
    if after.note:
        yield line(after.note, 1000)
    if run is not None:
        outcome = f"failed: {line(run.failure, 400)}" if run.failure else line(run.said, 400)
        yield f"action {line(run.action, 100)}, {run.seconds:.3f} s: {outcome}"
        if run.verdict:
            yield f"expectation: {line(run.verdict, 400)}"
    if reported.transactions:
        yield reported.transactions
    yield from (f"finding: {finding_words(finding)}" for finding in reported.findings)


def _html(steps: Sequence[ReportedStep], chart: tuple[Bars, str] | None) -> Iterator[str]:
    if chart is not None:
        yield figure(chart[1], chart[0].title)
    for reported in steps:
        yield heading(_title(reported))
        for words in _about(reported):
            yield paragraph(words)
        yield from changes_html(reported.changes)


def _markdown(title: str, steps: Sequence[ReportedStep]) -> Iterator[str]:
    yield f"# {escaped(safe_name(title))}"
    for reported in steps:
        yield ""
        yield f"## {escaped(_title(reported))}"
        yield ""
        for words in _about(reported):
            yield f"- {escaped(words)}"
        yield from change_markdown(reported.changes)


def _json(reported: ReportedStep) -> dict[str, Any]:
    entry: dict[str, Any] = end_json(reported.step.after)
    run = reported.run
    if run is not None:
        entry["action"] = {
            "name": run.action,
            "seconds": run.seconds,
            "status": run.status,
            "said": run.said,
            "failure": run.failure,
            "verdict": run.verdict,
        }
    entry["findings"] = [finding_words(finding) for finding in reported.findings]
    return entry | changes_json(reported.changes)
