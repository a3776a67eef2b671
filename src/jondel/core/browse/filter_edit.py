"""Changes a filter piece by piece, as a list of lines: each condition that is no group is one.

A line's *path* leads to it: the layer's index, then the index in each group on the way down.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import NamedTuple, TypeAlias

from jondel.core.model.filters import (
    Condition,
    Filter,
    GroupCondition,
    Layer,
    WordsCondition,
)

Path: TypeAlias = tuple[int, ...]


class FilterLine(NamedTuple):
    """One condition of a filter; ``joint`` is the word before it, empty for the first of all."""

    path: Path
    joint: str
    condition: Condition
    on: bool


def lines_of(stack: Filter) -> list[FilterLine]:
    """The conditions of a filter from top to bottom."""
    lines: list[FilterLine] = []
    for number, layer in enumerate(stack.layers):
        joint = "and" if number else ""
        lines += _lines(layer.condition, (number,), joint, layer.on)
    return lines


def _lines(condition: Condition, path: Path, joint: str, on: bool) -> Iterator[FilterLine]:
    if isinstance(condition, GroupCondition) and condition.members:
        for number, member in enumerate(condition.members):
            word = condition.joined if number else joint
            yield from _lines(member, (*path, number), word, on)
    else:
        yield FilterLine(path, joint, condition, on)


def with_line(stack: Filter, path: Path, condition: Condition | None) -> Filter:
    """The filter with one line replaced, or taken out for None."""
    return _at_layer(stack, path, lambda old: _replaced(old, path[1:], condition))


def with_other_joint(stack: Filter, path: Path) -> Filter:
    """The filter with a line joined to the one above by the other word.

    By ``and`` it becomes a layer of its own behind its group; by ``or`` a member of the layer
    above. The first line has nothing above it and stays as it is.
    """
    if len(path) == 1:
        return _joined_to_above(stack, path[0])
    layer = stack.layers[path[0]]
    entry = next((x for x in lines_of(stack) if x.path == path), None)
    if entry is None or entry.joint != "or" or len(path) > 2:
        return stack
    rest = _replaced(layer.condition, path[1:], None)
    kept = [] if rest is None else [replace(layer, condition=rest)]
    layers = list(stack.layers)
    layers[path[0] : path[0] + 1] = [*kept, Layer(entry.condition, layer.on)]
    return Filter(tuple(layers))


def _joined_to_above(stack: Filter, number: int) -> Filter:
    if number == 0:
        return stack
    above, this = stack.layers[number - 1], stack.layers[number]
    members = (*_members(above.condition), *_members(this.condition))
    joined = Layer(GroupCondition("or", members), above.on)
    return Filter((*stack.layers[: number - 1], joined, *stack.layers[number + 1 :]))


def _members(condition: Condition) -> tuple[Condition, ...]:
    is_either = isinstance(condition, GroupCondition) and condition.joined == "or"
    return condition.members if is_either else (condition,)  # type: ignore[union-attr]


def words_in(stack: Filter) -> str:
    """The words that are searched for, of the first layer that is such."""
    return next(
        (x.condition.text for x in stack.layers if isinstance(x.condition, WordsCondition)), ""
    )


def with_words(stack: Filter, text: str) -> Filter:
    """The filter with other words searched for."""
    place = next(
        (n for n, x in enumerate(stack.layers) if isinstance(x.condition, WordsCondition)), None
    )
    layer = Layer(WordsCondition(text)) if text.strip() else None
    if place is not None:
        return stack.changed(place, layer)
    return Filter((layer, *stack.layers)) if layer is not None else stack


def with_condition(stack: Filter, condition: Condition | None) -> Filter:
    """The filter with what is on replaced by a condition; what is off stays behind it."""
    off = tuple(layer for layer in stack.layers if not layer.on)
    if condition is None:
        return Filter(off)
    is_all = isinstance(condition, GroupCondition) and condition.joined == "and"
    members = condition.members if is_all else (condition,)  # type: ignore[union-attr]
    return Filter((*map(Layer, members), *off))


def _at_layer(stack: Filter, path: Path, change: Callable[[Condition], Condition | None]) -> Filter:
    layer = stack.layers[path[0]]
    changed = change(layer.condition)
    return stack.changed(path[0], None if changed is None else replace(layer, condition=changed))


def _replaced(old: Condition, path: Path, new: Condition | None) -> Condition | None:
    """A condition with what is at a path replaced or taken out; no group of one is left."""
    if not path:
        return new
    assert isinstance(old, GroupCondition), "paths lead through groups"
    changed = _replaced(old.members[path[0]], path[1:], new)
    put = () if changed is None else (changed,)
    members = (*old.members[: path[0]], *put, *old.members[path[0] + 1 :])
    if len(members) < 2:
        return members[0] if members else None
    return GroupCondition(old.joined, members)
