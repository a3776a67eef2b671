"""The command that runs a statement."""

from __future__ import annotations

import sys

from jondel.cli.output import tell, tell_exactly
from jondel.cli.target import opened
from jondel.core.trail.trail import NOW


def run_query(target: str, sql: str, form: str, at: str | None, lock: bool, as_json: bool) -> None:
    """Run a statement on the database, or on a snapshot of it, and print the rows."""
    from jondel.core.formats.result_text import as_csv, as_markdown, as_table
    from jondel.core.formats.result_text import as_json as json_of
    from jondel.core.trail.step_statements import run_at

    with opened(target, lock=lock, logged=False) as given:
        at = None if at == NOW else at
        result = run_at(given.trail, lambda: given.database, sql, at)
    form = "json" if as_json else form
    if form in ("text", "table", "markdown"):
        whole = not sys.stdout.isatty()
        lines = as_markdown(result) if form == "markdown" else as_table(result, whole=whole)
        for text in lines:
            tell(text)
        return
    for text in json_of(result) if form == "json" else as_csv(result):
        tell_exactly(text)
