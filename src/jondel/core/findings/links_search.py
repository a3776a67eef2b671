"""Records that point at nothing, or at records that others do not point at."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple, cast

from jondel.core.browse.links import Link
from jondel.core.engines.protocol import Database
from jondel.core.findings.finding import Suspicion
from jondel.core.findings.scanning import GoOn
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row, StoredValue, Value

_MOST_KEYS = 200_000
_FEWEST_POINTING = 20
_FEW_VALUES = 12
_BATCH = 20_000


class Pointing(NamedTuple):
    """A record that a link leads from, or nowhere: the values of the link's columns in it."""

    link: Link
    cells: dict[str, StoredValue]
    suspicion: Suspicion


def pointing_at_nothing(
    database: Database,
    schema: Schema,
    links: Mapping[Link, str],
    go_on: GoOn = lambda: None,
    values: Sequence[tuple[Link, tuple[StoredValue, ...]]] | None = None,
) -> Iterator[Pointing]:
    """The values of links that no parent has.

    ``links`` says how each is known. A guessed link counts only if nearly all of it leads
    somewhere. With ``values`` only these are looked at.

    Raises:
        ReadError: a table cannot be read, or it was interrupted.
    """
    for link, standing in links.items():
        go_on()
        child, parent = schema.by_id.get(link.child), schema.by_id.get(link.parent)
        if child is None or parent is None or link.when is not None:
            continue
        if child.kind == "view" or parent.kind == "view":
            continue
        counted = _values_of(database, child, link)
        if not counted:
            continue
        keys = list(counted)
        there = database.rows.which_occur(parent, link.parent_columns, keys)
        lost = [key for place, key in enumerate(keys) if place not in there]
        rows = sum(counted.values())
        lost_rows = sum(counted[key] for key in lost)
        if standing == "guessed" and (lost_rows * 20 > rows or rows - lost_rows < _FEWEST_POINTING):
            continue
        wanted = None if values is None else {key for of, key in values if of == link}
        for key in lost:
            if wanted is not None and key not in wanted:
                continue
            where = f"{parent.title}.{', '.join(link.parent_columns)}"
            evidence = f"{where} has no such value; {rows - lost_rows} of {rows} others have one"
            sure = 0.97 if standing != "guessed" else 0.85
            cells = dict(zip(link.columns, key, strict=True))
            yield Pointing(link, cells, Suspicion("points at nothing", evidence, sure))


def _values_of(database: Database, child: Table, link: Link) -> Counter[tuple[StoredValue, ...]]:
    """What the link's columns hold, each with how often; nothing where that is too much."""
    counted: Counter[tuple[StoredValue, ...]] = Counter()
    order = child.position_columns or link.columns
    for batch in database.scanner.stream_rows(child, list(link.columns), order):
        counted.update(cast("list[Row]", [row for row in batch if None not in row]))
        if len(counted) > _MOST_KEYS:
            return Counter()
    return counted


def unusual_targets(
    database: Database, schema: Schema, links: Sequence[Link], go_on: GoOn = lambda: None
) -> Iterator[tuple[Link, StoredValue, str, Value, str]]:
    """Records that are pointed at though nearly all others that are hold something else.

    Yields the link, the value that points, the parent's column, what it holds, and the evidence:
    a berth that is kept by a booking which is cancelled, where all others are kept by current ones.

    Raises:
        ReadError: a table cannot be read, or it was interrupted.
    """
    for link in links:
        go_on()
        child, parent = schema.by_id.get(link.child), schema.by_id.get(link.parent)
        if child is None or parent is None or len(link.columns) != 1 or link.when is not None:
            continue
        counted = _values_of(database, child, link)
        if len(counted) < _FEWEST_POINTING or len(counted) > _BATCH:
            continue
        pointing = {key[0] for key in counted}
        yield from _unusual(database, parent, link, pointing)


def _unusual(
    database: Database, parent: Table, link: Link, pointing: set[StoredValue]
) -> Iterator[tuple[Link, StoredValue, str, Value, str]]:
    names = [c.name for c in parent.columns if c.type.use in ("text", "enum", "any", "boolean")]
    names = [name for name in names if name not in link.parent_columns]
    if not names:
        return
    key = link.parent_columns[0]
    overall: dict[str, Counter[Value]] = {name: Counter() for name in names}
    here: dict[str, dict[Value, list[StoredValue]]] = {name: defaultdict(list) for name in names}
    order = parent.position_columns or (key,)
    for batch in database.scanner.stream_rows(parent, [key, *names], order):
        columns = list(zip(*batch, strict=True))
        if not columns:
            continue
        for name, values in zip(names, columns[1:], strict=True):
            if name not in overall:
                continue
            overall[name].update(values)
            if len(overall[name]) > _FEW_VALUES:
                del overall[name]
                continue
            for target, value in zip(columns[0], values, strict=True):
                if target in pointing:
                    here[name][value].append(target)
    for name, counts in overall.items():
        found = here[name]
        number = sum(map(len, found.values()))
        # Where most records are pointed at, those that are not are the unusual ones.
        if number < _FEWEST_POINTING or number * 2 > sum(counts.values()):
            continue
        for value, targets in found.items():
            usual = [other for other, at in found.items() if len(at) * 10 >= number]
            elsewhere = sum(count for other, count in counts.items() if other not in usual)
            # By chance, a good many of them would hold something else.
            expected = number * elsewhere / max(1, sum(counts.values()))
            if value is None or None in usual:
                continue  # what is not filled in says nothing of what is
            if value not in usual and len(targets) <= 2 and expected >= 10 * len(targets):
                shown = ", ".join(str(v) for v in usual)
                for target in targets:
                    evidence = (
                        f"{link.child}.{link.columns[0]} points at it, and "
                        f"{number - len(targets)} of {number} that it points at hold {shown}"
                    )
                    yield link, target, name, value, evidence
