"""Which column of a file goes into which column of a table, and how its values are read."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from jondel.core.imports.guesses import kind_of_values, may_be_key
from jondel.core.imports.readings import Way
from jondel.core.imports.source import LINE_COLUMN, REASON_COLUMN, Raw
from jondel.core.model.column_types import ColumnType, ValueKind
from jondel.core.model.schema import Table
from jondel.core.sql.dialect import Dialect

_NEXT_BEST: Mapping[ValueKind, ValueKind] = {
    "blob": "any",
    "timestamp with time zone": "timestamp",
}
"""What takes values of a kind where the engine has no type for them."""
_KINDS_READ: Mapping[Way, ValueKind] = {
    "comma decimals": "numeric",
    "day first": "date",
    "month first": "date",
    "seconds": "timestamp",
    "base64": "blob",
}
"""What values are that are read so."""
_NOT_IN_NAMES = re.compile(r"\W+")


class Match(NamedTuple):
    """A column of a file, by its place there, and what becomes of it.

    ``target`` is the table's column; None where it is left out. ``type`` is that column's, and
    ``is_key`` that it is the primary key of a table that is made.
    """

    place: int
    name: str
    target: str | None
    type: ColumnType = ColumnType()
    way: Way = "by type"
    is_key: bool = False


def matches_with(columns: Sequence[str], table: Table) -> tuple[Match, ...]:
    """Columns of a file with those of a table that are called the same, or nearly so."""
    can_be_set = [column for column in table.columns if not column.generated]
    targets = {column.name: column for column in can_be_set}
    alike: dict[str, str] = {}
    for column in can_be_set:
        alike.setdefault(_folded(column.name), column.name)
    taken: set[str] = set()
    found: list[Match] = []
    for place, name in enumerate(columns):
        target = name if name in targets else alike.get(_folded(name))
        if target is None or target in taken or name in (LINE_COLUMN, REASON_COLUMN):
            found.append(Match(place, name, None))
            continue
        taken.add(target)
        found.append(Match(place, name, target, targets[target].type))
    return tuple(found)


def matches_for_new(
    columns: Sequence[str], samples: Sequence[Sequence[Raw]], dialect: Dialect
) -> tuple[Match, ...]:
    """Columns of a file with those of a table that is made for them.

    ``samples`` are the first values of each column.
    """
    types = _types_by_use(dialect)
    taken: set[str] = set()
    found: list[Match] = []
    key: str | None = None
    for place, (name, values) in enumerate(zip(columns, samples, strict=True)):
        if name in (LINE_COLUMN, REASON_COLUMN):
            found.append(Match(place, name, None))
            continue
        target = _free(_plain(name), taken)
        kind = kind_of_values(values)
        if kind == "integer" and key is None and target == "id" and may_be_key(values):
            key = name
        made = types.get(kind) or types["text"]
        found.append(Match(place, name, target, made, is_key=key == name))
    return tuple(found)


def read_by(match: Match, way: Way, dialect: Dialect, *, is_new: bool) -> Match:
    """A match whose values are read in some way; a new table's column gets a type that fits."""
    kind = _KINDS_READ.get(way)
    if not is_new or kind is None:
        return match._replace(way=way)
    types = _types_by_use(dialect)
    return match._replace(way=way, type=types.get(kind) or types["text"])


def without_values(table: Table, matches: Sequence[Match]) -> list[str]:
    """Columns that must have a value and get none."""
    given = {match.target for match in matches}
    return [
        column.name
        for column in table.columns
        if column.name not in given
        and column.not_null
        and column.default is None
        and not (column.generated or column.numbered)
        and (column.name,) != _numbered_key(table)
    ]


def _types_by_use(dialect: Dialect) -> dict[ValueKind, ColumnType]:
    """The type that is made for each kind of values, as far as there is one."""
    types = {offered.use: offered for offered in reversed(dialect.types)}
    for kind, other in _NEXT_BEST.items():
        if kind not in types and other in types:
            types[kind] = types[other]
    return types


def _numbered_key(table: Table) -> tuple[str, ...]:
    """A key that the engine gives a number where none is given."""
    key = table.primary_key
    column = table.column(key[0]) if len(key) == 1 and table.row_id is not None else None
    return key if column is not None and column.type.kind == "integer" else ()


def _folded(name: str) -> str:
    return _NOT_IN_NAMES.sub("", name).replace("_", "").casefold()


def _plain(name: str) -> str:
    """A name as tables have them, of one in a heading."""
    return _NOT_IN_NAMES.sub("_", name.strip()).strip("_").lower() or "column"


def _free(name: str, taken: set[str]) -> str:
    one, number = name, 2
    while one in taken:
        one, number = f"{name}_{number}", number + 1
    taken.add(one)
    return one
