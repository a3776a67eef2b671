"""Makes an expectation of what a step was seen to write."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from jondel.core.browse.links import Link
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeKind, Changes, NoValue, RecordChange, TableChanges
from jondel.core.model.schema import Column, Schema
from jondel.core.model.values import Value
from jondel.core.verify.candidates import KINDS, cells_by_name
from jondel.core.verify.digests import digest_of, digested_cells
from jondel.core.verify.expectation import (
    Count,
    Expectation,
    ExpectedRecord,
    ExpectedTable,
)
from jondel.core.verify.matchers import (
    Digest,
    Exactly,
    FromTo,
    Matcher,
    NearNow,
    SameAs,
    Setting,
    Whatever,
    instants,
)
from jondel.core.verify.matching import hold_against
from jondel.core.verify.varying import anything_like, exactly, matcher_of
from jondel.core.verify.verdict import Verdict

_MOST_IN_WORDS = 20
"""Of more records of a kind in one table a digest is kept, and what their cells are like."""
_MOST_ROUNDS = 20
_SLACK_SECONDS = 60.0

Cells = tuple[tuple[str, Matcher], ...]


@dataclass(frozen=True)
class Seen:
    """A step that was seen: its changes, and when it was."""

    changes: Changes
    setting: Setting


@dataclass(frozen=True)
class Knowledge:
    """What helps to tell what varies: the schema after the step, the links between tables, the
    words of the action, and the columns that a person says vary."""

    schema: Schema
    links: Sequence[Link] = ()
    given: str = ""
    varying: Collection[tuple[TableId, str]] = ()


class Accepted(NamedTuple):
    """An expectation, and what could not be expected of the same action each time, in words."""

    expectation: Expectation
    restless: tuple[str, ...] = ()


def accept(
    name: str,
    seen: Seen,
    knowledge: Knowledge,
    again: Iterable[Seen] = (),
    transactions: int | None = None,
) -> Accepted:
    """Make an expectation that a step meets, and others that do the same.

    ``again`` are steps of the same action from the same state: what differs in them varies.
    """
    making = _Making(seen, knowledge)
    expectation = Expectation(
        name,
        tuple(making.table(table) for table in seen.changes.tables if table.counts.total),
        None if transactions is None else Count(transactions, transactions),
        tuple(f"{change.kind}: {change.object}" for change in seen.changes.schema_changes),
    )
    restless: list[str] = []
    for other in again:
        expectation, problem = _loosened(expectation, other, knowledge)
        if problem and problem not in restless:
            restless.append(problem)
    return Accepted(expectation, tuple(restless))


class _Making:
    def __init__(self, seen: Seen, knowledge: Knowledge) -> None:
        self._seen = seen
        self._knowledge = knowledge
        self._added = self._added_by_key()
        self._names: dict[int, str] = {}
        self._name_referenced()

    def table(self, table: TableChanges) -> ExpectedTable:
        """What is expected of a table's records."""
        records: list[ExpectedRecord] = []
        counts: dict[ChangeKind, Count] = {}
        for kind in KINDS:
            found = [record for record in table.records if record.kind == kind]
            if len(found) < getattr(table.counts, kind):
                number = getattr(table.counts, kind)
                counts[kind] = Count(number, number)
            elif len(found) > _MOST_IN_WORDS:
                records += self._digested(table, found)
            else:
                records += [self._record(table, record) for record in found]
        return ExpectedTable(table.table, tuple(records), counts)

    def _record(self, table: TableChanges, record: RecordChange) -> ExpectedRecord:
        name = self._names.get(id(record), "")
        if record.kind == "changed":
            key = zip(table.key_columns, map(Exactly, record.key), strict=True)
            cells = [
                (cell.column, self._changed(table, record, cell.column, cell.before, cell.after))
                for cell in record.cells
            ]
            return ExpectedRecord("changed", tuple(key), tuple(cells), name)
        if record.kind == "removed":
            row = zip(table.columns_before, record.before or (), strict=True)
            removed = tuple((column, exactly(value)) for column, value in row)
            return ExpectedRecord("removed", (), removed, name)
        row = zip(table.columns_after, record.after or (), strict=True)
        added = tuple((c, self._cell(table, record, c, value)) for c, value in row)
        return ExpectedRecord("added", (), added, name)

    def _changed(
        self,
        table: TableChanges,
        record: RecordChange,
        column: str,
        before: Value | NoValue,
        after: Value,
    ) -> Matcher:
        now = self._cell(table, record, column, after)
        return now if isinstance(before, NoValue) else FromTo(exactly(before), now)

    def _cell(self, table: TableChanges, record: RecordChange, name: str, value: Value) -> Matcher:
        column = _column(self._knowledge.schema, table.table, name)
        if (table.table, name) in self._knowledge.varying:
            return anything_like(value, column, self._seen.setting)
        pointed = self._pointed(table, record, name)
        if pointed is not None and id(pointed) in self._names:
            target = self._target(table, name, pointed)
            if target is not None:
                return SameAs(self._names[id(pointed)], target)
        if record.kind == "added" and self._is_new_key(table, name, value):
            return Whatever("integer")
        return matcher_of(value, column, self._seen.setting, self._knowledge.given)

    def _is_new_key(self, table: TableChanges, name: str, value: Value) -> bool:
        """Whether it is a number that the engine gave to a new record."""
        declared = self._knowledge.schema.find(table.table)
        if declared is None or not isinstance(value, int):
            return False
        column = declared.column(name)
        if column is not None and column.numbered:
            return True
        return declared.primary_key == (name,) and str(value) not in self._knowledge.given.split()

    def _digested(
        self, table: TableChanges, records: list[RecordChange]
    ) -> Iterator[ExpectedRecord]:
        """Many records: what their cells are like, and a digest of those that do not vary."""
        alike: dict[tuple[str, ...], list[RecordChange]] = defaultdict(list)
        for record in records:
            alike[tuple(cell.column for cell in record.cells)].append(record)
        for group in alike.values():
            in_words = [self._record(table, record) for record in group]
            cells = _common(in_words, self._seen.setting)
            wanted = ExpectedRecord(
                group[0].kind, (), cells, "", Count(len(group), len(group)), "-"
            )
            rows = [digested_cells(table, wanted, record) for record in group]
            yield replace(wanted, digest=digest_of(rows))

    # What points at what was added

    def _added_by_key(self) -> dict[tuple[TableId, str, object], RecordChange]:
        """Added records by what may point at them: a table, a column and its value."""
        parents = {(link.parent, link.parent_columns) for link in self._knowledge.links}
        found: dict[tuple[TableId, str, object], RecordChange] = {}
        for table in self._seen.changes.tables:
            for parent, columns in parents:
                if parent != table.table or len(columns) != 1:
                    continue
                for record in table.records[:_MOST_IN_WORDS]:
                    value = cells_by_name(table, record).get(columns[0])
                    if record.kind == "added" and value is not None:
                        found[parent, columns[0], (type(value), value)] = record
        return found

    def _name_referenced(self) -> None:
        """Give a name to each added record that another one points at."""
        names: dict[str, int] = defaultdict(int)
        tables = {
            id(record): table for table in self._seen.changes.tables for record in table.records
        }
        for table in self._seen.changes.tables:
            for record in table.records[:_MOST_IN_WORDS]:
                for column in _written(table, record):
                    pointed = self._pointed(table, record, column)
                    if pointed is None or id(pointed) in self._names or pointed is record:
                        continue
                    owner = tables[id(pointed)]
                    if owner.counts.added > _MOST_IN_WORDS:
                        continue
                    names[owner.table.name] += 1
                    number = names[owner.table.name]
                    self._names[id(pointed)] = (
                        owner.table.name if number == 1 else f"{owner.table.name} {number}"
                    )

    def _pointed(
        self, table: TableChanges, record: RecordChange, column: str
    ) -> RecordChange | None:
        """The record that was added in the step and that a cell points at."""
        value = cells_by_name(table, record).get(column)
        if value is None or record.kind == "removed":
            return None
        for link in self._knowledge.links:
            if link.child == table.table and link.columns == (column,):
                key = link.parent, link.parent_columns[0], (type(value), value)
                pointed = self._added.get(key)
                if pointed is not None and pointed is not record:
                    return pointed
        return None

    def _target(self, table: TableChanges, column: str, pointed: RecordChange) -> str | None:
        for link in self._knowledge.links:
            if link.child == table.table and link.columns == (column,):
                for key, record in self._added.items():
                    if record is pointed and key[:2] == (link.parent, link.parent_columns[0]):
                        return key[1]
        return None


def _written(table: TableChanges, record: RecordChange) -> Iterator[str]:
    """The columns that were written in a record."""
    if record.kind == "added":
        yield from table.columns_after
    elif record.kind == "changed":
        yield from (cell.column for cell in record.cells)


def _column(schema: Schema, table: TableId, name: str) -> Column:
    declared = schema.find(table)
    column = declared.column(name) if declared is not None else None
    return column or Column(name)


def _common(records: Sequence[ExpectedRecord], setting: Setting) -> Cells:
    """What the varying cells of many records have in common."""
    cells: list[tuple[str, Matcher]] = []
    for place, (name, _) in enumerate(records[0].cells):
        matchers = [record.cells[place][1] for record in records]
        common = _one_for_all(matchers, setting)
        if common is not None:
            cells.append((name, common))
    return tuple(cells)


def _one_for_all(matchers: Sequence[Matcher], setting: Setting) -> Matcher | None:
    """One that is met by whatever meets any of them; None where all are exact."""
    after = [m.after if isinstance(m, FromTo) else m for m in matchers]
    if all(isinstance(matcher, Exactly | Digest) for matcher in after):
        return None
    first = after[0]
    if all(matcher == first for matcher in after):
        return first
    near = next((matcher for matcher in after if isinstance(matcher, NearNow)), None)
    return (near and _wide_enough(near, after, setting)) or Whatever()


def _wide_enough(near: NearNow, matchers: Sequence[Matcher], setting: Setting) -> Matcher | None:
    """A time near now that is met by all of some; None where they are no times of one form."""
    furthest = near.seconds
    for matcher in matchers:
        if isinstance(matcher, NearNow) and matcher.kind == near.kind:
            furthest = max(furthest, matcher.seconds + abs(matcher.after))
        elif isinstance(matcher, Exactly) and (times := instants(matcher.value, near.kind)):
            away = min(abs((time - setting.began).total_seconds()) for time in times)
            furthest = max(furthest, away + _SLACK_SECONDS)
        else:
            return None
    wide = replace(near, seconds=math.ceil(furthest / 60) * 60.0, after=0)
    exact = [matcher.value for matcher in matchers if isinstance(matcher, Exactly)]
    return wide if all(wide.met_by(value, setting) for value in exact) else None


# What was seen to vary


def _loosened(
    expectation: Expectation, other: Seen, knowledge: Knowledge
) -> tuple[Expectation, str]:
    """An expectation that another step meets too; and what keeps it from that, in words."""
    for _ in range(_MOST_ROUNDS):
        verdict = hold_against(expectation, other.changes, other.setting)
        if not _rows_wrong(verdict):
            return expectation, ""
        looser = _loosen_cells(expectation, verdict, other, knowledge)
        if looser == expectation:
            return expectation, f"another run of it wrote something else: {verdict.summary}"
        expectation = looser
    return expectation, "it wrote something else each time"


def _rows_wrong(verdict: Verdict) -> bool:
    return bool(verdict.differing or verdict.missing or verdict.unexpected or verdict.counts)


def _loosen_cells(
    expectation: Expectation, verdict: Verdict, other: Seen, knowledge: Knowledge
) -> Expectation:
    tables = list(expectation.tables)
    for differing in verdict.differing:
        for place, table in enumerate(tables):
            if table.table != differing.table or differing.wanted not in table.records:
                continue
            at = table.records.index(differing.wanted)
            looser = differing.wanted
            for cell in differing.cells:
                if not isinstance(cell.found, NoValue):
                    column = _column(knowledge.schema, table.table, cell.column)
                    looser = _loosen(looser, cell.column, cell.found, column, other.setting)
            records = (*table.records[:at], looser, *table.records[at + 1 :])
            tables[place] = replace(table, records=records)
            break
    return replace(expectation, tables=tuple(tables))


def _loosen(
    record: ExpectedRecord, name: str, value: Value, column: Column, setting: Setting
) -> ExpectedRecord:
    def looser(cells: Cells) -> Cells:
        return tuple((c, _looser(m, value, column, setting) if c == name else m) for c, m in cells)

    if record.kind == "changed" and name not in {c for c, _ in record.cells}:
        return record  # another cell changed: that is another thing to do, not another value
    return replace(record, key=looser(record.key), cells=looser(record.cells))


def _looser(matcher: Matcher, value: Value, column: Column, setting: Setting) -> Matcher:
    """One that this value meets too."""
    if isinstance(matcher, FromTo):
        if not matcher.after.met_by(value, setting):
            return replace(matcher, after=_looser(matcher.after, value, column, setting))
        return matcher.after  # what was there before varies
    wanted = anything_like(value, column, setting)
    if isinstance(matcher, Exactly) and isinstance(wanted, Whatever):
        seen = anything_like(matcher.value, column, setting)
        return seen if seen == wanted else Whatever()
    return wanted if not isinstance(matcher, Whatever) else Whatever()


def varies(matcher: Matcher) -> bool:
    """Whether it is met by more than one value."""
    if isinstance(matcher, FromTo):
        return varies(matcher.after)
    return not isinstance(matcher, Exactly | Digest)
