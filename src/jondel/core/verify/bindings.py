"""Finds out which record bears which name of an expectation."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from jondel.core.model.values import Value
from jondel.core.verify.candidates import Candidates, Group, cells_by_name
from jondel.core.verify.expectation import ExpectedRecord
from jondel.core.verify.matchers import FromTo, InJson, Matcher, OneOf, SameAs, Setting

Named = Mapping[str, Mapping[str, Value]]
"""The cells of the records that bear names, by name and column."""

_MOST_TRIED = 20_000


class _Name(NamedTuple):
    """A record with a name: which group it is in, and the records that may bear the name."""

    wanted: ExpectedRecord
    group: int
    places: list[int]


class Bindings:
    """The ways to tell which record bears which name."""

    def __init__(
        self, groups: Sequence[Group], candidates: Sequence[Candidates], setting: Setting
    ) -> None:
        self._groups = groups
        self._candidates = candidates
        self._setting = setting
        self._names = [
            _Name(wanted, number, candidates[number].of(wanted, setting))
            for number, group in enumerate(groups)
            for wanted in group.wanted
            if wanted.name
        ]
        # What can bear a name is known soonest where there is little choice.
        self._names.sort(key=lambda name: len(name.places))
        self._pointing = {
            name.wanted.name: [
                (number, wanted)
                for number, group in enumerate(groups)
                for wanted in group.wanted
                if name.wanted.name in names_in(wanted)
            ]
            for name in self._names
        }
        self._tried = 0

    def ways(self) -> Iterator[Named]:
        """The ways in which nothing is found to be wrong; else one in which something is."""
        found = False
        for way in self._ways({}, frozenset(), 0):
            found = True
            yield way
        if not found:
            yield self._any_way()

    def _ways(
        self, named: dict[str, Mapping[str, Value]], used: frozenset[tuple[int, int]], at: int
    ) -> Iterator[Named]:
        if at == len(self._names):
            yield named
            return
        name = self._names[at]
        for place in name.places:
            self._tried += 1
            if self._tried > _MOST_TRIED:
                return
            if (name.group, place) in used:
                continue
            bound = {**named, name.wanted.name: self._cells(name, place)}
            if self._holds(name.wanted.name, bound):
                yield from self._ways(bound, used | {(name.group, place)}, at + 1)

    def _holds(self, name: str, named: Named) -> bool:
        """Whether what is to be the same as a record's cells still can be."""
        setting = replace(self._setting, named=named)
        return all(
            self._candidates[number].of(wanted, setting)
            for number, wanted in self._pointing[name]
            if wanted.times.least
        )

    def _any_way(self) -> Named:
        named: dict[str, Mapping[str, Value]] = {}
        used: set[tuple[int, int]] = set()
        for name in self._names:
            free = (place for place in name.places if (name.group, place) not in used)
            place = next(free, None)
            if place is None:
                named[name.wanted.name] = {}
            else:
                used.add((name.group, place))
                named[name.wanted.name] = self._cells(name, place)
        return named

    def _cells(self, name: _Name, place: int) -> Mapping[str, Value]:
        group = self._groups[name.group]
        return cells_by_name(group.table, group.found[place])


def names_in(wanted: ExpectedRecord) -> set[str]:
    """The names of records that an expected record is to be the same as in a cell."""
    return {name for _, matcher in (*wanted.key, *wanted.cells) for name in _names(matcher)}


def _names(matcher: Matcher) -> Iterator[str]:
    match matcher:
        case SameAs(record, _):
            yield record
        case FromTo(before, after):
            yield from _names(before)
            yield from _names(after)
        case OneOf(matchers):
            for each in matchers:
                yield from _names(each)
        case InJson(members, _):
            for _, each in members:
                yield from _names(each)
