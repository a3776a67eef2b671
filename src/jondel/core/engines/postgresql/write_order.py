"""The orders in which a plan can be written where links are checked row by row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema
from jondel.core.model.writes import RowWrite, WriteKind

_T = TypeVar("_T")
_FREE_FIRST: tuple[WriteKind, ...] = ("delete", "update", "insert")
_LINKS_FIRST: tuple[WriteKind, ...] = ("insert", "update", "delete")


def orders(
    writes: Sequence[tuple[RowWrite, _T]], schema: Schema
) -> list[list[tuple[RowWrite, _T]]]:
    """The orders to try. One suits what takes the place of something else, the other what points
    elsewhere from now on. In both what is pointed at comes first and goes last."""
    depths = _depths(schema)

    def place(entry: tuple[RowWrite, _T], kinds: tuple[WriteKind, ...]) -> tuple[int, int]:
        depth = depths.get(entry[0].table, 0)
        return kinds.index(entry[0].kind), -depth if entry[0].kind == "delete" else depth

    return [
        sorted(writes, key=lambda entry: place(entry, kinds))
        for kinds in (_FREE_FIRST, _LINKS_FIRST)
    ]


def _depths(schema: Schema) -> dict[TableId, int]:
    """How many links in a row lead on from each table; those in a circle count once."""
    depths: dict[TableId, int] = {}
    for start in schema.tables:
        on_the_way: list[tuple[TableId, bool]] = [(start.id, False)]
        open_ones: set[TableId] = set()
        while on_the_way:
            table, is_done = on_the_way.pop()
            targets = _targets(schema, table)
            if is_done:
                open_ones.discard(table)
                depths[table] = 1 + max((depths.get(target, 0) for target in targets), default=-1)
            elif table not in depths and table not in open_ones:
                open_ones.add(table)
                on_the_way.append((table, True))
                on_the_way += [(target, False) for target in targets]
    return depths


def _targets(schema: Schema, table: TableId) -> set[TableId]:
    found = schema.find(table)
    keys = found.foreign_keys if found is not None else ()
    return {key.target_table for key in keys} - {table}
