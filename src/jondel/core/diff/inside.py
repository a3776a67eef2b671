"""What differs inside a value, whatever it is: JSON, text, a blob or a time."""

from __future__ import annotations

from jondel.core.browse.display import blob_kind
from jondel.core.browse.times import TimeKind, guess_time_kind, moment, reading
from jondel.core.diff.edit_script import common_end, common_start
from jondel.core.diff.json_difference import json_difference
from jondel.core.diff.text_difference import text_difference
from jondel.core.model.changes import CellChange, NoValue
from jondel.core.model.differences import BlobDifference, Difference, TimeDifference
from jondel.core.model.schema import Column
from jondel.core.model.values import Exact, Value

_SHORT_TEXT = 12
"""Texts up to this length are seen to differ when they stand side by side."""
_SHOWN_BYTES = 8


def with_inside(cell: CellChange, column: Column | None) -> CellChange:
    """A changed cell with what differs inside it."""
    if isinstance(cell.before, NoValue):
        return cell
    kind = guess_time_kind(column, (cell.before, cell.after)) if column is not None else None
    return cell._replace(inside=inside_of(cell.before, cell.after, kind))


def inside_of(before: Value, after: Value, kind: TimeKind | None = None) -> Difference | None:
    """What differs between two values of one sort; None where that says no more than the values
    themselves. Takes time in proportion to their sizes."""
    if kind is not None:
        read = _of_times(before, after, kind)
        if read is not None:
            return read
    if isinstance(before, Exact) and isinstance(after, Exact) and before.kind == after.kind:
        before, after = before.text, after.text
    match before, after:
        case str(), str():
            if max(len(before), len(after)) <= _SHORT_TEXT and before.isascii() and after.isascii():
                return None
            return json_difference(before, after) or text_difference(before, after)
        case bytes(), bytes():
            return _of_blobs(before, after)
    return None


def _of_times(before: Value, after: Value, kind: TimeKind) -> TimeDifference | None:
    was, now = moment(before, kind), moment(after, kind)
    words = reading(before, kind), reading(after, kind)
    if was is None or now is None or words[0] is None or words[1] is None:
        return None
    return TimeDifference(kind, words[0], words[1], (now - was).total_seconds())


def _of_blobs(before: bytes, after: bytes) -> BlobDifference:
    start = common_start(before, after)
    return BlobDifference(
        start,
        common_end(before, after, start),
        (len(before), len(after)),
        (blob_kind(before), blob_kind(after)),
        before[start : start + _SHOWN_BYTES],
        after[start : start + _SHOWN_BYTES],
    )
