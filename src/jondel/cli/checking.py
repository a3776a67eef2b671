"""The command that checks the SQL in an app's source."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

from jondel.cli.output import counted, say, tell, tell_exactly
from jondel.cli.showing import CHANGED
from jondel.cli.target import opened
from jondel.core.engines.registry import dialect_of
from jondel.core.query.source_check import SourceReport, check_sources
from jondel.core.trail.trail import NOW

_LISTED = 20


def check_sql(target: str, words: Sequence[str], at: str | None, lock: bool, as_json: bool) -> int:
    """Print what is wrong with the SQL in source files."""
    at = None if at == NOW else at
    with opened(target, lock=lock, logged=False) as given, ExitStack() as stack:
        if at is None:
            database = given.database
        else:
            database = stack.enter_context(given.trail.opened(given.trail.find(at)))
        dialect = dialect_of(given.location if at is None else None)
        report = check_sources([Path(word) for word in words], database, dialect)
    if as_json:
        _print_json(report)
    else:
        _print_text(report)
    return CHANGED if report.problems else 0


def _print_json(report: SourceReport) -> None:
    from jondel.core.files.json_values import dumped

    document = {
        "files": report.files,
        "statements": report.statements,
        "not_followed": [entry._asdict() for entry in report.not_followed],
        "problems": [
            {
                "file": problem.file,
                "line": problem.line,
                "kind": problem.kind,
                "name": problem.name,
                "message": problem.message,
                "nearest": problem.nearest or None,
            }
            for problem in report.problems
        ],
    }
    tell_exactly(dumped(document))


def _print_text(report: SourceReport) -> None:
    for problem in report.problems:
        tell(f"{problem.file}:{problem.line}: {problem.words}")
    for entry in report.not_followed[:_LISTED]:
        say(f"not followed: {entry.file}:{entry.line}: {entry.why}")
    left = len(report.not_followed) - _LISTED
    if left > 0:
        say(f"and {left} more that are not followed; --json lists them all")
    statements = counted(report.statements, "statement")
    say(
        f"{statements} checked in {counted(report.files, 'file')}, "
        f"{len(report.not_followed)} not followed, {counted(len(report.problems), 'problem')}"
    )
