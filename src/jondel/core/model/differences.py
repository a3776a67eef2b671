"""What differs inside a value: between what a cell held before and what it holds now."""

from __future__ import annotations

from typing import Literal, NamedTuple, TypeAlias

JsonPath: TypeAlias = tuple[str | int, ...]
"""The names and places that lead to a part of a JSON value, from the outside in."""


class TextEdit(NamedTuple):
    """One place at which two texts differ, in characters from their beginnings.

    ``before`` and ``after`` are what stands there, empty where text was only added or removed; of
    long ones the beginning, with the whole lengths in ``lengths``. ``lead`` and ``trail`` are the
    text around it, which both have, and ``goes_on`` says that there is more of it. ``line`` counts
    the lines of the text after, from 1.
    """

    at_before: int
    at_after: int
    before: str
    after: str
    lead: str
    trail: str
    lengths: tuple[int, int]
    line: int
    goes_on: bool


class TextDifference(NamedTuple):
    """Where two texts differ, in their order; ``more`` counts the places that are not listed."""

    edits: tuple[TextEdit, ...]
    more: int = 0


class MemberDifference(NamedTuple):
    """One part of a JSON value that was added, changed or removed; values in JSON's own words.

    The path counts list items as they are in the value after, of removed ones as they were before.
    """

    kind: Literal["added", "changed", "removed"]
    path: JsonPath
    before: str | None
    after: str | None
    text: TextDifference | None = None
    """Where both are texts: where these differ."""


class JsonDifference(NamedTuple):
    """The parts in which two JSON values differ; ``more`` counts those that are not listed.

    Without any, only the way in which they are written differs, as ``text`` says.
    """

    members: tuple[MemberDifference, ...]
    more: int = 0
    text: TextDifference | None = None


class BlobDifference(NamedTuple):
    """Where two blobs begin to differ, in bytes, and how many bytes at their ends are the same.

    ``before`` and ``after`` are the first bytes from there on.
    """

    offset: int
    same_at_end: int
    sizes: tuple[int, int]
    kinds: tuple[str, str]
    before: bytes
    after: bytes


class TimeDifference(NamedTuple):
    """Two times as one reads them, and the seconds from one to the other."""

    kind: str
    before: str
    after: str
    seconds: float


Difference: TypeAlias = TextDifference | JsonDifference | BlobDifference | TimeDifference
