"""Which of the records that a step wrote suit an expected one, and in which cells others do not."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from jondel.core.model.changes import (
    NO_VALUE,
    ChangeKind,
    NoValue,
    RecordChange,
    TableChanges,
)
from jondel.core.model.schema import ROW_ID
from jondel.core.model.values import Exact, Value
from jondel.core.verify.expectation import ExpectedRecord, ExpectedTable
from jondel.core.verify.matchers import Exactly, FromTo, Setting
from jondel.core.verify.verdict import Mismatch

KINDS: tuple[ChangeKind, ...] = ("added", "changed", "removed")


class Group(NamedTuple):
    """The records of one kind in one table, those that are expected and those that are there."""

    table: TableChanges
    expected: ExpectedTable
    kind: ChangeKind
    wanted: tuple[ExpectedRecord, ...]
    found: tuple[RecordChange, ...]

    @property
    def number(self) -> int:
        """How many there are, listed or not."""
        return int(getattr(self.table.counts, self.kind))


def groups(table: TableChanges, expected: ExpectedTable) -> Iterator[Group]:
    """A table's records by kind, where there are any or some are expected."""
    for kind in KINDS:
        wanted = tuple(record for record in expected.records if record.kind == kind)
        found = tuple(record for record in table.records if record.kind == kind)
        if wanted or found or kind in expected.counts:
            yield Group(table, expected, kind, wanted, found)


class Candidates:
    """Finds the records of a group that suit an expected one."""

    def __init__(self, group: Group) -> None:
        self._group = group
        self._by_values: dict[tuple[str, ...], dict[tuple[object, ...], list[int]]] = {}

    def of(self, wanted: ExpectedRecord, setting: Setting) -> list[int]:
        """The places of those that suit it, in their order."""
        exact = {
            name: matcher.value
            for name, matcher in (*wanted.key, *wanted.cells)
            if isinstance(matcher, Exactly)
        }
        found = self._with_values(exact)
        return [place for place in found if self._suits(wanted, place, setting)]

    def _with_values(self, exact: Mapping[str, Value]) -> Sequence[int]:
        """The records with these values: many are not looked at one by one."""
        records = self._group.found
        columns = tuple(sorted(exact))
        if len(records) < 2 or not columns:
            return range(len(records))
        if columns not in self._by_values:
            index: dict[tuple[object, ...], list[int]] = defaultdict(list)
            for place, record in enumerate(records):
                cells = cells_of(self._group.table, record)
                index[tuple(_rough(cells.get(name, NO_VALUE)) for name in columns)].append(place)
            self._by_values[columns] = index
        wanted = tuple(_rough(exact[name]) for name in columns)
        return self._by_values[columns].get(wanted, [])

    def _suits(self, wanted: ExpectedRecord, place: int, setting: Setting) -> bool:
        table, record = self._group.table, self._group.found[place]
        if has_other_key(table, wanted, record, setting):
            return False
        named = setting.named.get(wanted.name) if wanted.name else None
        if named is not None and not _alike(named, cells_by_name(table, record)):
            return False
        return not any(wrong_cells(table, wanted, record, setting))


def cells_of(table: TableChanges, record: RecordChange) -> dict[str, Value]:
    """A record's key and cells by column: as it is after the step, or before where it is gone."""
    key: dict[str, Value] = dict(zip(table.key_columns, record.key, strict=True))
    if record.after is not None:
        return {**key, **dict(zip(table.columns_after, record.after, strict=True))}
    return {**key, **dict(zip(table.columns_before, record.before or (), strict=True))}


def cells_by_name(table: TableChanges, record: RecordChange) -> dict[str, Value]:
    """What other records may be the same as: a record's cells, and its row number."""
    cells = cells_of(table, record)
    if record.row_id is not None:
        cells.setdefault(ROW_ID, record.row_id)
    return cells


def hashed(value: object) -> object:
    """Equal for values that are identical."""
    if isinstance(value, float) and value != value:
        return "not a number"
    return type(value).__name__, value


def _rough(value: Value | NoValue) -> object:
    """Equal for values of which one may be meant by the other, see ``Exactly``."""
    if isinstance(value, Exact):
        return value.text
    return str(value) if isinstance(value, int | float) else value


def has_other_key(
    table: TableChanges, wanted: ExpectedRecord, record: RecordChange, setting: Setting
) -> bool:
    """Whether it is another record than the one that is expected, by its key."""
    cells: dict[str, Value] = {**cells_of(table, record)}
    cells.update(zip(table.key_columns, record.key, strict=True))
    return any(
        name not in cells or not matcher.met_by(cells[name], setting)
        for name, matcher in wanted.key
    )


def wrong_cells(
    table: TableChanges, wanted: ExpectedRecord, record: RecordChange, setting: Setting
) -> Iterator[Mismatch]:
    """The cells of a record in which it is not the expected one; its key aside."""
    cells, before = cells_of(table, record), _before(table, record)
    for name, matcher in wanted.cells:
        value: Value | NoValue = cells.get(name, NO_VALUE)
        was: Value | NoValue = before.get(name, NO_VALUE)
        right = not isinstance(value, NoValue) and matcher.met_by(value, setting)
        if right and isinstance(matcher, FromTo):
            right = not isinstance(was, NoValue) and matcher.before.met_by(was, setting)
        if right and wanted.kind == "changed":
            right = any(cell.column == name for cell in record.cells)
        if not right:
            yield Mismatch(name, matcher.words, value, was)
    if wanted.kind == "changed" and not wanted.digest:
        named = {name for name, _ in wanted.cells}
        for cell in record.cells:
            if cell.column not in named:
                yield Mismatch(cell.column, None, cell.after, cell.before)


def mismatches(
    table: TableChanges, wanted: ExpectedRecord, record: RecordChange, setting: Setting
) -> tuple[Mismatch, ...]:
    """All cells in which a record is not the expected one, those of its key first."""
    cells, before = cells_of(table, record), _before(table, record)
    in_key = [
        Mismatch(name, matcher.words, cells.get(name, NO_VALUE), before.get(name, NO_VALUE))
        for name, matcher in wanted.key
        if name not in cells or not matcher.met_by(cells[name], setting)
    ]
    known = {cell.column for cell in in_key}
    wrong = wrong_cells(table, wanted, record, setting)
    return (*in_key, *(cell for cell in wrong if cell.column not in known))


def _before(table: TableChanges, record: RecordChange) -> dict[str, Value]:
    if record.before is None:
        return {}
    return dict(zip(table.columns_before, record.before, strict=True))


def _alike(one: Mapping[str, Value], other: Mapping[str, Value]) -> bool:
    return {n: hashed(v) for n, v in one.items()} == {n: hashed(v) for n, v in other.items()}
