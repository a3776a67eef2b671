"""Holds the changes of a step against an expectation."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import islice
from typing import NamedTuple

from jondel.core.model.changes import ChangeCounts, Changes, TableChanges
from jondel.core.model.transactions import Transactions
from jondel.core.verify.assignment import assigned
from jondel.core.verify.bindings import Bindings
from jondel.core.verify.candidates import (
    Candidates,
    Group,
    groups,
    has_other_key,
    mismatches,
)
from jondel.core.verify.digests import digest_of, digested_cells
from jondel.core.verify.expectation import Count, Expectation, ExpectedRecord
from jondel.core.verify.matchers import Setting
from jondel.core.verify.verdict import (
    Differing,
    Found,
    Met,
    Mismatch,
    Missing,
    Unexpected,
    Verdict,
    WrongCount,
)

_MOST_WAYS = 50
_MOST_LISTED = 200
"""Of the records that nobody expected, so many are listed for each table."""
_MOST_COMPARED = 300
"""So many are compared with each other to find which come nearest."""


def hold_against(
    expectation: Expectation,
    changes: Changes,
    setting: Setting,
    transactions: Transactions | None = None,
) -> Verdict:
    """Hold the changes of a step against what is expected of it.

    ``transactions`` are those it was written in, None where nothing is known of them.
    """
    problems = [*_schema_problems(expectation, changes), *_not_compared(changes)]
    wanted = expectation.transactions
    if wanted is not None:
        problems += _transaction_problems(transactions, wanted)
    return _Held(expectation, changes, setting).verdict(problems)


_Pair = tuple[ExpectedRecord, int | None]
"""A place for an expected record, and the one that is in it."""


class _Way(NamedTuple):
    """One way to see it: which records bear the names, and by group what is paired with what."""

    setting: Setting
    pairs: list[list[_Pair]]

    @property
    def unfilled(self) -> int:
        return sum(found is None for pairs in self.pairs for _, found in pairs)


class _Held:
    def __init__(self, expectation: Expectation, changes: Changes, setting: Setting) -> None:
        self._expectation = expectation
        self._setting = setting
        self._groups: list[Group] = []
        self._not_mentioned: list[TableChanges] = []
        seen: set[int] = set()
        for table in changes.tables:
            expected = expectation.table(table.table)
            if expected is not None:
                seen.add(id(expected))
                self._groups += groups(table, expected)
            elif table.counts.total:
                self._not_mentioned.append(table)
        for expected in expectation.tables:
            if id(expected) not in seen:
                nothing = TableChanges("", expected.table, (), False, (), (), (), ChangeCounts())
                self._groups += groups(nothing, expected)
        self._candidates = [Candidates(group) for group in self._groups]

    def verdict(self, problems: list[str]) -> Verdict:
        way = self._best_way()
        verdict = Verdict(self._expectation.name, problems=tuple(problems))
        for group, pairs in zip(self._groups, way.pairs, strict=True):
            verdict = _with(verdict, self._of_group(group, pairs, way.setting))
        for table in self._not_mentioned:
            listed = table.records[:_MOST_LISTED]
            unexpected = tuple(Unexpected(Found(table, record)) for record in listed)
            more = table.counts.total - len(listed)
            verdict = _with(verdict, Verdict("", unexpected=unexpected, more_unexpected=more))
        return verdict

    def _best_way(self) -> _Way:
        """The way to see it in which most of what is expected is there."""
        best: _Way | None = None
        ways = Bindings(self._groups, self._candidates, self._setting).ways()
        for named in islice(ways, _MOST_WAYS):
            way = self._paired(replace(self._setting, named=named))
            if best is None or way.unfilled < best.unfilled:
                best = way
            if not best.unfilled:
                break
        assert best is not None, "there is always a way"
        return best

    def _paired(self, setting: Setting) -> _Way:
        pairs: list[list[_Pair]] = []
        for group, candidates in zip(self._groups, self._candidates, strict=True):
            suits = {id(wanted): candidates.of(wanted, setting) for wanted in group.wanted}
            needed: list[ExpectedRecord] = []
            possible: list[ExpectedRecord] = []
            for wanted in group.wanted:
                least, most = wanted.times
                room = len(group.found) if most is None else most - least
                needed += [wanted] * min(least, len(group.found) + 1)
                possible += [wanted] * min(room, len(group.found))
            slots = [*needed, *possible]
            right = assigned([suits[id(wanted)] for wanted in slots])
            filled = list(zip(slots, right, strict=True))
            rest = [pair for pair in filled[len(needed) :] if pair[1] is not None]
            pairs.append([*filled[: len(needed)], *rest])
        return _Way(setting, pairs)

    def _of_group(self, group: Group, pairs: list[_Pair], setting: Setting) -> Verdict:
        taken = {found for _, found in pairs if found is not None}
        left = [place for place in range(len(group.found)) if place not in taken]
        absent = [wanted for wanted, found in pairs if found is None]
        nearest = _nearest(group, absent, left, setting)
        for wanted, place, _ in nearest:
            absent.remove(wanted)
            left.remove(place)
        unexpected = left if _too_many(group) else []
        problems = list(_wrong_digests(group, pairs))
        if group.number > len(group.found) and not group.expected.anything:
            problems.append(
                f"{group.expected.table}: only {len(group.found)} of {group.number} records "
                f"{group.kind} were held against the expectation"
            )
        return Verdict(
            "",
            tuple(
                Met(wanted, Found(group.table, group.found[found]))
                for wanted, found in pairs
                if found is not None
            ),
            tuple(
                Differing(group.expected.table, wanted, Found(group.table, group.found[at]), cells)
                for wanted, at, cells in nearest
            ),
            tuple(self._missing(group, wanted) for wanted in absent),
            tuple(_unexpected(group, place, setting) for place in unexpected[:_MOST_LISTED]),
            tuple(_wrong_count(group)),
            tuple(problems),
            max(0, len(unexpected) - _MOST_LISTED),
        )

    def _missing(self, group: Group, wanted: ExpectedRecord) -> Missing:
        """With the record of the same key that something else happened to, if there is one."""
        for other in self._groups:
            if other.table is group.table and other.kind != group.kind and wanted.key:
                for record in other.found[:_MOST_COMPARED]:
                    if not has_other_key(group.table, wanted, record, self._setting):
                        return Missing(group.expected.table, wanted, Found(group.table, record))
        return Missing(group.expected.table, wanted)


def _with(one: Verdict, other: Verdict) -> Verdict:
    """Two verdicts on parts of a step as one."""
    return Verdict(
        one.expectation,
        one.met_records + other.met_records,
        one.differing + other.differing,
        one.missing + other.missing,
        one.unexpected + other.unexpected,
        one.counts + other.counts,
        one.problems + other.problems,
        one.more_unexpected + other.more_unexpected,
    )


def _nearest(
    group: Group, absent: list[ExpectedRecord], left: list[int], setting: Setting
) -> list[tuple[ExpectedRecord, int, tuple[Mismatch, ...]]]:
    """Pairs of what is absent and what is left over that differ least from each other."""
    ways = []
    for number, wanted in enumerate(absent[:_MOST_COMPARED]):
        if wanted.digest:
            continue
        for place in left[:_MOST_COMPARED]:
            record = group.found[place]
            cells = mismatches(group.table, wanted, record, setting)
            if group.kind == "changed" and has_other_key(group.table, wanted, record, setting):
                continue
            if len(cells) <= max(1, (len(wanted.cells) + len(wanted.key)) * 2 // 3):
                ways.append((len(cells), number, place, cells))
    chosen: list[tuple[ExpectedRecord, int, tuple[Mismatch, ...]]] = []
    numbers: set[int] = set()
    places: set[int] = set()
    for _, number, place, cells in sorted(ways, key=lambda way: way[:3]):
        if number not in numbers and place not in places:
            numbers.add(number)
            places.add(place)
            chosen.append((absent[number], place, cells))
    return chosen


def _too_many(group: Group) -> bool:
    """Whether what is left over is more than what is expected."""
    if group.expected.anything:
        return False
    count = group.expected.counts.get(group.kind)
    return count is None or (count.most is not None and group.number > count.most)


def _wrong_count(group: Group) -> Iterator[WrongCount]:
    """Where a number is asked for: else what is missing and unexpected says it all."""
    count = group.expected.counts.get(group.kind)
    if count is not None and not group.expected.anything and not count.met_by(group.number):
        yield WrongCount(group.expected.table, group.kind, count, group.number)


def _unexpected(group: Group, place: int, setting: Setting) -> Unexpected:
    record = group.found[place]
    found = Found(group.table, record)
    near = [
        (len(cells), number, cells)
        for number, wanted in enumerate(group.wanted[:_MOST_COMPARED])
        for cells in [mismatches(group.table, wanted, record, setting)]
    ]
    if not near:
        return Unexpected(found)
    _, number, cells = min(near, key=lambda way: way[:2])
    return Unexpected(found, group.wanted[number], cells)


def _wrong_digests(group: Group, pairs: list[_Pair]) -> Iterator[str]:
    for wanted in group.wanted:
        if not wanted.digest:
            continue
        records = [group.found[at] for other, at in pairs if other is wanted and at is not None]
        rows = [digested_cells(group.table, wanted, record) for record in records]
        if digest_of(rows) != wanted.digest:
            yield (
                f"{group.expected.table}: {len(records)} records {group.kind}, "
                "not all with the cells that were accepted"
            )


def _transaction_problems(found: Transactions | None, wanted: Count) -> Iterator[str]:
    if found is None:
        yield "in how many transactions it was written was not observed"
    elif found.count is None:
        yield found.words
    elif not found.exact and wanted.least > found.count:
        yield f"written in {found.words}, expected {wanted.words}; there may have been more"
    elif not wanted.met_by(found.count):
        yield f"written in {found.words}, expected {wanted.words}"


def _schema_problems(expectation: Expectation, changes: Changes) -> Iterator[str]:
    wanted = list(expectation.schema)
    for change in changes.schema_changes:
        words = f"{change.kind}: {change.object}"
        if words in wanted:
            wanted.remove(words)
        else:
            yield f"schema, not expected: {words}"
    for words in wanted:
        yield f"schema, missing: {words}"


def _not_compared(changes: Changes) -> Iterator[str]:
    for table, reason in changes.unread:
        yield f"{table}: not compared: {reason}"
