"""The order in which the rows of a plan are tried where links are checked row by row."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema
from jondel.core.model.writes import RowWrite, WriteKind

_T = TypeVar("_T")


def in_order(
    entries: Sequence[_T],
    schema: Schema,
    kinds: Sequence[WriteKind],
    write_of: Callable[[_T], RowWrite],
) -> list[_T]:
    """Entries by the kinds of their writes; what is pointed at comes first and goes last."""
    depths = _depths(schema)

    def place(entry: _T) -> tuple[int, int]:
        write = write_of(entry)
        depth = depths.get(write.table, 0)
        return kinds.index(write.kind), -depth if write.kind == "delete" else depth

    return sorted(entries, key=place)


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
