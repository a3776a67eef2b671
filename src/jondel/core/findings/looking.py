"""Looks for findings in a state, or in a step of a trail, with all that is known of it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import suppress

from jondel.core.browse.link_guesses import guessed_links
from jondel.core.browse.links import Link, all_links, declared_links
from jondel.core.diff.compare import Scope
from jondel.core.engines.protocol import Database
from jondel.core.errors import JondelError
from jondel.core.findings.finding import Finding
from jondel.core.findings.scanning import GoOn
from jondel.core.findings.search import Wanted, findings_in
from jondel.core.findings.step_search import StepStates, findings_of_step
from jondel.core.model.addresses import TableId
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail
from jondel.core.trail.transactions import changes_by_transaction

_MOST_RECORDS = 5000


def links_of(state: Database, project: Project) -> Mapping[Link, str]:
    """The links of a database, declared, guessed and decided, with how each is known."""
    schema = state.schema()
    return all_links(
        declared_links(schema),
        guessed_links(state, schema),
        project.link_decisions().resolved(schema),
    )


def findings_of(
    state: Database,
    project: Project,
    tables: Collection[TableId] | None = None,
    go_on: GoOn = lambda: None,
    told: Callable[[str], None] = lambda words: None,
) -> Iterator[Finding]:
    """What is suspicious in whole tables. Raises ``Cancelled``."""
    return findings_in(state, Wanted(links_of(state, project), tables, go_on, told))


def findings_of_recorded_step(
    trail: Trail,
    before: Snapshot,
    after: Snapshot,
    project: Project,
    opened: Callable[[Database], None] = lambda database: None,
) -> Iterator[Finding]:
    """What is suspicious in a step of a trail.

    Raises:
        Cancelled: it was interrupted.
        StoreUnavailable: a state cannot be opened.
    """
    scope = Scope(noise=project.noise_rules(), keep_records=_MOST_RECORDS)
    run = trail.runs.of_step(after.number)
    parts = []
    with suppress(JondelError):  # then nothing is known of its transactions
        parts = changes_by_transaction(trail, before, after, scope)
    with trail.opened(before) as one, trail.opened(after) as other:
        opened(one)
        opened(other)
        yield from findings_of_step(
            StepStates(
                one,
                other,
                trail.changes(before, after, scope, opened),
                links_of(other, project),
                trail.transactions.of_step(after.number),
                parts if len(parts) > 1 else (),
                run.failure if run is not None else "",
            )
        )
