"""A record with all that it needs: the records it points at, those they point at, and so on.

Records that point at it come along by the links that are chosen, and by the same links what points
at those; each of them brings what it points at itself.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from jondel.core.browse.links import (
    Link,
    LinkedRecord,
    children_cells,
    target_of,
    target_values,
)
from jondel.core.engines.protocol import Database
from jondel.core.errors import ExportFailed
from jondel.core.exports.tables import TableExport, parents_first, whole_row
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue

MOST_RECORDS = 10_000


class SetRecord(NamedTuple):
    """A record of a set: its table and its values, all of them whole."""

    table: Table
    row: tuple[StoredValue, ...]


class RecordSet(NamedTuple):
    """Records in an order in which each comes after those that it points at, as far as they do not
    point at each other; and the links by which they came."""

    records: tuple[SetRecord, ...]
    links: tuple[Link, ...]

    @property
    def counts(self) -> dict[TableId, int]:
        """How many records each table has."""
        found: dict[TableId, int] = {}
        for record in self.records:
            found[record.table.id] = found.get(record.table.id, 0) + 1
        return found


def gathered(
    database: Database,
    start: Iterable[LinkedRecord],
    links: Iterable[Link],
    children: frozenset[Link] = frozenset(),
    most: int = MOST_RECORDS,
) -> RecordSet:
    """Gather records with what they need.

    ``links`` are those that hold; ``children`` are those of them that are followed backwards from
    the first records, and from what came by them.

    Raises:
        ExportFailed: there are more than ``most``, or a value is too large.
    """
    return _Gathering(database, tuple(links), children, most).run(start)


def links_to(links: Iterable[Link], tables: Iterable[TableId]) -> list[Link]:
    """The links by which other records point at those of some tables."""
    wanted = set(tables)
    return [link for link in links if link.parent in wanted]


class _Gathering:
    def __init__(
        self, database: Database, links: tuple[Link, ...], children: frozenset[Link], most: int
    ) -> None:
        self._database, self._links, self._children, self._most = database, links, children, most
        self._schema = database.schema()
        self._found: dict[object, SetRecord] = {}
        self._expanded: set[object] = set()

    def run(self, start: Iterable[LinkedRecord]) -> RecordSet:
        waiting = [(record, True) for record in start]
        while waiting:
            record, goes_down = waiting.pop()
            name = _name_of(record)
            kept = self._found.get(name)
            if kept is None:
                kept = self._kept(name, record)
                waiting += [(parent, False) for parent in self._parents(kept)]
            if goes_down and name not in self._expanded:
                self._expanded.add(name)
                waiting += [(child, True) for child in self._children_of(kept)]
        return RecordSet(tuple(self._ordered()), self._links)

    def _kept(self, name: object, record: LinkedRecord) -> SetRecord:
        if len(self._found) >= self._most:
            raise ExportFailed(
                f"more than {self._most} records belong together; leave some that point at it out"
            )
        row = whole_row(self._database, record.table, record.position, record.row)
        kept = self._found[name] = SetRecord(record.table, row)
        return kept

    def _parents(self, record: SetRecord) -> Iterator[LinkedRecord]:
        for link in self._links:
            if link.child == record.table.id:
                parent = target_of(self._database, self._schema, link, record.table, record.row)
                if parent is not None:
                    yield parent

    def _children_of(self, record: SetRecord) -> Iterator[LinkedRecord]:
        for link in self._links:
            if link not in self._children or link.parent != record.table.id:
                continue
            child, cells = self._schema.find(link.child), None
            if child is not None:
                cells = children_cells(link, record.table, record.row)
            if child is None or cells is None:
                continue
            window = self._database.rows.matching_rows(child, cells, self._most + 1)
            for position, row in zip(window.positions, window.rows, strict=True):
                yield LinkedRecord(child, position, row)

    def _ordered(self) -> Iterator[SetRecord]:
        tables = {record.table.id: record.table for record in self._found.values()}
        for export in parents_first(list(map(TableExport.whole, tables.values()))):
            own = [r for r in self._found.values() if r.table.id == export.table.id]
            yield from self._within(export.table, own)

    def _within(self, table: Table, records: Sequence[SetRecord]) -> Iterator[SetRecord]:
        """Records of one table, each after those of it that it points at."""
        inner = [link for link in self._links if link.child == link.parent == table.id]
        left = list(reversed(records))  # what was asked for comes last
        while left:
            keys = {key for record in left for key in _keys(inner, record)}
            free = [r for r in left if not (_aims(inner, r) - _keys(inner, r)) & keys] or left[:1]
            yield from free
            gone = set(map(id, free))
            left = [record for record in left if id(record) not in gone]


def _keys(links: Sequence[Link], record: SetRecord) -> set[object]:
    """What others of the table point at a record by."""
    names = record.table.column_names
    return {
        (link, tuple(record.row[names.index(name)] for name in link.parent_columns))
        for link in links
    }


def _aims(links: Sequence[Link], record: SetRecord) -> set[object]:
    """What a record points at others of the table by."""
    return {(link, target_values(link, record.table, record.row)) for link in links}


def _name_of(record: LinkedRecord) -> object:
    return record.table.id, record.position or record.row


def renumbered(found: RecordSet, first: int = 1) -> RecordSet:
    """The same with other numbers for keys that are single whole numbers, and in what points at
    them."""
    numbers: dict[TableId, dict[StoredValue, int]] = {}
    for table, row in found.records:
        place = _numbered_key(table)
        if place is not None and isinstance(row[place], int):
            known = numbers.setdefault(table.id, {})
            known.setdefault(row[place], first + len(known))
    records = tuple(
        SetRecord(table, _with_numbers(table, row, found.links, numbers))
        for table, row in found.records
    )
    return RecordSet(records, found.links)


def _numbered_key(table: Table) -> int | None:
    key = table.primary_key
    return table.column_names.index(key[0]) if len(key) == 1 else None


def _with_numbers(
    table: Table,
    row: tuple[StoredValue, ...],
    links: Sequence[Link],
    numbers: Mapping[TableId, Mapping[StoredValue, int]],
) -> tuple[StoredValue, ...]:
    names, values = table.column_names, list(row)
    key = _numbered_key(table)
    if key is not None and row[key] in numbers.get(table.id, {}):
        values[key] = numbers[table.id][row[key]]
    for link in links:
        if link.child != table.id or len(link.columns) != 1:
            continue
        aim = target_values(link, table, row)
        new = numbers.get(link.parent, {})
        if aim is not None and aim[0] in new:
            values[names.index(link.columns[0])] = new[aim[0]]
    return tuple(values)
