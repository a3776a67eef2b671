"""Runs a script for real, and records what it wrote as a step."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from typing import NamedTuple

from jondel.core.engines.needed import commits_of, scripts_of
from jondel.core.engines.protocol import CommitMark, Database
from jondel.core.errors import JondelError, SnapshotError, TargetBusy
from jondel.core.model.outcomes import ResultSink, ScriptOutcome, ScriptStatement
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.trail import Trail

_log = logging.getLogger(__name__)
_BEFORE = Trigger("query", "before a script")
_LONGEST_WORDS = 80


class WrittenScript(NamedTuple):
    """What a script came to, and the number of the step that it made.

    None where there is no such step; ``why`` says why not.
    """

    outcome: ScriptOutcome
    step: int | None
    why: str = ""


def write_script(
    trail: Trail | None,
    database: Database,
    statements: Sequence[ScriptStatement],
    sink_for: Callable[[int], ResultSink | None],
    *,
    foreign_keys: bool = True,
    since: CommitMark | None = None,
    on_begin: Callable[[], None] = lambda: None,
) -> WrittenScript:
    """Run a script for real.

    ``since``: how far the database was when the script was tried out. ``on_begin`` is called when
    the snapshot before it is taken.

    Raises:
        RecordsMovedOn: something was committed since; nothing was run.
        WriteError, TargetError: it could not be begun.
    """
    runner = scripts_of(database)
    problem = "" if trail is not None else "the trail cannot be used"
    before: Snapshot | None = None
    with ExitStack() as stack:
        if trail is not None:
            try:
                before = stack.enter_context(trail.before_writing(database, _BEFORE))
            except SnapshotError as error:
                problem = str(error)
            except TargetBusy as error:
                raise TargetBusy(f"{error}; nothing was written") from error
        on_begin()
        outcome = runner.run(statements, sink_for, foreign_keys=foreign_keys, since=since)
    _log.info("%s: a script of %s statements", database.name, len(statements))
    if trail is None or before is None:
        return WrittenScript(outcome, None, problem)
    try:
        written_at = commits_of(database).mark(exact=True)
        after = trail.take_unless_unchanged(database, Trigger("query", words_of(statements)))
        if commits_of(database).moved_since(written_at):
            problem = "the app wrote at the same time"
    except JondelError as error:  # it is written all the same
        return WrittenScript(outcome, None, f"it is no step: {error}")
    return WrittenScript(outcome, after.number if after.number != before.number else None, problem)


def words_of(statements: Sequence[ScriptStatement]) -> str:
    """A script in a few words, as the trail says it."""
    bulk = next((entry for entry in statements if entry.rows is not None), None)
    if bulk is not None:
        return bulk.text.removeprefix("-- ")
    first = " ".join(statements[0].text.split()) if statements else ""
    more = f" … {len(statements)} statements" if len(statements) > 1 else ""
    if len(first) > _LONGEST_WORDS:
        first = f"{first[:_LONGEST_WORDS].rstrip()} …"
    return first + more
