"""The commands that write reports and draw charts."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from jondel.cli.output import counted, say, tell
from jondel.cli.problems import UsageProblem
from jondel.cli.showing import rules_of
from jondel.cli.target import Target, opened
from jondel.cli.verifying import report_form, write_text
from jondel.core.diff.compare import Scope
from jondel.core.errors import ExportFailed, SnapshotNotFound
from jondel.core.findings.looking import findings_of_recorded_step
from jondel.core.model.values import Value
from jondel.core.reports.charts import (
    Bars,
    Course,
    actions_over_runs,
    changes_over_steps,
    chart_lines,
    svg_of,
    values_before_and_after,
    write_chart,
)
from jondel.core.reports.masked import Masks, masked_columns
from jondel.core.reports.step_report import ReportedStep, step_report
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Step

_MOST_VALUES = 1_000_000


def report(target: str, start: str, end: str | None, output: str, masks: Sequence[str]) -> None:
    """Write a step, or a range of them, as a report."""
    form = report_form(output)
    with opened(target, logged=False) as given:
        steps = _steps(given, start, end)
        with given.trail.opened(steps[-1].after) as state:
            hidden = Masks(masked_columns(masks, [state.schema()]))
        chart = None
        if form == "html" and len(steps) > 1:
            chart = _chart_in_page(changes_over_steps(steps, given.name))
        reported = list(_reported(given, steps))
        write_text(output, step_report(form, given.name, reported, hidden, chart))
    say(f"{counted(len(steps), 'step')} in {output}")


def _chart_in_page(chart: Bars) -> tuple[Bars, str] | None:
    try:
        return chart, svg_of(chart)
    except ExportFailed as error:
        say(f"{error}; the report goes without")
        return None


def _steps(given: Target, start: str, end: str | None) -> list[Step]:
    """The steps from one to another, their sizes known."""
    trail, rules = given.trail, rules_of(given.location)
    first = trail.find(start)
    last = trail.find(end) if end is not None else first
    if last.number < first.number:
        first, last = last, first
    numbers = range(first.number, last.number + 1)
    for step in trail.steps(rules):
        if step.number in numbers and step.before is not None and step.summary is None:
            trail.step_changes(step, Scope(keep_records=0, noise=rules))
    found = [s for s in trail.steps(rules) if s.number in numbers and s.before is not None]
    if not found:
        raise SnapshotNotFound(f"{first.id}: the trail begins with it; it has no changes")
    return found


def _reported(given: Target, steps: Sequence[Step]) -> Iterator[ReportedStep]:
    trail, project = given.trail, Project(given.location)
    scope = Scope(noise=project.noise_rules(), inside=True, keep_records=5000)
    for step in steps:
        assert step.before is not None
        known = trail.transactions.of_step(step.number)
        yield ReportedStep(
            step,
            trail.changes(step.before, step.after, scope),
            trail.runs.of_step(step.number),
            known.words if known is not None else "",
            list(findings_of_recorded_step(trail, step.before, step.after, project)),
        )


def chart(target: str, what: str, output: str | None, step: str | None, column: str | None) -> None:
    """Draw a chart, to a file or in the terminal."""
    with opened(target, logged=False) as given:
        drawn = _chart_of(given, what, step, column)
    if output:
        write_chart(drawn, Path(output).expanduser())
        say(f"{drawn.title}: in {output}")
        return
    try:
        width = os.get_terminal_size(1).columns
    except OSError:
        width = 100
    for text in chart_lines(drawn, width):
        tell(text)


def _chart_of(given: Target, what: str, step: str | None, column: str | None) -> Bars | Course:
    trail = given.trail
    if what == "actions":
        runs = trail.runs.all()
        if not runs:
            raise SnapshotNotFound(f"{given.name}: no action has been run yet")
        return actions_over_runs(runs)
    if what == "changes":
        steps = _steps(given, trail.snapshots()[0].id, "last") if not trail.empty else []
        if not steps:
            raise SnapshotNotFound(f"{given.name}: nothing is recorded yet")
        return changes_over_steps(steps, given.name)
    if step is None or column is None:
        raise UsageProblem("column takes --step STEP and --column TABLE.COLUMN")
    (found,) = _steps(given, step, None)
    assert found.before is not None
    before, after = (_values(given, end, column) for end in (found.before, found.after))
    return values_before_and_after(column, before, after)


def _values(given: Target, end: object, column: str) -> list[Value]:
    name, _, of = column.rpartition(".")
    with given.trail.opened(end) as state:  # type: ignore[arg-type]
        table = state.schema().named(name)
        if table is None or table.column(of) is None:
            raise ExportFailed(f"there is no column {column}; name it as in bookings.total")
        order = table.position_columns or (of,)
        values: list[Value] = []
        for batch in state.scanner.stream_rows(table, [of], order, largest=1000):
            values += (row[0] for row in batch)
            if len(values) > _MOST_VALUES:
                raise ExportFailed(f"{table.title}: has too many rows for a chart")
    return values
