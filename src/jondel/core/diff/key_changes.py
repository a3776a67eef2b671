"""Finds records whose key changed and nothing else."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.values import ShownRow, Value, kind_of


@dataclass(frozen=True)
class Rekeyed:
    """A record that was removed under one key and added under another with the same content."""

    removed: RecordChange
    added: RecordChange


def rekeyed_records(changes: TableChanges) -> list[Rekeyed]:
    """Pair removed with added records of the same content, in key order.

    Only where there is content beside the key, and where the columns are the same on both sides.
    """
    columns = changes.columns_before
    if columns != changes.columns_after:
        return []
    places = [i for i, name in enumerate(columns) if name not in changes.key_columns]
    if not places:
        return []
    waiting: defaultdict[tuple[object, ...], list[RecordChange]] = defaultdict(list)
    for record in changes.records:
        if record.kind == "removed" and record.before is not None:
            waiting[_content(record.before, places)].append(record)
    pairs = []
    for record in changes.records:
        if record.kind == "added" and record.after is not None:
            same = waiting.get(_content(record.after, places))
            if same:
                pairs.append(Rekeyed(same.pop(0), record))
    return pairs


def _content(row: ShownRow, places: list[int]) -> tuple[object, ...]:
    return tuple(_exact(row[place]) for place in places)


def _exact(value: Value) -> tuple[str, object]:
    return kind_of(value), value
