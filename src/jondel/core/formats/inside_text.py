"""What differs inside a value as short lines, in which the parts that differ are marked.

``‹north → south›`` was replaced, ``‹+ far›`` was added and ``‹- far›`` was removed; what stands
around it is the same on both sides.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.browse.display import CLIP_SIGN, line, visible
from jondel.core.model.changes import MARKS
from jondel.core.model.differences import (
    BlobDifference,
    Difference,
    JsonDifference,
    JsonPath,
    MemberDifference,
    TextDifference,
    TextEdit,
    TimeDifference,
)
from jondel.core.model.sizes import size_text

Role: TypeAlias = Literal["path", "same", "before", "after", "mark"]
_ARROW, _COLON = " → ", ": "
_VALUE_CHARACTERS = 60
_LEAST_AROUND, _SHORT = 6, 3
_LONG_WAY = 40
"""So many characters into a text it is said how far that is."""
_NAME = re.compile(r"[^\W\d]\w*")
_UNITS = ((86400, "day"), (3600, "hour"), (60, "minute"), (1, "second"))


class Part(NamedTuple):
    """A run of characters and what they are."""

    text: str
    role: Role


def inside_lines(difference: Difference) -> Iterator[list[Part]]:
    """The lines that say what differs, each safe to be shown."""
    match difference:
        case TextDifference():
            yield from _text_lines(difference)
        case JsonDifference():
            for member in difference.members:
                yield _member_line(member)
            if difference.more:
                yield [Part(f"{CLIP_SIGN} {difference.more} more", "mark")]
            if difference.text is not None:
                yield [Part("the same JSON, written differently", "mark")]
                yield from _text_lines(difference.text)
        case BlobDifference():
            yield _blob_line(difference)
        case TimeDifference(before=before, after=after) if before == after:
            yield [Part(_duration(difference.seconds), "mark")]
        case TimeDifference():
            yield [
                Part(difference.before, "before"),
                Part(_ARROW, "mark"),
                Part(difference.after, "after"),
                Part(f"  {_duration(difference.seconds)}", "mark"),
            ]


def plain(parts: Sequence[Part]) -> str:
    """A line without anything but its characters."""
    return "".join(part.text for part in parts)


def closed_up(parts: Sequence[Part], room: int) -> list[Part]:
    """A line with less of what is the same, where it is longer than ``room`` characters."""
    over = sum(len(part.text) for part in parts) - room
    closed = list(parts)
    # What follows what differs goes first, then what leads to it.
    for index in sorted(range(len(closed)), key=lambda n: -n):
        text, role = closed[index]
        if over <= 0:
            break
        if role == "same" and len(text) > _LEAST_AROUND:
            kept = max(_LEAST_AROUND, len(text) - over - 1)
            leads = any(part.role == "mark" for part in closed[index + 1 : index + 2])
            bare = text.strip(CLIP_SIGN)
            shown = f"{CLIP_SIGN}{bare[-kept:]}" if leads else f"{bare[:kept]}{CLIP_SIGN}"
            over -= len(text) - len(shown)
            closed[index] = Part(shown, role)
    if over > 0 and closed[0].role == "path" and closed[0].text.endswith(_COLON):
        del closed[0]  # where it is matters less than what it is
    return closed


def path_text(path: JsonPath) -> str:
    """A path in one word, as in ``lines[2].price``."""
    text = ""
    for step in path:
        if isinstance(step, int):
            text += f"[{step}]"
        elif _NAME.fullmatch(step):
            text += f".{step}" if text else step
        else:
            text += f"[{visible(repr(step))}]"
    return text or "all of it"


def _text_lines(difference: TextDifference) -> Iterator[list[Part]]:
    for edit in difference.edits:
        if edit.line > 1:
            yield [Part(f"line {edit.line}{_COLON}", "path"), *_edit_parts(edit)]
        elif edit.at_before >= _LONG_WAY:
            yield [Part(f"from character {edit.at_before + 1}{_COLON}", "path"), *_edit_parts(edit)]
        else:
            yield _edit_parts(edit)
    if difference.more:
        yield [Part(f"{CLIP_SIGN} {difference.more} more places", "mark")]


def _edit_parts(edit: TextEdit) -> list[Part]:
    before, after = _shown(edit.before, edit.lengths[0]), _shown(edit.after, edit.lengths[1])
    lead, trail = visible(edit.lead), visible(edit.trail)
    if edit.at_before > len(edit.lead):
        lead = CLIP_SIGN + lead
    parts = [Part(lead, "same"), Part("‹", "mark")]
    if not edit.before:
        parts += [Part(f"{MARKS['added']} ", "mark"), Part(after, "after")]
    elif not edit.after:
        parts += [Part(f"{MARKS['removed']} ", "mark"), Part(before, "before")]
    else:
        parts += [Part(before, "before"), Part(_ARROW, "mark"), Part(after, "after")]
    if _look_alike(edit.before, edit.after):
        parts.append(Part(f" ({_codes(edit.before)}{_ARROW}{_codes(edit.after)})", "mark"))
    parts += [Part("›", "mark"), Part(trail + (CLIP_SIGN if edit.goes_on else ""), "same")]
    return [part for part in parts if part.text]


def _shown(text: str, length: int) -> str:
    shown = visible(text[:_VALUE_CHARACTERS])
    more = length - min(len(text), _VALUE_CHARACTERS)
    return f"{shown}{CLIP_SIGN} {more} more" if more > 0 else shown


def _look_alike(before: str, after: str) -> bool:
    """Whether two texts may be taken for each other: composed differently, or of letters of other
    alphabets, or made of characters of which only marks are shown."""
    if not before or not after:
        return False
    if visible(before) == visible(after):
        return True
    if unicodedata.normalize("NFKC", before) == unicodedata.normalize("NFKC", after):
        return True
    letters = before.isalpha() and after.isalpha() and len(before) == len(after) <= _SHORT
    return letters and before.isascii() != after.isascii()


def _codes(text: str) -> str:
    """What letters that look alike are."""
    codes = " ".join(f"U+{ord(character):04X}" for character in text[:8])
    return codes + (f" {CLIP_SIGN}" if len(text) > 8 else "")


def _member_line(member: MemberDifference) -> list[Part]:
    parts = [Part(f"{MARKS[member.kind]} ", "mark"), Part(f"{path_text(member.path)}  ", "path")]
    if member.text is not None and member.text.edits:
        for number, edit in enumerate(member.text.edits[:3]):
            parts += [Part(" ", "same"), *_edit_parts(edit)] if number else _edit_parts(edit)
        more = len(member.text.edits) - 3 + member.text.more
        return [*parts, Part(f" {CLIP_SIGN} {more} more places", "mark")] if more > 0 else parts
    if member.before is not None:
        parts.append(Part(line(member.before, _VALUE_CHARACTERS), "before"))
    if member.kind == "changed":
        parts.append(Part(_ARROW, "mark"))
    if member.after is not None:
        parts.append(Part(line(member.after, _VALUE_CHARACTERS), "after"))
    return parts


def _blob_line(difference: BlobDifference) -> list[Part]:
    sizes = [
        f"{kind} {size_text(size)}"
        for kind, size in zip(difference.kinds, difference.sizes, strict=True)
    ]
    bytes_ = [part.hex(" ") or "its end" for part in (difference.before, difference.after)]
    parts = [Part(f"from byte {difference.offset}: ", "path")]
    parts += [Part(bytes_[0], "before"), Part(_ARROW, "mark"), Part(bytes_[1], "after")]
    if difference.same_at_end:
        parts.append(Part(f"  the last {difference.same_at_end} are the same", "path"))
    if sizes[0] == sizes[1]:
        return [*parts, Part(f"  {sizes[0]}", "path")]
    return [*parts, Part(f"  {sizes[0]}{_ARROW}{sizes[1]}", "path")]


def _duration(seconds: float) -> str:
    """A time span in its largest unit and the next, as in ``+1 day 2 hours``."""
    sign, left = "-" if seconds < 0 else "+", abs(seconds)
    if left < 1:
        return f"{sign}{left:.3g} seconds"
    words: list[str] = []
    for size, unit in _UNITS:
        number, left = divmod(left, size)
        if number and len(words) < 2:
            words.append(f"{int(number)} {unit}{'' if number == 1 else 's'}")
        elif words:
            break
    return sign + " ".join(words)
