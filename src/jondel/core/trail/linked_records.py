"""Finds the records that go or change by the actions of links when a plan is written.

What a plan removes may be pointed at by records that it says nothing of: a later step added them,
or they belong to a table that is not put back. A link that cascades has the database remove these
without a word. Here they are found before, in every engine alike.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from jondel.core.browse.display import line
from jondel.core.engines.protocol import Database
from jondel.core.errors import LinkedInTheWay, WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts, ChangeKind, ChangeSummary
from jondel.core.model.rows import Position
from jondel.core.model.schema import ForeignKey, Schema, Table
from jondel.core.model.values import Clipped, ShownRow, StoredValue
from jondel.core.model.writes import Cells, LinkCheck, Obstacle, RowWrite, WritePlan

_MOST = 10_000
_MOST_NAMED = 1_000
_LISTED = 3
_LOOKED_FOR_SINGLY = 3


class LinkedRecords(NamedTuple):
    """What the actions of links come to: rows to write, and what must hold then.

    ``obstacles`` name the records, link by link.
    """

    writes: tuple[RowWrite, ...] = ()
    checks: tuple[LinkCheck, ...] = ()
    obstacles: tuple[Obstacle, ...] = ()

    def require_none(self) -> None:
        """Raise ``LinkedInTheWay`` if there are any."""
        if self.obstacles:
            more = len(self.obstacles) - 1
            others = f" (and {more} more such)" if more else ""
            raise LinkedInTheWay(
                f"{self.obstacles[0].reason}{others}; nothing was written. Take them along "
                "(`--with-linked`), or take back first what added them",
                self.obstacles,
                self.writes,
            )

    @property
    def summary(self) -> ChangeSummary:
        """How many records of each table go or change."""
        counts: dict[TableId, ChangeCounts] = {}
        for write in self.writes:
            kind: ChangeKind = "removed" if write.kind == "delete" else "changed"
            counts[write.table] = counts.get(write.table, ChangeCounts()).counted(kind)
        return ChangeSummary(counts)

    def added_to(self, plan: WritePlan) -> WritePlan:
        """The plan with what the actions of links come to, written first."""
        return replace(
            plan, writes=(*self.writes, *plan.writes), checks=(*plan.checks, *self.checks)
        )


def linked_records(plan: WritePlan, database: Database) -> LinkedRecords:
    """Find what goes or changes with what a plan removes, in the database as it is now.

    Links that only forbid are not followed: the plan's own checks tell of these.

    Raises:
        WriteRefused: more than can be listed would go.
    """
    return _Search(plan, database).run()


class _Parent(NamedTuple):
    """A row that goes, by its cells."""

    table: Table
    cells: dict[str, StoredValue]


class _Search:
    def __init__(self, plan: WritePlan, database: Database) -> None:
        self._plan = plan
        self._database = database
        self._schema = database.schema()
        self._handled = _Handled(plan)
        self._writes: list[RowWrite] = []
        self._checks: dict[LinkCheck, None] = {}
        self._obstacles: list[Obstacle] = []
        self._going: deque[_Parent] = deque()

    def run(self) -> LinkedRecords:
        for table, link, check in self._acting_checks():
            self._follow(table, link, check)
        while self._going:
            parent = self._going.popleft()
            for child, link in incoming_links(self._schema, parent.table):
                columns = link.target_columns or parent.table.primary_key
                values = tuple(parent.cells.get(name) for name in columns)
                if None in values or len(values) != len(link.columns):
                    continue
                check = _check(child, link, parent.table, columns, values)
                if link.on_delete in ("CASCADE", "SET NULL"):
                    self._follow(child, link, check)
                else:
                    self._checks[check] = None
        # Records that others point at go after these.
        return LinkedRecords(
            tuple(reversed(self._writes)), tuple(self._checks), tuple(self._obstacles)
        )

    def _acting_checks(self) -> Iterator[tuple[Table, ForeignKey, LinkCheck]]:
        """The plan's checks of records that point at a row that goes, by links that act."""
        gone = {(w.table, tuple(w.expected)) for w in self._plan.writes if w.kind == "delete"}
        by_relation: dict[tuple[Table, ForeignKey], list[LinkCheck]] = {}
        removed: dict[tuple[TableId, tuple[str, ...]], set[tuple[StoredValue, ...]]] = {}
        for check in self._plan.checks:
            link = self._acting_link(check)
            if link is None:
                continue
            ends = check.parent, check.parent_columns
            if ends not in removed:
                rows = [dict(cells) for table, cells in gone if table == check.parent]
                removed[ends] = {tuple(row.get(n) for n in check.parent_columns) for row in rows}
            if check.values in removed[ends]:
                by_relation.setdefault(link, []).append(check)
        for (child, key), checks in by_relation.items():
            yield from ((child, key, check) for check in self._held(child, checks))

    def _held(self, child: Table, checks: Sequence[LinkCheck]) -> list[LinkCheck]:
        """Those of the checks whose values some record holds."""
        if len(checks) <= _LOOKED_FOR_SINGLY or child.unknown_order:
            return list(checks)
        keys = [check.values for check in checks]
        held = self._database.rows.which_occur(child, checks[0].child_columns, keys)
        return [check for place, check in enumerate(checks) if place in held]

    def _acting_link(self, check: LinkCheck) -> tuple[Table, ForeignKey] | None:
        child = self._schema.find(check.child)
        if child is None or child.unreadable:
            return None
        for key in child.foreign_keys:
            is_it = key.columns == check.child_columns and key.target_table == check.parent
            if is_it and key.on_delete in ("CASCADE", "SET NULL"):
                return child, key
        return None

    def _follow(self, child: Table, link: ForeignKey, check: LinkCheck) -> None:
        """Take note of the records that a link has go or change."""
        cells = tuple(zip(check.child_columns, check.values, strict=True))
        window = self._database.rows.matching_rows(child, cells, _MOST + 1)
        found: list[Position] = []
        total = 0
        for position, row in zip(window.positions, window.rows, strict=True):
            if self._handled.is_written(child, position, row, link):
                continue
            write = self._write(child, position, row, link)
            self._handled.add(write)
            self._writes.append(write)
            total += 1
            found += [position] if position and len(found) < _MOST_NAMED else []
            if write.kind == "delete":
                self._going.append(_Parent(child, dict(_cells(child, row))))
            if len(self._writes) > _MOST:
                raise WriteRefused(f"more than {_MOST} records of {child.title} would go with it")
        if total:
            self._obstacles.append(
                Obstacle(_reason(check, link, found, total), child.id, tuple(found), total)
            )

    def _write(self, child: Table, position: Position, row: ShownRow, link: ForeignKey) -> RowWrite:
        numbers = zip(child.position_columns, position, strict=True) if position else ()
        held = _cells(child, row)
        expected = tuple(dict([*numbers, *held]).items())
        words = " · ".join(line(value, 60) for value in position or row[:_LISTED])
        columns = child.position_columns
        if link.on_delete == "CASCADE":
            return RowWrite("delete", child.id, expected, (), words, columns)
        none = tuple((name, None) for name in link.columns)
        return RowWrite("update", child.id, expected, none, words, columns)


class _Handled:
    """The rows that are written anyway."""

    def __init__(self, plan: WritePlan) -> None:
        self._deleted: set[tuple[TableId, Position]] = set()
        self._changed: dict[tuple[TableId, Position], set[str]] = {}
        self._alike: Counter[tuple[TableId, Cells]] = Counter()
        """Rows to delete that have no address, each as often as one is to go."""
        for write in plan.writes:
            self.add(write)

    def add(self, write: RowWrite) -> None:
        if write.kind == "insert":
            return
        held = dict(write.expected)
        if not write.position_columns:
            self._alike[write.table, write.expected] += write.kind == "delete"
            return
        place = write.table, tuple(held[name] for name in write.position_columns)
        if write.kind == "delete":
            self._deleted.add(place)
        else:
            self._changed.setdefault(place, set()).update(name for name, _ in write.values)

    def is_written(self, child: Table, position: Position, row: ShownRow, link: ForeignKey) -> bool:
        if not position:
            alike = child.id, _cells(child, row)
            self._alike[alike] -= 1
            return self._alike[alike] >= 0
        place = child.id, position
        return place in self._deleted or bool(
            self._changed.get(place, set()).intersection(link.columns)
        )


def incoming_links(schema: Schema, table: Table) -> Iterator[tuple[Table, ForeignKey]]:
    """The links that lead to a table, each with the table that it leads from."""
    for child in schema.tables:
        if child.unreadable or child.is_partition:
            continue  # the links of a partition are those of the table that it is a part of
        for key in child.foreign_keys:
            target = schema.find(key.target_table)
            if target is not None and target.id == table.id:
                yield child, key


def _cells(table: Table, row: ShownRow) -> Cells:
    """A row's cells as they are compared with those of a plan, as far as they are held whole."""
    pairs = zip(table.columns, row, strict=True)
    return tuple(
        (column.name, value)
        for column, value in pairs
        if not column.generated and not isinstance(value, Clipped)
    )


def _check(
    child: Table, link: ForeignKey, parent: Table, columns: tuple[str, ...],
    values: tuple[StoredValue, ...],
) -> LinkCheck:  # fmt: skip
    ends = child.id, link.columns, parent.id, columns
    return LinkCheck(*ends, values, child.position_columns)


def _reason(check: LinkCheck, link: ForeignKey, found: Sequence[Position], total: int) -> str:
    named = [" · ".join(line(value, 40) for value in position) for position in found[:_LISTED]]
    more = total - len(named)
    who = ", ".join(named) + (f" and {more} more" if named and more else "")
    pairs = zip(check.parent_columns, check.values, strict=True)
    where = ", ".join(f"{name} = {line(value, 40)}" for name, value in pairs)
    verb = "points" if total == 1 else "point"
    fate = "be removed with it" if link.on_delete == "CASCADE" else "point at nothing then"
    who = who or f"({total})"
    return f"{check.child} {who} {verb} at {check.parent} with {where} and would {fate}"
