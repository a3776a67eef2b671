"""Looks for suspicious data in whole tables."""

from __future__ import annotations

import logging
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from jondel.core.browse.links import Link
from jondel.core.diff.keys import Key
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, ReadError
from jondel.core.findings.check_constraints import violations
from jondel.core.findings.column_profile import ColumnProfile
from jondel.core.findings.finding import Finding, Suspicion
from jondel.core.findings.links_search import pointing_at_nothing, unusual_targets
from jondel.core.findings.scanning import GoOn, key_columns, key_of, whole_profile
from jondel.core.findings.table_profile import TableProfile
from jondel.core.findings.text_signs import shape_of
from jondel.core.findings.totals import wrong_totals
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow, StoredValue, Value

_LISTED = 3
"""Of records of which the same is true so many are listed; the others are counted."""
_MOST_JUDGED = 2000
_MOST_ROWS_AGAIN = 200_000
_MOST_STRAYS = 50
_LARGEST_BYTES = 64 << 10

_log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Wanted:
    """What to look at: which tables (None: all), and the links, with how each is known."""

    links: Mapping[Link, str] = field(default_factory=dict)
    tables: Collection[TableId] | None = None
    go_on: GoOn = lambda: None
    told: Callable[[str], None] = lambda words: None
    """Is told which table is looked at."""


def findings_in(database: Database, wanted: Wanted) -> Iterator[Finding]:
    """What is suspicious in whole tables, table by table. What cannot be read is left out.

    Raises:
        Cancelled: it was interrupted.
    """
    schema = database.schema()
    tables = [
        table
        for table in schema.tables
        if table.holds_rows
        and not table.internal
        and table.unreadable is None
        and (wanted.tables is None or table.id in wanted.tables)
    ]
    told: set[tuple[TableId | None, str, tuple[StoredValue, ...]]] = set()
    for table in tables:
        wanted.go_on()
        wanted.told(table.title)
        try:
            for finding in _OfTable(database, table, wanted.go_on).findings():
                told.add((finding.table, finding.column, finding.key))
                yield finding
        except Cancelled:
            raise
        except ReadError as error:
            _log.info("%s: not looked at: %s", table.title, error)
    links = {link: s for link, s in wanted.links.items() if _concerns(link, wanted.tables)}
    wanted.told("links and totals")
    for finding in _guarded(lambda: _across(database, links, wanted.go_on)):
        # What is suspicious by itself need not be told once more for what points at it.
        known = (finding.table, finding.column, finding.key) in told
        if not (known and finding.kind == "rare value"):
            yield finding


def _concerns(link: Link, tables: Collection[TableId] | None) -> bool:
    return tables is None or link.child in tables or link.parent in tables


def _guarded(search: Callable[[], Iterator[Finding]]) -> Iterator[Finding]:
    try:
        yield from search()
    except Cancelled:
        raise
    except ReadError as error:
        _log.info("links and totals: not looked at: %s", error)


def _across(database: Database, links: Mapping[Link, str], go_on: GoOn) -> Iterator[Finding]:
    """What is wrong between tables."""
    schema = database.schema()
    for pointing in pointing_at_nothing(database, schema, links, go_on):
        child = schema.by_id[pointing.link.child]
        yield from _at(database, child, pointing.cells, pointing.suspicion)
    certain = list(links)
    seen: set[tuple[TableId, StoredValue, str]] = set()
    for link, target, name, value, evidence in unusual_targets(database, schema, certain, go_on):
        parent = schema.by_id[link.parent]
        if (parent.id, target, name) in seen:
            continue
        seen.add((parent.id, target, name))
        suspicion = Suspicion("rare value", evidence, 0.85)
        yield from _at(database, parent, {link.parent_columns[0]: target}, suspicion, name, value)
    for wrong in wrong_totals(database, schema, certain, go_on):
        suspicion = Suspicion("total", wrong.evidence, wrong.sure)
        cells = {wrong.key_column: wrong.key}
        yield from _at(database, wrong.table, cells, suspicion, wrong.column, wrong.value)


def _at(
    database: Database,
    table: Table,
    cells: Mapping[str, StoredValue],
    suspicion: Suspicion,
    column: str = "",
    value: Value = None,
) -> Iterator[Finding]:
    """A finding for the records that hold some cells, the first with its key."""
    key = key_of(database, table)
    rows = _rows_with(database, table, cells)
    number = database.rows.count_matching(table, tuple(cells.items()), most=10_000)
    name = column or next(iter(cells))
    shown = value if column else next(iter(cells.values()))
    for record, position in rows[:1]:
        yield Finding(
            suspicion.kind,
            table.id,
            name,
            key_columns(key),
            _key_in(table, key, record, position),
            shown,
            suspicion.evidence,
            suspicion.sure,
            max(0, number - 1),
        )


def _rows_with(
    database: Database, table: Table, cells: Mapping[str, StoredValue], most: int = 1
) -> list[tuple[ShownRow, tuple[StoredValue, ...]]]:
    window = database.rows.matching_rows(table, tuple(cells.items()), most)
    return list(zip(window.rows, window.positions, strict=False))


def _key_in(
    table: Table, key: Key, row: ShownRow, position: tuple[StoredValue, ...]
) -> tuple[StoredValue, ...]:
    if key.is_row_id:
        return position
    values = dict(zip(table.column_names, row, strict=True))
    return tuple(values[name] for name in key.columns)  # type: ignore[misc]


class _OfTable:
    """What is suspicious in the records of one table."""

    def __init__(self, database: Database, table: Table, go_on: GoOn) -> None:
        self._database = database
        self._table = table
        self._go_on = go_on
        self._key = key_of(database, table)

    def findings(self) -> Iterator[Finding]:
        profile = whole_profile(self._database, self._table, self._key, self._go_on)
        if not profile.rows:
            return
        found: dict[tuple[str, str, str], list[Finding]] = defaultdict(list)
        judged = 0
        seen: set[tuple[Any, ...]] = set()
        for key, row in self._candidates(profile):
            judged += 1
            if key in seen or judged > _MOST_JUDGED:
                continue
            seen.add(key)
            for column, suspicion in profile.suspicions(row, own=True):
                value = row[self._table.column_names.index(column)]
                finding = self._finding(column, key, value, suspicion)
                found[column, suspicion.kind, _alike(suspicion.evidence)].append(finding)
        for group in found.values():
            yield from self._listed(group, profile)
        yield from self._near_duplicates(profile)
        yield from self._violations()

    def _violations(self) -> Iterator[Finding]:
        """The first few records for each constraint that does not hold."""
        found: dict[Suspicion, list[Finding]] = defaultdict(list)
        for (key, column, value, _), suspicion in violations(
            self._database, self._table, self._key
        ):
            found[suspicion].append(self._finding(column, key, value, suspicion))
        for group in found.values():
            shown = group[:_LISTED]
            yield from shown[:-1]
            yield replace(shown[-1], others=len(group) - len(shown))

    def _finding(
        self, column: str, key: tuple[Any, ...], value: Value, suspicion: Suspicion
    ) -> Finding:
        return Finding(
            suspicion.kind,
            self._table.id,
            column,
            key_columns(self._key),
            key,
            value,
            suspicion.evidence,
            suspicion.sure,
        )

    def _listed(self, group: list[Finding], profile: TableProfile) -> Iterator[Finding]:
        """The first few of findings that are alike, the last with how many there are more."""
        first = group[0]
        number = max(len(group), _count_of(profile.profile(first.column), first))
        shown = group[:_LISTED]
        yield from shown[:-1]
        yield replace(shown[-1], others=number - len(shown))

    def _candidates(self, profile: TableProfile) -> Iterator[tuple[tuple[Any, ...], ShownRow]]:
        """Records that may be suspicious: those with a sign or a value that few have."""
        for column in profile.columns:
            keys = [
                remembered.key
                for sign, kept in column.remembered.items()
                if _is_rare(column, sign)
                for remembered in kept
            ]
            keys += [key for key, _ in column.json.odd]
            keys += self._strays(profile, column)
            yield from self._at_keys(keys)
            for value in _rare_values(column):
                for row, position in _rows_with(
                    self._database, self._table, {column.column.name: value}
                ):
                    yield _key_in(self._table, self._key, row, position), row
            if profile.times(column) is not None:
                for value in _extremes(column):
                    for row, position in _rows_with(
                        self._database, self._table, {column.column.name: value}, 2
                    ):
                        yield _key_in(self._table, self._key, row, position), row

    def _strays(self, table: TableProfile, profile: ColumnProfile) -> Iterator[tuple[Any, ...]]:
        """The keys of records whose text is written unlike nearly all others: it may be another
        column's."""
        shapes = profile.stray_shapes()
        if not shapes or table.rows > _MOST_ROWS_AGAIN:
            return
        order = self._key.columns_in(self._table)
        found = 0
        for batch in self._database.scanner.stream_rows(
            self._table, [*order, profile.column.name], order
        ):
            self._go_on()
            for row in batch:
                if isinstance(row[-1], str) and shape_of(row[-1]) in shapes:
                    yield row[:-1]
                    found += 1
            if found >= _MOST_STRAYS:
                return

    def _at_keys(self, keys: list[Any]) -> Iterator[tuple[tuple[Any, ...], ShownRow]]:
        columns = self._key.columns_in(self._table)
        for key in keys:
            position = self._database.rows.find_position(self._table, columns, key)
            row = (
                self._database.rows.read_record(self._table, position, _LARGEST_BYTES)
                if position is not None
                else None
            )
            if row is not None:
                yield key, row

    def _near_duplicates(self, profile: TableProfile) -> Iterator[Finding]:
        for column, other, value in profile.near[:_LISTED]:
            rows = _rows_with(self._database, self._table, {column: value})
            for row, position in rows:
                suspicion = Suspicion(
                    "near duplicate",
                    f"another record holds {other[:60]!r}, and no two others are as alike",
                    0.7,
                )
                key = _key_in(self._table, self._key, row, position)
                yield self._finding(column, key, value, suspicion)


def _alike(evidence: str) -> str:
    """Evidence without what differs from record to record."""
    return evidence.split(";")[0] if "encoded twice" not in evidence else "encoded twice"


def _is_rare(profile: ColumnProfile, sign: str) -> bool:
    what, _, name = sign.partition(" ")
    if what == "kind":
        return profile.kinds[name] * 5 <= profile.present or (
            name == "text" and (profile.column.type.is_number)
        )
    if what == "shape":
        shapes = profile.shapes
        return shapes is not None and shapes[name.encode()] * 20 <= profile.texts
    return True


def _count_of(profile: ColumnProfile, finding: Finding) -> int:
    """How many values there are of which the same is true, as far as that was counted."""
    sign = {
        "empty text": "empty",
        "blanks": "blanks",
        "control characters": "control",
    }.get(finding.kind)
    if sign is not None:
        return profile.signs[sign]
    if finding.kind == "encoding":
        return profile.signs["twice"] if isinstance(finding.value, str) else 0
    return 0


def _rare_values(profile: ColumnProfile) -> list[StoredValue]:
    """Values that the column holds seldom, where it holds few different ones."""
    values = profile.values
    if values is None:
        return []
    rare = [v for v, count in values.items() if count <= 2 or count * 20 <= profile.present]
    return [] if len(rare) > 12 else [v for v in rare if not isinstance(v, float)]  # type: ignore[misc]


def _extremes(profile: ColumnProfile) -> list[StoredValue]:
    ends = (profile.least, profile.most, profile.first_text, profile.last_text)
    return [value for value in ends if value is not None]
