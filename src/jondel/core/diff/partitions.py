"""Tables that became a part of a partitioned table between two states, or are no longer.

Their records are told once: as records of the partitioned table, as its rows come or go with the
part. Of the part by itself only what it does not have in common with the partitioned table is told.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple, cast

from jondel.core.diff.keys import Key, comparison_key
from jondel.core.diff.merge import merge
from jondel.core.engines.protocol import Database
from jondel.core.model.changes import RecordChange
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import Row, ShownRow


class MovedPart(NamedTuple):
    """A table that was detached, or attached: by itself on one side, a part on the other."""

    alone: Table
    whole: Table
    """The partitioned table, on the side on which the other one is a part of it."""
    detached: bool


def moved_part(
    old: Table | None, new: Table | None, before: Schema, after: Schema
) -> MovedPart | None:
    """What a table is that changed sides; None for all others."""
    if old is None or new is None or old.is_partition == new.is_partition:
        return None
    part, alone, schema = (old, new, before) if old.is_partition else (new, old, after)
    whole = schema.by_id.get(part.partition_of) if part.partition_of is not None else None
    if whole is None or whole.unreadable or not set(alone.column_names) <= set(whole.column_names):
        return None
    return MovedPart(alone, whole, detached=old.is_partition)


def records_apart(
    before: Database, after: Database, part: MovedPart
) -> tuple[Key, Iterator[RecordChange]]:
    """The records that the table has by itself, and the partitioned table on the other side not."""
    sides = (part.whole, part.alone) if part.detached else (part.alone, part.whole)
    key = comparison_key(before, after, *sides)
    return key, _records(before, after, part, key)


def _records(
    before: Database, after: Database, part: MovedPart, key: Key
) -> Iterator[RecordChange]:
    sides = (part.whole, part.alone) if part.detached else (part.alone, part.whole)
    columns = (*key.columns, *part.alone.column_names)
    earlier = before.scanner.stream_rows(sides[0], columns, key.columns)
    later = after.scanner.stream_rows(sides[1], columns, key.columns)
    for pair in merge(earlier, later, key.width, same_columns=True):
        row = pair[1] if part.detached else pair[0]
        if row is not None:
            yield _record(row, key, added=part.detached)


def _record(row: ShownRow, key: Key, *, added: bool) -> RecordChange:
    position, cells = cast(Row, row[: key.width]), row[key.width :]
    if added:
        return RecordChange("added", position, None, cells)
    return RecordChange("removed", position, cells, None)
