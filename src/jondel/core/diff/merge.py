"""Merges two sides of a table, each in key order, into pairs of rows that differ.

Memory stays constant: a batch of each side. Stretches that are equal on both sides, usually nearly
everything, are recognised batch by batch from their serialised bytes, without looking at rows.
"""

from __future__ import annotations

import marshal
import os
from collections.abc import Iterator
from typing import Any, TypeAlias, cast

from jondel.core.model.ordering import SortKey, sort_key
from jondel.core.model.values import Clipped, Row, ShownRow, identical

Pair: TypeAlias = tuple[ShownRow | None, ShownRow | None]
"""A row before and after; None on the side that has no row of that key."""

# Version 2 of the format writes no back references, so equal rows give equal bytes.
_MARSHAL_VERSION = 2
_LONGEST_STRIDE = 1024


def merge(
    before: Iterator[list[ShownRow]],
    after: Iterator[list[ShownRow]],
    key_width: int,
    same_columns: bool,
) -> Iterator[Pair]:
    """Yield the rows that are on one side only or seem to differ, in key order.

    The first ``key_width`` values of each row are its key, by whose order (see
    ``Database.stream_rows``) the rows must come. ``same_columns`` says that the rest means the
    same on both sides, so that equal rows are equal records and are left out. Rows of equal keys
    are paired one to one.
    """
    left, right = _Side(before), _Side(after)
    stride = 1
    while left.fill() and right.fill():
        if same_columns:
            stride = _skip_equal(left, right, stride)
            if not (left.left and right.left):
                continue
        one, other = left.rows[left.at], right.rows[right.at]
        left_key, right_key = _key(one, key_width), _key(other, key_width)
        if left_key < right_key:
            left.at += 1
            yield one, None
        elif right_key < left_key:
            right.at += 1
            yield None, other
        elif all(map(identical, one[:key_width], other[:key_width])):
            left.at += 1
            right.at += 1
            yield one, other
        else:  # they sort alike and are not: 0.0 and -0.0
            yield from _apart(
                left.take_run(left_key, key_width), right.take_run(left_key, key_width)
            )
    while left.fill():
        for row in left.take_all():
            yield row, None
    while right.fill():
        for row in right.take_all():
            yield None, row


def _key(row: ShownRow, width: int) -> SortKey:
    return sort_key(cast(Row, row[:width]))  # a key is never clipped


def _apart(before: list[ShownRow], after: list[ShownRow]) -> Iterator[Pair]:
    """Rows whose keys sort alike, those left out that are the same on both sides."""
    gone = list(before)
    came: list[ShownRow] = []
    for row in after:
        same = next((n for n, was in enumerate(gone) if all(map(identical, was, row))), None)
        if same is None:
            came.append(row)
        else:
            del gone[same]
    yield from ((row, None) for row in gone)
    yield from ((None, row) for row in came)


class _Side:
    """One side's current batch and how far it has been used up."""

    def __init__(self, batches: Iterator[list[ShownRow]]) -> None:
        self._batches = batches
        self.rows: list[ShownRow] = []
        self.at = 0

    @property
    def left(self) -> int:
        return len(self.rows) - self.at

    def fill(self) -> bool:
        """Have at least one row at hand; False at the end."""
        if self.at < len(self.rows):
            return True
        self.rows = next(self._batches, [])
        self.at = 0
        return bool(self.rows)

    def take_run(self, key: SortKey, width: int) -> list[ShownRow]:
        """Take the next rows that have a key."""
        run: list[ShownRow] = []
        while self.fill() and _key(self.rows[self.at], width) == key:
            run.append(self.rows[self.at])
            self.at += 1
        return run

    def take_all(self) -> list[ShownRow]:
        rest = self.rows[self.at :]
        self.at = len(self.rows)
        return rest


def _skip_equal(left: _Side, right: _Side, stride: int) -> int:
    """Step over the equal rows that both sides begin with, ``stride`` of them at a time.

    The stride grows while rows are equal and shrinks where they are not, so that long equal
    stretches and long differing ones are both cheap. Returns the stride to go on with.
    """
    while left.left and right.left:
        size = min(stride, left.left, right.left)
        ours = left.rows[left.at : left.at + size]
        theirs = right.rows[right.at : right.at + size]
        if size == 1 and ours != theirs:
            return 1  # where even values of several types count as equal, this is quicker
        if _bytes(ours) == _bytes(theirs):
            left.at += size
            right.at += size
            stride = min(stride * 2, _LONGEST_STRIDE)
        elif size == 1:
            return 1
        else:
            stride = max(1, size // 4)
    return stride


def _bytes(rows: Any) -> bytes:
    try:
        return marshal.dumps(rows, _MARSHAL_VERSION)
    except ValueError:
        if any(isinstance(value, Clipped) for row in rows for value in row):
            return os.urandom(16)  # what is beyond the beginnings is not known
        # InvalidText is none of marshal's types; this spelling is as exact, only slower.
        return repr(rows).encode("utf-8", "backslashreplace")
