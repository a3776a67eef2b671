"""The fewest edits that lead from one sequence to another.

E. W. Myers, "An O(ND) Difference Algorithm and Its Variations", Algorithmica 1 (1986), the greedy
algorithm, with a limit on how many edits are looked for.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import NamedTuple

_MOST_EDITS = 500
_MOST_WORK = 3_000_000
"""Comparisons of items, in all; together with the edits it bounds the time."""


class Replaced(NamedTuple):
    """Items ``before[b0:b1]`` stand where now ``after[a0:a1]`` do."""

    b0: int
    b1: int
    a0: int
    a1: int


def edit_script(before: Sequence[Hashable], after: Sequence[Hashable]) -> list[Replaced] | None:
    """What was replaced, in order; None where the two have too little in common."""
    start = common_start(before, after)
    end = common_end(before, after, start)
    b = before[start : len(before) - end]
    a = after[start : len(after) - end]
    if not b and not a:
        return []
    if not b or not a:
        return [Replaced(start, start + len(b), start, start + len(a))]
    trace = _trace(b, a)
    if trace is None:
        return None
    return [
        Replaced(b0 + start, b1 + start, a0 + start, a1 + start)
        for b0, b1, a0, a1 in _runs(trace, len(b), len(a))
    ]


def common_start(one: Sequence[Hashable], other: Sequence[Hashable]) -> int:
    """How many items two sequences have in common at their beginnings."""
    low, high = 0, min(len(one), len(other))
    if one[:high] == other[:high]:
        return high
    while high - low > 1:  # slices are compared quickly, single items are not
        middle = (low + high) // 2
        if one[low:middle] == other[low:middle]:
            low = middle
        else:
            high = middle
    return low


def common_end(one: Sequence[Hashable], other: Sequence[Hashable], start: int) -> int:
    """How many items they have in common at their ends, without the first ``start``."""
    low, high = 0, min(len(one), len(other)) - start
    ones, others = len(one), len(other)
    if high <= 0:
        return 0
    if one[ones - high :] == other[others - high :]:
        return high
    while high - low > 1:
        middle = (low + high) // 2
        if one[ones - middle : ones - low] == other[others - middle : others - low]:
            low = middle
        else:
            high = middle
    return low


def _trace(b: Sequence[Hashable], a: Sequence[Hashable]) -> list[dict[int, int]] | None:
    """How far each diagonal came with each number of edits."""
    reached: dict[int, int] = {1: 0}
    trace: list[dict[int, int]] = []
    work = 0
    for edits in range(min(_MOST_EDITS, len(b) + len(a)) + 1):
        trace.append(dict(reached))
        for k in range(-edits, edits + 1, 2):
            down = k == -edits or (k != edits and reached[k - 1] < reached[k + 1])
            x = reached[k + 1] if down else reached[k - 1] + 1
            y = x - k
            began = x
            while x < len(b) and y < len(a) and b[x] == a[y]:
                x, y = x + 1, y + 1
            work += x - began + 1
            reached[k] = x
            if x >= len(b) and y >= len(a):
                return trace
        if work > _MOST_WORK:
            return None
    return None


def _runs(trace: list[dict[int, int]], x: int, y: int) -> list[Replaced]:
    """Go back along the trace; edits that follow each other at once are one."""
    runs: list[Replaced] = []
    for edits in range(len(trace) - 1, 0, -1):
        reached, k = trace[edits], x - y
        down = k == -edits or (k != edits and reached[k - 1] < reached[k + 1])
        k = k + 1 if down else k - 1
        was_x, was_y = reached[k], reached[k] - k
        # The edit comes first, and then what is the same.
        edit = Replaced(was_x, was_x + (not down), was_y, was_y + down)
        if runs and (runs[-1].b0, runs[-1].a0) == (edit.b1, edit.a1):
            runs[-1] = Replaced(edit.b0, runs[-1].b1, edit.a0, runs[-1].a1)
        else:
            runs.append(edit)
        x, y = was_x, was_y
    return runs[::-1]
