"""Finds the line on which a value of a TOML file stands, to tell a person where to look.

The file has been read by a parser before, so it is known to be right; this only follows its shape
(TOML 1.0: tables, arrays of tables, dotted keys, values over several lines).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

TomlPath = tuple[str | int, ...]
"""The names and places that lead to a value, from the outside in."""

_TOKEN = re.compile(
    r'"""(?:\\.|[^\\])*?"{3,5}'
    r"|'''.*?'{3,5}"
    r'|"(?:\\.|[^"\\\n])*"'
    r"|'[^'\n]*'"
    r"|\#[^\n]*"
    r"|[A-Za-z0-9_+:-]+"
    r"|\n|[ \t\r]+|.",
    re.DOTALL,
)


def toml_line(text: str, path: TomlPath) -> int:
    """The line of a value, from 1: of the value itself, else of the nearest that contains it."""
    best, line = 0, 1
    for place, at in _places(text):
        if len(place) > best and path[: len(place)] == place:
            best, line = len(place), at
            if best == len(path):
                break
    return line


class _Tokens:
    """The tokens of a file with their lines; blanks and comments are left out."""

    def __init__(self, text: str) -> None:
        self._tokens: list[tuple[str, int]] = []
        line = 1
        for match in _TOKEN.finditer(text):
            token = match[0]
            if token == "\n" or not (token.isspace() or token.startswith("#")):
                self._tokens.append((token, line))
            line += token.count("\n")
        self._at = 0

    @property
    def next(self) -> str:
        return self._tokens[self._at][0] if self._at < len(self._tokens) else ""

    @property
    def line(self) -> int:
        return self._tokens[min(self._at, len(self._tokens) - 1)][1] if self._tokens else 1

    def take(self) -> str:
        token = self.next
        self._at += 1
        return token

    def skip_breaks(self) -> None:
        while self.next == "\n":
            self._at += 1


def _places(text: str) -> Iterator[tuple[TomlPath, int]]:
    tokens = _Tokens(text)
    counts: dict[TomlPath, int] = {}
    above: TomlPath = ()
    while True:
        tokens.skip_breaks()
        if not tokens.next:
            return
        line = tokens.line
        if tokens.next == "[":
            tokens.take()
            several = tokens.next == "["
            if several:
                tokens.take()
            above = _table_path(_key(tokens, "]"), counts, several)
            while tokens.next not in ("\n", ""):
                tokens.take()
            yield above, line
        else:
            yield from _pair(tokens, above)


def _table_path(names: list[str], counts: dict[TomlPath, int], several: bool) -> TomlPath:
    """The path of a table's head; a name that stands for several tables means the last of them."""
    path: TomlPath = ()
    for place, name in enumerate(names):
        path = (*path, name)
        if several and place == len(names) - 1:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path


def _pair(tokens: _Tokens, above: TomlPath) -> Iterator[tuple[TomlPath, int]]:
    path, line = above, tokens.line
    for name in _key(tokens, "="):
        path = (*path, name)
        yield path, line
    yield from _value(tokens, path)


def _key(tokens: _Tokens, end: str) -> list[str]:
    names: list[str] = []
    while tokens.next not in (end, "\n", ""):
        token = tokens.take()
        if token != ".":
            names.append(_name(token))
    tokens.take()
    return names


def _name(token: str) -> str:
    if token[:1] == "'":
        return token[1:-1]
    if token[:1] == '"':
        try:
            return str(json.loads(token))
        except ValueError:
            return token[1:-1]
    return token


def _value(tokens: _Tokens, path: TomlPath) -> Iterator[tuple[TomlPath, int]]:
    opening = tokens.next
    if opening not in ("[", "{"):
        while tokens.next not in (",", "]", "}", "\n", ""):
            tokens.take()
        return
    tokens.take()
    place = 0
    while True:
        tokens.skip_breaks()
        if tokens.next in ("]", "}", ""):
            tokens.take()
            return
        if tokens.next == ",":
            tokens.take()
        elif opening == "{":
            yield from _pair(tokens, path)
        else:
            yield (*path, place), tokens.line
            yield from _value(tokens, (*path, place))
            place += 1
