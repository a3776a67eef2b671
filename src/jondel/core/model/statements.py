"""A statement whose values are kept apart from its text."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from jondel.core.model.values import StoredValue


class Argument(NamedTuple):
    """A value of a statement, and a name that fits it, as the column's it is compared with."""

    value: StoredValue
    name: str = ""


class Statement(NamedTuple):
    """SQL in pieces: each argument stands between one piece of text and the next.

    There is always one piece of text more than there are arguments.
    """

    texts: tuple[str, ...] = ("",)
    arguments: tuple[Argument, ...] = ()

    def __add__(self, other: Statement | str) -> Statement:  # type: ignore[override]
        return Statement.joined(
            "", (self, Statement((other,)) if isinstance(other, str) else other)
        )

    @classmethod
    def value(cls, value: StoredValue, name: str = "") -> Statement:
        """One argument by itself."""
        return cls(("", ""), (Argument(value, name),))

    @classmethod
    def joined(cls, separator: str, parts: Iterable[Statement]) -> Statement:
        """Parts one after the other with a text between them."""
        texts: list[str] = []
        arguments: list[Argument] = []
        for part in parts:
            first, *more = part.texts
            if texts:
                texts[-1] = f"{texts[-1]}{separator}{first}"
            else:
                texts.append(first)
            texts += more
            arguments += part.arguments
        return cls(tuple(texts) or ("",), tuple(arguments))

    @property
    def values(self) -> tuple[StoredValue, ...]:
        return tuple(argument.value for argument in self.arguments)

    @classmethod
    def marked(cls, text: str, places: Iterable[int], arguments: Iterable[Argument]) -> Statement:
        """Of a text in which a mark of one character stands at some places, rising."""
        ends = list(places)
        starts = [0, *(place + 1 for place in ends)]
        texts = (text[a:b] for a, b in zip(starts, [*ends, len(text)], strict=True))
        return cls(tuple(texts), tuple(arguments))

    def place(self, at: int, marks: Sequence[str]) -> int:
        """The character of ``text()`` that one of the text with other marks is."""
        begins = shift = 0
        for piece, mark in zip(self.texts, marks, strict=False):
            begins += len(piece)
            if at < begins:
                break
            if at < begins + len(mark):
                return begins - shift
            begins += len(mark)
            shift += len(mark) - 1
        return at - shift

    def text(self, mark: str = "?") -> str:
        """The text, with a mark for each argument."""
        return mark.join(self.texts)
