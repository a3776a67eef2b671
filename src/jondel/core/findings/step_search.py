"""Looks for suspicious data in what a step wrote, as it arrives."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from jondel.core.browse.display import line
from jondel.core.browse.links import Link
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, ReadError
from jondel.core.findings.check_constraints import violations
from jondel.core.findings.finding import Finding, Suspicion
from jondel.core.findings.links_search import pointing_at_nothing, unusual_targets
from jondel.core.findings.scanning import GoOn, key_of, sampled_profile
from jondel.core.findings.totals import wrong_totals
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes, RecordChange, TableChanges
from jondel.core.model.schema import Table
from jondel.core.model.transactions import Transactions
from jondel.core.model.values import Clipped, StoredValue, Value, clipped
from jondel.core.trail.transactions import TransactionChanges

_MOST_RECORDS = 2000
_LISTED = 3
_MOST_ROWS = 50_000
"""What is between tables is not looked for in larger ones while a step arrives."""
_FEWEST_ROWS = 8
_LARGEST_BYTES = 64 << 10

_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class StepStates:
    """A step to be looked at: its states and its changes, and what is known beside them."""

    before: Database
    after: Database
    changes: Changes
    links: Mapping[Link, str] = field(default_factory=dict)
    transactions: Transactions | None = None
    parts: Sequence[TransactionChanges] = ()
    """What came in which transaction, where that is known."""
    failure: str = ""
    """Why the action that made it failed, if it did."""
    go_on: GoOn = lambda: None


def findings_of_step(step: StepStates) -> Iterator[Finding]:
    """What is suspicious in a step, the likeliest first. What cannot be read is left out.

    Raises:
        Cancelled: one of the states was interrupted.
    """
    found: list[Finding] = list(_of_the_action(step))
    for table in step.changes.tables:
        step.go_on()
        declared = step.after.schema().by_id.get(table.table)
        if declared is None or declared.internal or not table.counts.total:
            continue
        try:
            found += _grouped(_of_table(step, table, declared))
            found += _links_of(step, table, declared)
        except Cancelled:
            raise
        except ReadError as error:
            _log.info("%s: not looked at: %s", table.table, error)
    try:
        found += _between_tables(step)
    except Cancelled:
        raise
    except ReadError as error:
        _log.info("links and totals: not looked at: %s", error)
    yield from sorted(found, key=lambda finding: -finding.sure)


def _of_the_action(step: StepStates) -> Iterator[Finding]:
    """What is suspicious about how it was written."""
    counts = step.changes.counts
    if step.failure and counts.total:
        left = ", ".join(f"{t.table} {t.counts.marked()}" for t in step.changes.tables)
        evidence = f"the action failed ({step.failure[:200]}) and left {left}"
        yield Finding("half done", None, "", (), (), None, evidence, 0.8)
    written = step.transactions
    if written is not None and written.count and step.changes.empty:
        evidence = f"{written.words} written, and everything is as it was before"
        yield Finding("nothing changed", None, "", (), (), None, evidence, 0.8)
    elif step.parts:
        empty = [part.number for part in step.parts if part.changes.empty]
        if empty:
            numbers = ", ".join(map(str, empty))
            evidence = f"transaction {numbers} of {len(step.parts)} wrote what was there already"
            yield Finding("nothing changed", None, "", (), (), None, evidence, 0.8)
    if written is not None:
        for table, key in list(written.unchanged)[:_LISTED]:
            declared = step.after.schema().by_id.get(table)
            columns = declared.primary_key if declared is not None else ()
            evidence = "the record was written with the values that it had"
            yield Finding("nothing changed", table, "", columns, key, None, evidence, 0.9)
    yield from _touched_twice(step.parts)


def _touched_twice(parts: Sequence[TransactionChanges]) -> Iterator[Finding]:
    first: dict[tuple[TableId, tuple[StoredValue, ...]], int] = {}
    told: set[tuple[TableId, tuple[StoredValue, ...]]] = set()
    for part in parts:
        for table in part.changes.tables:
            for record in table.records:
                key = table.table, record.key
                earlier = first.setdefault(key, part.number)
                if earlier != part.number and key not in told and len(told) < 20:
                    told.add(key)
                    evidence = f"written in transaction {earlier} and again in {part.number}"
                    yield Finding(
                        "touched twice",
                        table.table,
                        "",
                        table.key_columns,
                        record.key,
                        None,
                        evidence,
                        0.6,
                    )


def _of_table(step: StepStates, table: TableChanges, declared: Table) -> Iterator[Finding]:
    """What is suspicious in the cells that were written, beside what was there before."""
    usual = step.before.schema().by_id.get(table.table)
    profile = None
    if usual is not None and usual.column_names == declared.column_names:
        profile = sampled_profile(step.before, usual, key_of(step.before, usual))
    if profile is None or profile.rows < _FEWEST_ROWS:
        profile = sampled_profile(step.after, declared, key_of(step.after, declared))
    written = [record for record in table.records if record.kind != "removed"][:_MOST_RECORDS]
    for record in written:
        row = record.after or ()
        if len(row) != len(declared.columns):
            continue
        shown = tuple(clipped(value, _LARGEST_BYTES) for value in row)
        columns = frozenset(c.column for c in record.cells) if record.kind == "changed" else None
        for name, suspicion in profile.suspicions(shown, own=False, columns=columns):
            value = row[declared.column_names.index(name)]
            yield _finding(table, record, name, value, suspicion)
    by_key = {record.key: record for record in written}
    key = key_of(step.after, declared)
    for violation, suspicion in violations(step.after, declared, key, list(by_key)):
        if (violated := by_key.get(violation.key)) is not None:
            yield _finding(table, violated, violation.column, violation.value, suspicion)


def _finding(
    table: TableChanges, record: RecordChange, column: str, value: Value, suspicion: Suspicion
) -> Finding:
    return Finding(
        suspicion.kind,
        table.table,
        column,
        table.key_columns,
        record.key,
        value,
        suspicion.evidence,
        suspicion.sure,
    )


def _grouped(findings: Iterator[Finding]) -> Iterator[Finding]:
    """The first few of those that say the same of one column, and how many more there are."""
    groups: dict[tuple[str, str], list[Finding]] = {}
    for finding in findings:
        groups.setdefault((finding.kind, finding.column), []).append(finding)
    for group in groups.values():
        yield from group[: _LISTED - 1]
        if len(group) >= _LISTED:
            last = group[_LISTED - 1]
            yield Finding(**{**vars(last), "others": len(group) - _LISTED})


def _links_of(step: StepStates, table: TableChanges, declared: Table) -> Iterator[Finding]:
    """Records that were written and point at nothing, and others that do so now."""
    schema = step.after.schema()
    for link, standing in step.links.items():
        child, parent = schema.by_id.get(link.child), schema.by_id.get(link.parent)
        if child is None or parent is None or link.when is not None or parent.kind == "view":
            continue
        if link.child == table.table:
            yield from _points_at_nothing(step, link, standing, table, parent)
        if link.parent == table.table and child.kind != "view":
            yield from _left_behind(step, link, table, child)


def _points_at_nothing(
    step: StepStates, link: Link, standing: str, table: TableChanges, parent: Table
) -> Iterator[Finding]:
    lost: dict[tuple[StoredValue, ...], RecordChange] = {}
    for record in table.records[:_MOST_RECORDS]:
        if record.after is None:
            continue
        cells = dict(zip(table.columns_after, record.after, strict=True))
        changed = record.kind == "added" or any(c.column in link.columns for c in record.cells)
        key = tuple(cells.get(name) for name in link.columns)
        if not changed or None in key or any(isinstance(value, Clipped) for value in key):
            continue
        values: tuple[StoredValue, ...] = key  # type: ignore[assignment]
        if values in lost:
            continue
        if step.after.rows.find_position(parent, link.parent_columns, values) is None:
            lost[values] = record
    if not lost:
        return
    wanted = [(link, key) for key in lost]
    found = pointing_at_nothing(step.after, step.after.schema(), {link: standing}, values=wanted)
    for pointing in found:
        lost_key = tuple(pointing.cells.values())
        record, name = lost[lost_key], link.columns[0]
        yield _finding(table, record, name, lost_key[0], pointing.suspicion)


def _left_behind(
    step: StepStates, link: Link, table: TableChanges, child: Table
) -> Iterator[Finding]:
    """Records that point at one that was removed."""
    for record in table.records[:_MOST_RECORDS]:
        if record.kind != "removed" or record.before is None:
            continue
        cells = dict(zip(table.columns_before, record.before, strict=True))
        pointed = [
            (ours, cells.get(theirs))
            for ours, theirs in zip(link.columns, link.parent_columns, strict=True)
        ]
        if any(value is None or isinstance(value, Clipped) for _, value in pointed):
            continue
        wanted: tuple[tuple[str, StoredValue], ...] = tuple(pointed)  # type: ignore[arg-type]
        window = step.after.rows.matching_rows(child, wanted, 1)
        if (
            window.rows
            and step.after.rows.find_position(
                step.after.schema().by_id[link.parent],
                link.parent_columns,
                tuple(value for _, value in wanted),
            )
            is None
        ):
            number = step.after.rows.count_matching(child, wanted, most=1000)
            values = dict(zip(child.column_names, window.rows[0], strict=True))
            columns = child.primary_key
            key = tuple(values[name] for name in columns) or window.positions[0]
            name = line(wanted[0][1], 60)
            evidence = f"{table.table} {name}, which it points at, was removed"
            yield Finding(
                "points at nothing",
                child.id,
                link.columns[0],
                columns,
                key,  # type: ignore[arg-type]
                wanted[0][1],
                evidence,
                0.95,
                number - 1,
            )


def _between_tables(step: StepStates) -> Iterator[Finding]:
    """What does not fit to records of other tables, as far as these are small."""
    schema = step.after.schema()
    changed = {table.table: table for table in step.changes.tables if table.counts.total}
    links = [
        link
        for link in step.links
        if (link.child in changed or link.parent in changed)
        and all(
            (table := schema.by_id.get(of)) is not None
            and step.after.rows.measure(table, quick=True).rows <= _MOST_ROWS
            for of in (link.child, link.parent)
        )
    ]
    seen: set[tuple[TableId, StoredValue, str]] = set()
    for link, target, name, value, evidence in unusual_targets(
        step.after, schema, links, step.go_on
    ):
        owner = changed.get(link.parent) or changed.get(link.child)
        touched = _touched(changed, link)
        if owner is None or target not in touched or (link.parent, target, name) in seen:
            continue
        seen.add((link.parent, target, name))
        yield Finding(
            "rare value", link.parent, name, link.parent_columns, (target,), value, evidence, 0.85
        )
    for wrong in wrong_totals(step.after, schema, links, step.go_on):
        if any(
            wrong.key in _touched(changed, link) for link in links if link.parent == wrong.table.id
        ):
            yield Finding(
                "total",
                wrong.table.id,
                wrong.column,
                (wrong.key_column,),
                (wrong.key,),
                wrong.value,
                wrong.evidence,
                wrong.sure,
            )


def _touched(changed: Mapping[TableId, TableChanges], link: Link) -> set[Value]:
    """The keys of the parents that a step wrote, or whose children it did."""
    keys: set[Value] = set()
    for of, column in ((link.parent, link.parent_columns[0]), (link.child, link.columns[0])):
        table = changed.get(of)
        for record in table.records if table is not None else ():
            for columns, row in (
                (table.columns_before, record.before) if table else ((), None),
                (table.columns_after, record.after) if table else ((), None),
            ):
                if row is not None and column in columns:
                    keys.add(row[columns.index(column)])
    return keys
