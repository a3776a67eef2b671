"""Where things are in a database: the addresses of tables."""

from __future__ import annotations

import re
from collections.abc import Iterable

_PLAIN = re.compile(r'[^."]+')
_LEVEL = re.compile(r'"((?:[^"]|"")*)"|([^."]+)')


class TableId(tuple[str, ...]):
    """A table's address: the names of the levels it is found through, its own name last.

    An engine whose databases have schemas gives two levels, one with catalogues as well three; a
    SQLite file has tables and no level above them. Two addresses are of the same table exactly
    if all their levels are equal.
    """

    __slots__ = ()

    def __new__(cls, *levels: str) -> TableId:
        """Raises ``ValueError`` without any level."""
        if not levels:
            raise ValueError("a table's address has at least one level")
        return super().__new__(cls, levels)

    def __getnewargs__(self) -> tuple[str, ...]:
        return tuple(self)

    @classmethod
    def of(cls, levels: Iterable[str]) -> TableId:
        """The address with these levels."""
        return cls(*levels)

    @classmethod
    def kept(cls, value: object) -> TableId:
        """An address as a file keeps it: a list of levels, or the name alone, as files had it
        while there was but one level.

        Raises:
            ValueError: it is neither.
        """
        if isinstance(value, str):
            return cls(value)
        if isinstance(value, list) and all(isinstance(level, str) for level in value):
            return cls(*value)
        raise ValueError("a table's address is a list of names")

    @classmethod
    def parsed(cls, text: str) -> TableId:
        """The address that ``spelled`` made a text of; another text is a name."""
        levels, at = [], 0
        while found := _LEVEL.match(text, at):
            in_quotes, plain = found.groups()
            levels.append(in_quotes.replace('""', '"') if plain is None else plain)
            at = found.end()
            if at == len(text):
                return cls(*levels)
            if text[at] != ".":
                break
            at += 1
        return cls(text)

    @property
    def name(self) -> str:
        """The table's own name."""
        return self[-1]

    @property
    def above(self) -> tuple[str, ...]:
        """The levels above the table; empty where there are none."""
        return self[:-1]

    @property
    def spelled(self) -> str:
        """The levels with dots between them, those in double quotes that need it; for files."""
        return ".".join(_spelled(level) for level in self)

    def __str__(self) -> str:
        """The levels as people read them, with dots between them."""
        return ".".join(self)

    def __repr__(self) -> str:
        return f"TableId({', '.join(map(repr, self))})"


def _spelled(level: str) -> str:
    if _PLAIN.fullmatch(level):
        return level
    doubled = level.replace('"', '""')
    return f'"{doubled}"'
