"""Where two texts differ: by words, and within words by characters."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator

from jondel.core.diff.edit_script import Replaced, common_end, common_start, edit_script
from jondel.core.model.differences import TextDifference, TextEdit

MOST_EDITS = 200
_WORDS = re.compile(r"\w+|\s+|[^\w\s]")
_LINES = re.compile(r"[^\n]*\n|[^\n]+")
_MOST_WORDS = 100_000
_MOST_CHARACTERS = 1_000_000
"""Longer texts are compared by lines, and those of a score times as many not even so."""
_LONGEST_WORD = 40
_AROUND = 24
"""Characters of what is the same, before and after a place that differs."""
_NEAR = 3
"""Places that are no further apart than this are one."""
_LISTED_CHARACTERS = 1000


def text_difference(before: str, after: str) -> TextDifference:
    """Where two texts differ. Takes time in proportion to their lengths."""
    places = list(_joined(before, after, _places(before, after)))
    listed = [_narrowed(before, after, place) for place in places[:MOST_EDITS]]
    same_from = [0, *(place.b1 for place in listed)]
    same_until = [*(place.b0 for place in [*listed, *places[MOST_EDITS:][:1]][1:]), len(before)]
    edits = [
        _edit(before, after, place, max(same_from[n], place.b0 - _AROUND), same_until[n])
        for n, place in enumerate(listed)
    ]
    return TextDifference(tuple(edits), len(places) - len(listed))


def _places(before: str, after: str) -> Iterator[Replaced]:
    """The places that differ, in characters."""
    start = common_start(before, after)
    end = common_end(before, after, start)
    starts = range(start, max(0, start - _LONGEST_WORD), -1)
    start = next((s for s in starts if _is_boundary(before, after, s, s)), start)
    ends = range(end, max(0, end - _LONGEST_WORD), -1)
    sizes = len(before), len(after)
    end = next((e for e in ends if _is_boundary(before, after, sizes[0] - e, sizes[1] - e)), end)
    if start == sizes[0] - end and start == sizes[1] - end:
        return
    b, a = before[start : len(before) - end], after[start : len(after) - end]
    whole = Replaced(start, start + len(b), start, start + len(a))
    if not b or not a:
        yield whole
        return
    for pattern, most in ((_WORDS, _MOST_CHARACTERS), (_LINES, 20 * _MOST_CHARACTERS)):
        if max(len(b), len(a)) > most:
            continue
        parts = pattern.findall(b), pattern.findall(a)
        if max(map(len, parts)) > _MOST_WORDS:
            continue
        script = edit_script(*parts)
        if script is not None:
            yield from _in_characters(script, parts, start)
            return
    yield whole


def _is_boundary(before: str, after: str, at_before: int, at_after: int) -> bool:
    """Whether a word may begin or end there on both sides."""
    around = (before[at_before - 1 : at_before + 1], after[at_after - 1 : at_after + 1])
    return not any(len(pair) == 2 and _WORDS.fullmatch(pair) for pair in around)


def _in_characters(
    script: list[Replaced], parts: tuple[list[str], list[str]], start: int
) -> Iterator[Replaced]:
    starts = [[start], [start]]
    for side, words in zip(starts, parts, strict=True):
        for word in words:
            side.append(side[-1] + len(word))
    b, a = starts
    for b0, b1, a0, a1 in script:
        yield Replaced(b[b0], b[b1], a[a0], a[a1])


def _joined(before: str, after: str, places: Iterator[Replaced]) -> Iterator[Replaced]:
    """Places with hardly anything between them as one."""
    held: Replaced | None = None
    for place in places:
        if held is not None and place.b0 - held.b1 <= _NEAR and place.a0 - held.a1 <= _NEAR:
            held = Replaced(held.b0, place.b1, held.a0, place.a1)
            continue
        if held is not None:
            yield held
        held = place
    if held is not None:
        yield held


def _narrowed(before: str, after: str, place: Replaced) -> Replaced:
    """The characters that differ, where the words have most of theirs in common."""
    b, a = before[place.b0 : place.b1], after[place.a0 : place.a1]
    start = common_start(b, a)
    while start and any(_combines(text[start : start + 1]) for text in (b, a)):
        start -= 1  # a letter and its accent are one
    end = common_end(b, a, start)
    while end and _combines(b[len(b) - end]):
        end -= 1
    if 2 * (start + end) < max(len(b), len(a)):
        return place
    return Replaced(place.b0 + start, place.b1 - end, place.a0 + start, place.a1 - end)


def _combines(character: str) -> bool:
    return bool(character) and unicodedata.category(character) in ("Mn", "Me", "Cf")


def _edit(before: str, after: str, place: Replaced, same_from: int, same_until: int) -> TextEdit:
    b0, b1, a0, a1 = place
    return TextEdit(
        b0,
        a0,
        before[b0 : min(b1, b0 + _LISTED_CHARACTERS)],
        after[a0 : min(a1, a0 + _LISTED_CHARACTERS)],
        before[same_from:b0],
        before[b1 : min(b1 + _AROUND, same_until)],
        (b1 - b0, a1 - a0),
        after.count("\n", 0, a0) + 1,
        b1 + _AROUND < len(before),
    )
