"""What the members of a column's JSON documents usually are."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from typing import Any

import msgspec

from jondel.core.findings.finding import Suspicion
from jondel.core.findings.text_signs import json_of

_DEEPEST = 4
_MOST_PATHS = 300
_FEWEST = 8
_KEPT = 6
_MOST_LOOKED_INTO = 4000
_MOST_KNOWN = 4000


class JsonMembers:
    """The documents of one column: how many are JSON, and of which type each member is."""

    def __init__(self) -> None:
        self.seen = 0
        self.broken = 0
        self._looked_into = 0
        self._known: set[tuple[object, ...]] = set()
        self.types: dict[str, Counter[str]] = defaultdict(Counter)
        self._broken_ones: list[tuple[tuple[object, ...], str]] = []
        self._first: dict[tuple[str, str], list[tuple[tuple[object, ...], str]]] = {}
        """By path and type of a member: the first documents with such, and their records' keys."""

    @property
    def odd(self) -> Iterator[tuple[tuple[object, ...], str]]:
        """Documents that may be odd, with the keys of their records."""
        yield from self._broken_ones
        for (path, kind), documents in self._first.items():
            counts = self.types[path]
            if counts[kind] * 10 <= sum(counts.values()):
                yield from documents

    def wanted(self, text: str) -> bool:
        """Whether a column with such a text may hold JSON."""
        return self.seen > 0 or text[:1] in ("{", "[")

    def feed(self, texts: Sequence[object], keys: Sequence[tuple[object, ...]]) -> None:
        """Take in documents, or what stands where they should; what is no text is left out.

        Of the first each member is looked at. Of later ones it is known whether they are JSON, and
        each member is looked at where the outermost ones are of types not seen together before.
        """
        if self.seen > _MOST_LOOKED_INTO and self.broken * 4 > self.seen:
            return  # it holds something else that only looks like it
        for text, key in zip(texts, keys, strict=True):
            if not isinstance(text, str) or not text:
                continue
            self.seen += 1
            if self._looked_into < _MOST_LOOKED_INTO or self._is_new(text):
                self._looked_into += 1
                self._look_into(text, key)

    def _is_new(self, text: str) -> bool:
        try:
            document = msgspec.json.decode(text)
        except (ValueError, RecursionError):
            return True
        if type(document) is dict:
            outermost = (*document, *map(type, document.values()))
        else:
            outermost = (type(document),)
        if outermost in self._known:
            return False
        if len(self._known) < _MOST_KNOWN:
            self._known.add(outermost)
            return True
        return False

    def _look_into(self, text: str, key: tuple[object, ...]) -> None:
        valid, document = json_of(text)
        if not valid:
            self.broken += 1
            if len(self._broken_ones) < _KEPT:
                self._broken_ones.append((key, text))
            return
        for path, kind in _members(document):
            if path in self.types or len(self.types) < _MOST_PATHS:
                self.types[path][kind] += 1
                first = self._first.setdefault((path, kind), [])
                if len(first) < 2:
                    first.append((key, text))

    def suspicions(self, text: str, *, own: bool) -> Iterator[Suspicion]:
        """What is suspicious about a document; ``own`` says that it is among those fed with."""
        valid_ones = self.seen - self.broken
        if valid_ones < _FEWEST or valid_ones < 0.9 * self.seen or not text:
            return
        valid, document = json_of(text)
        if not valid:
            yield Suspicion("json", f"{valid_ones} of {self.seen} are JSON, and this is not", 0.97)
            return
        for path, kind in _members(document):
            counts = self.types.get(path)
            if counts is None:
                continue
            total = sum(count for other, count in counts.items() if other != "null")
            usual, most = counts.most_common(1)[0]
            mine = counts[kind] - (1 if own else 0)
            other = kind not in (usual, "null") and usual != "null"
            if other and total >= _FEWEST and mine * 20 <= most:
                evidence = f"{path} is {kind}; {most} of {total} are {usual}"
                yield Suspicion("json", evidence, 0.9)
                return


def _members(document: Any, path: str = "", depth: int = 0) -> Iterator[tuple[str, str]]:
    yield path or "/", _type(document)
    if depth < _DEEPEST:
        if isinstance(document, dict):
            for name, part in document.items():
                yield from _members(part, f"{path}/{name}", depth + 1)
        elif isinstance(document, list):
            for part in document[:50]:
                yield from _members(part, f"{path}/*", depth + 1)


def _type(part: Any) -> str:
    match part:
        case None:
            return "null"
        case bool():
            return "true or false"
        case int() | float():
            return "a number"
        case str():
            return "a text"
        case list():
            return "a list"
    return "an object"
