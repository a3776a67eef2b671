"""A verify run as a report: a page, Markdown or JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from jondel.core.browse.display import line
from jondel.core.files.json_values import dumped
from jondel.core.findings.finding import Finding
from jondel.core.findings.findings_json import finding_words
from jondel.core.formats.changes_markdown import (
    change_markdown,
    escaped,
    markdown_row,
    markdown_rule,
)
from jondel.core.reports.page import (
    changes_html,
    heading,
    page,
    paragraph,
    preformatted,
    table,
)
from jondel.core.reports.verdict_text import verdict_lines
from jondel.core.reports.verify_json import result_json
from jondel.core.verify.run import ActionResult

_HEADS = ("action", "what came of it", "step", "seconds", "transactions")


def verify_report(
    form: str,
    database: str,
    results: Sequence[ActionResult],
    findings: Sequence[Sequence[Finding]] = (),
) -> str:
    """The report in a form: ``html``, ``markdown`` or ``json``; ``findings`` are each result's."""
    words = [list(map(finding_words, found)) for found in findings] or [[]] * len(results)
    if form == "json":
        entries = [
            entry | {"findings": found}
            for entry, found in zip(map(result_json, results), words, strict=True)
        ]
        return dumped({"actions": entries}) + "\n"
    title = f"What was verified on {database}"
    if form == "markdown":
        return "\n".join(_markdown(title, results, words)) + "\n"
    return page(title, _html(results, words))


def _when(results: Sequence[ActionResult]) -> str:
    times = [result.step.setting.began for result in results if result.step is not None]
    began = min(times, default=datetime.now(UTC))
    met = sum(result.met is True for result in results)
    unmet = sum(result.met is False for result in results)
    return f"{began:%Y-%m-%d %H:%M:%S} UTC: {met} met, {unmet} not met of {len(results)} runs"


def _row(result: ActionResult) -> tuple[str, ...]:
    step = result.step
    turn = f" ({result.turn})" if result.action.repeat > 1 else ""
    transactions = step.transactions if step is not None else None
    return (
        line(result.action.name, 200) + turn,
        line(result.summary, 400),
        step.after.id if step is not None else "",
        f"{step.outcome.seconds:.3f}" if step is not None else "",
        "" if transactions is None or transactions.count is None else str(transactions.count),
    )


def _html(results: Sequence[ActionResult], findings: Sequence[list[str]]) -> Iterator[str]:
    yield paragraph(_when(results))
    yield from table(_HEADS, map(_row, results))
    for result, found in zip(results, findings, strict=True):
        kind = {True: "met", False: "not", None: ""}[result.met]
        yield heading(line(result.action.name, 200))
        yield paragraph(line(result.summary, 1000), kind)
        if result.verdict is not None and not result.verdict.met:
            yield preformatted(verdict_lines(result.verdict))
        if result.step is not None and result.step.outcome.output.strip():
            yield preformatted(_shown_output(result))
        for words in found:
            yield paragraph(f"finding: {words}")
        if result.changes is not None:
            yield from changes_html(result.changes)


def _markdown(
    title: str, results: Sequence[ActionResult], findings: Sequence[list[str]]
) -> Iterator[str]:
    yield f"# {escaped(title)}"
    yield ""
    yield escaped(_when(results))
    yield ""
    yield markdown_row(_HEADS)
    yield markdown_rule(len(_HEADS))
    for result in results:
        yield markdown_row(_row(result))
    for result, found in zip(results, findings, strict=True):
        yield ""
        yield f"## {escaped(line(result.action.name, 200))}"
        yield ""
        yield escaped(line(result.summary, 1000))
        if result.verdict is not None and not result.verdict.met:
            yield ""
            for words in verdict_lines(result.verdict):
                yield f"    {words}"
        if found:
            yield ""
            yield from (f"- finding: {escaped(words)}" for words in found)
        if result.changes is not None:
            yield from change_markdown(result.changes)


def _shown_output(result: ActionResult) -> Iterator[str]:
    assert result.step is not None
    for words in result.step.outcome.output.splitlines()[:40]:
        yield line(words, 400)
