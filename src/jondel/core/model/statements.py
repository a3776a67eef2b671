"""A statement whose values are kept apart from its text."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from jondel.core.model.values import StoredValue


@dataclass(frozen=True, slots=True)
class Argument:
    """A value of a statement, and a name that fits it, as the column's it is compared with."""

    value: StoredValue
    name: str = ""


@dataclass(frozen=True)
class Statement:
    """SQL in pieces: each argument stands between one piece of text and the next.

    There is always one piece of text more than there are arguments.
    """

    texts: tuple[str, ...] = ("",)
    arguments: tuple[Argument, ...] = ()

    def __add__(self, other: Statement | str) -> Statement:
        if isinstance(other, str):
            other = Statement((other,))
        *texts, last = self.texts
        first, *more = other.texts
        return Statement((*texts, last + first, *more), (*self.arguments, *other.arguments))

    @classmethod
    def value(cls, value: StoredValue, name: str = "") -> Statement:
        """One argument by itself."""
        return cls(("", ""), (Argument(value, name),))

    @classmethod
    def joined(cls, separator: str, parts: Iterable[Statement]) -> Statement:
        """Parts one after the other with a text between them."""
        found = cls()
        for number, part in enumerate(parts):
            found = found + separator + part if number else part
        return found

    @property
    def values(self) -> tuple[StoredValue, ...]:
        return tuple(argument.value for argument in self.arguments)

    def text(self, mark: str = "?") -> str:
        """The text, with a mark for each argument."""
        return mark.join(self.texts)
