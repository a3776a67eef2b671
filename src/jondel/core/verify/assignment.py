"""Pairs what is wanted with what is there, as many as can be: maximum bipartite matching.

Kuhn's algorithm with augmenting paths (H. W. Kuhn, "The Hungarian Method for the Assignment
Problem", 1955, in the unweighted form), without recursion.
"""

from __future__ import annotations

from collections.abc import Sequence


def assigned(candidates: Sequence[Sequence[int]]) -> list[int | None]:
    """For each left one the right one it is paired with, or None.

    ``candidates`` lists for each left one the right ones that suit it. No right one is taken twice.
    Left ones with the very same list cost no more than one.
    """
    right_of: list[int | None] = [None] * len(candidates)
    left_of: dict[int, int] = {}
    taken_up_to: dict[int, int] = {}
    without_way: set[int] = set()
    for start, suits in enumerate(candidates):
        if id(suits) in without_way:
            continue
        at = taken_up_to.get(id(suits), 0)
        while at < len(suits) and suits[at] in left_of:
            at += 1
        taken_up_to[id(suits)] = at
        free = suits[at] if at < len(suits) else _augment(start, candidates, left_of, right_of)
        if free is None:
            # What is taken stays so, and what cannot be moved now cannot be later.
            without_way.add(id(suits))
        else:
            right_of[start] = free
            left_of[free] = start
    return right_of


def _augment(
    start: int,
    candidates: Sequence[Sequence[int]],
    left_of: dict[int, int],
    right_of: list[int | None],
) -> int | None:
    """Move pairs along a path so that a right one becomes free for ``start``; gives that one."""
    came_from: dict[int, int] = {}
    waiting = [start]
    for left in waiting:
        for right in candidates[left]:
            if right in came_from:
                continue
            came_from[right] = left
            if right in left_of:
                waiting.append(left_of[right])
                continue
            while came_from[right] != start:
                moved = came_from[right]
                previous = right_of[moved]
                assert previous is not None, "only what is paired is waiting, but for the start"
                right_of[moved], left_of[right] = right, moved
                right = previous
            return right
    return None
