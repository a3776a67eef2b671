"""The parts in which two JSON values differ, each by its path."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any

from jondel.core.browse.json_lines import JsonNumber, JsonObject, parsed
from jondel.core.diff.edit_script import Replaced, edit_script
from jondel.core.diff.text_difference import text_difference
from jondel.core.model.differences import JsonDifference, JsonPath, MemberDifference

MOST_MEMBERS = 500
_LARGEST = 4 << 20
"""In characters; longer texts are compared as texts."""
_NAMES_OF_KEYS = ("id", "key", "uuid", "name", "code", "slug")
_MOST_PAIRS = 2_500
_LEAST_LIKENESS = 0.5
_LONG_TEXT = 24


def json_difference(before: str, after: str) -> JsonDifference | None:
    """How two JSON objects or lists differ; None where one of them is no such thing."""
    if max(len(before), len(after)) > _LARGEST:
        return None
    one, other = parsed(before), parsed(after)
    if one is None or other is None or type(one) is not type(other):
        return None
    members: list[MemberDifference] = []
    more = 0
    try:
        for member in _differing(one, other, ()):
            if len(members) < MOST_MEMBERS:
                members.append(member)
            else:
                more += 1
    except RecursionError:
        return None
    text = None if members else text_difference(before, after)
    return JsonDifference(tuple(members), more, text)


def _differing(before: Any, after: Any, path: JsonPath) -> Iterator[MemberDifference]:
    if before == after and type(before) is type(after) and not isinstance(before, list):
        return
    if isinstance(before, JsonObject) and isinstance(after, JsonObject):
        yield from _of_objects(before, after, path)
    elif _is_list(before) and _is_list(after):
        yield from _of_lists(before, after, path)
    else:
        text = None
        if type(before) is str and type(after) is str and len(before + after) > _LONG_TEXT:
            text = text_difference(before, after)
        yield MemberDifference("changed", path, written(before), written(after), text)


def _of_objects(
    before: JsonObject, after: JsonObject, path: JsonPath
) -> Iterator[MemberDifference]:
    old, new = _by_name(before), _by_name(after)
    for name, values in new.items():
        were = old.get(name, [])
        for was, now in zip(were, values, strict=False):
            yield from _differing(was, now, (*path, name))
        for now in values[len(were) :]:
            yield MemberDifference("added", (*path, name), None, written(now))
    for name, were in old.items():
        for was in were[len(new.get(name, [])) :]:
            yield MemberDifference("removed", (*path, name), written(was), None)


def _by_name(members: JsonObject) -> dict[str, list[Any]]:
    """The values of each name; there are several where a name occurs twice."""
    values: dict[str, list[Any]] = {}
    for name, value in members:
        values.setdefault(name, []).append(value)
    return values


def _of_lists(
    before: Sequence[Any], after: Sequence[Any], path: JsonPath
) -> Iterator[MemberDifference]:
    script = edit_script([_identity(item) for item in before], [_identity(item) for item in after])
    if script is None:  # next to nothing is the same: item by item
        script = [Replaced(0, len(before), 0, len(after))]
    for b0, b1, a0, a1 in script:
        for was, now in _paired(before[b0:b1], after[a0:a1]):
            if was is None and now is not None:
                here = a0 + now
                yield MemberDifference("added", (*path, here), None, written(after[here]))
            elif was is not None and now is None:
                there = b0 + was
                yield MemberDifference("removed", (*path, there), written(before[there]), None)
            elif was is not None and now is not None:
                yield from _differing(before[b0 + was], after[a0 + now], (*path, a0 + now))


def _paired(before: Sequence[Any], after: Sequence[Any]) -> Iterator[tuple[int | None, int | None]]:
    """Which items were rewritten to which, which are gone and which are new, in their order."""
    if len(before) == len(after) == 1:
        yield 0, 0
        return
    keys = _keys_of(before), _keys_of(after)
    if all(keys):
        alike = edit_script(*keys)
    elif len(before) * len(after) <= _MOST_PAIRS:
        yield from _by_likeness(before, after)
        return
    else:
        alike = None
    if alike is None:
        for place in range(max(len(before), len(after))):
            yield (
                place if place < len(before) else None,
                place if place < len(after) else None,
            )
        return
    b = a = 0
    for b0, b1, a0, a1 in [*alike, (len(before), len(before), len(after), len(after))]:
        while b < b0:
            yield b, a
            b, a = b + 1, a + 1
        for gone in range(b0, b1):
            yield gone, None
        for new in range(a0, a1):
            yield None, new
        b, a = b1, a1


def _keys_of(items: Sequence[Any]) -> list[str]:
    """What names each of the items, where they all are objects and have the like; else nothing."""
    if not all(isinstance(item, JsonObject) for item in items):
        return []
    named = [dict(item) for item in items]
    for name in _NAMES_OF_KEYS:
        keys = [_identity(members[name]) for members in named if name in members]
        if len(keys) == len(items) and len(set(keys)) == len(keys):
            return keys
    return []


def _by_likeness(
    before: Sequence[Any], after: Sequence[Any]
) -> Iterator[tuple[int | None, int | None]]:
    """Pair items so that the pairs are as alike as can be, in their order."""
    rows, columns = len(before), len(after)
    best = [[0.0] * (columns + 1) for _ in range(rows + 1)]
    likeness = [[_likeness(was, now) for now in after] for was in before]
    for i in range(rows - 1, -1, -1):
        for j in range(columns - 1, -1, -1):
            both = likeness[i][j] + best[i + 1][j + 1] if likeness[i][j] > 0 else -1.0
            best[i][j] = max(both, best[i + 1][j], best[i][j + 1])
    i = j = 0
    while i < rows or j < columns:
        pair = likeness[i][j] if i < rows and j < columns else 0.0
        if pair > 0 and best[i][j] == pair + best[i + 1][j + 1]:
            yield i, j
            i, j = i + 1, j + 1
        elif i < rows and (j == columns or best[i][j] == best[i + 1][j]):
            yield i, None
            i += 1
        else:
            yield None, j
            j += 1


def _likeness(was: Any, now: Any) -> float:
    """How much two items have in common, above 0 where one may be the other rewritten."""
    if isinstance(was, JsonObject) and isinstance(now, JsonObject):
        old, new = dict(was), dict(now)
        names = old.keys() | new.keys()
        same = sum(_identity(old[n]) == _identity(new[n]) for n in old.keys() & new.keys())
        # Objects of one shape may be rewritten in all of their members.
        shape = len(old.keys() & new.keys())
        share = (same + shape) / (2 * len(names)) if names else 1.0
    elif _is_list(was) and _is_list(now):
        share = 1.0 if len(was) == len(now) else 0.5
    elif type(was) is str and type(now) is str:
        common = len(set(was.split()) & set(now.split()))
        share = 2 * common / max(1, len(was.split()) + len(now.split()))
    else:
        share = 0.0
    return share if share >= _LEAST_LIKENESS else 0.0


def _is_list(value: Any) -> bool:
    return isinstance(value, list) and not isinstance(value, JsonObject)


def _identity(value: Any) -> str:
    """The same for values that are the same, and quick to find."""
    return repr(value)


def written(value: Any) -> str:
    """A parsed value as JSON on one line, numbers as they were written."""
    if isinstance(value, JsonNumber):
        return str(value)
    if isinstance(value, JsonObject):
        return "{" + ", ".join(f"{json.dumps(n)}: {written(v)}" for n, v in value) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(written, value)) + "]"
    return json.dumps(value, ensure_ascii=False)
