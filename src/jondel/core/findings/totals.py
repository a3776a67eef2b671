"""Counters and totals: columns that say how many records belong to one, or what these add up to.

They are found: a column that agrees with its records nearly everywhere is taken for such.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from typing import NamedTuple, cast

from jondel.core.browse.links import Link
from jondel.core.engines.protocol import Database
from jondel.core.findings.scanning import GoOn
from jondel.core.model.schema import Column, Schema, Table
from jondel.core.model.values import Exact, StoredValue, Value

_MOST_ROWS = 200_000
_FEWEST = 10
_FEWEST_DIFFERENT = 3
_MOST_COLUMNS = 6
_MOST_TOLD = 5


class WrongTotal(NamedTuple):
    """A record whose column does not agree with the records that belong to it."""

    table: Table
    column: str
    key: StoredValue
    key_column: str
    value: Value
    evidence: str
    sure: float


def wrong_totals(
    database: Database, schema: Schema, links: Sequence[Link], go_on: GoOn = lambda: None
) -> Iterator[WrongTotal]:
    """The records whose counters and totals are wrong.

    Raises:
        ReadError: a table cannot be read, or it was interrupted.
    """
    for link in links:
        go_on()
        child, parent = schema.by_id.get(link.child), schema.by_id.get(link.parent)
        if child is None or parent is None or len(link.columns) != 1 or link.when is not None:
            continue
        if child.id == parent.id or "view" in (child.kind, parent.kind):
            continue
        candidates = [c for c in parent.columns if _may_count(c, link.parent_columns[0], parent)]
        if not candidates or _too_large(database, child) or _too_large(database, parent):
            continue
        yield from _of_link(database, link, child, parent, candidates)


def _too_large(database: Database, table: Table) -> bool:
    return database.rows.measure(table, quick=True).rows > _MOST_ROWS


def _may_count(column: Column, key: str, table: Table) -> bool:
    pointing = {name for foreign in table.foreign_keys for name in foreign.columns}
    named = column.name.lower()
    is_other = named.endswith(("_id", "_at", "_on")) or named in ("id", "year")
    return (
        column.type.is_number
        and not column.key_position
        and column.name != key
        and column.name not in pointing
        and not is_other
    )


def _of_link(
    database: Database, link: Link, child: Table, parent: Table, candidates: Sequence[Column]
) -> Iterator[WrongTotal]:
    summed = [
        c.name
        for c in child.columns
        if c.type.is_number and not c.key_position and c.name not in link.columns
    ][:_MOST_COLUMNS]
    counts: Counter[Value] = Counter()
    sums: dict[str, dict[Value, float]] = {name: defaultdict(float) for name in summed}
    order = child.position_columns or link.columns
    for batch in database.scanner.stream_rows(child, [link.columns[0], *summed], order):
        columns = list(zip(*batch, strict=True))
        if not columns:
            continue
        counts.update(columns[0])
        for name, values in zip(summed, columns[1:], strict=True):
            total = sums[name]
            for key, value in zip(columns[0], values, strict=True):
                number = _number(value)
                if number is not None:
                    total[key] += number
    key_column = link.parent_columns[0]
    names = [column.name for column in candidates][:_MOST_COLUMNS]
    rows: list[Sequence[Value]] = []
    order = parent.position_columns or (key_column,)
    for batch in database.scanner.stream_rows(parent, [key_column, *names], order):
        rows += batch
    for place, name in enumerate(names, 1):
        held = {row[0]: number for row in rows if (number := _number(row[place])) is not None}
        what = [(f"the number of its {child.title}", {k: float(counts[k]) for k in held})]
        what += [
            (f"the sum of {child.title}.{of}", {k: total.get(k, 0.0) for k in held})
            for of, total in sums.items()
        ]
        for number, (words, actual) in enumerate(what):
            # A sum of nothing may be one that is still to come; a count of nothing is a count.
            counted = {k: v for k, v in held.items() if not number or counts[k]}
            for key, evidence, sure in _wrong(counted, actual, words):
                value = next(row[place] for row in rows if row[0] == key)
                yield WrongTotal(parent, name, key, key_column, value, evidence, sure)


def _wrong(
    held: dict[Value, float], actual: dict[Value, float], words: str
) -> Iterator[tuple[StoredValue, str, float]]:
    """The keys of the records that do not agree with the actual numbers, where nearly all do."""
    # Where nothing belongs to a record a zero says little, and many columns are zero.
    telling = [key for key in held if held[key] or actual[key]]
    right = [key for key in telling if _same(held[key], actual[key])]
    different = {held[key] for key in right if actual[key]}
    wrong = [key for key in telling if not _same(held[key], actual[key])]
    if len(right) < _FEWEST or len(different) < _FEWEST_DIFFERENT or len(wrong) * 10 > len(right):
        return
    for key in wrong[:_MOST_TOLD]:
        agree = f"the two agree in {len(right)} of {len(telling)} records"
        evidence = f"{words} is {actual[key]:g}; {agree}"
        yield cast("StoredValue", key), evidence, round(len(right) / len(telling), 2)


def _same(one: float, other: float) -> bool:
    return abs(one - other) <= 0.005 + 1e-9 * max(abs(one), abs(other))


def _number(value: Value) -> float | None:
    if isinstance(value, Exact) and value.kind == "numeric":
        try:
            return float(value.text)
        except ValueError:
            return None
    return float(value) if isinstance(value, int | float) else None
