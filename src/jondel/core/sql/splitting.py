"""Cuts a script into its statements, as the engine would."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from jondel.core.sql.tokens import Lexis, Token, tokens

_BEFORE_KIND = ("OR", "REPLACE", "TEMP", "TEMPORARY", "CONSTRAINT")
_LONGEST_BEGINNING = 8
"""Words that tell what a statement makes."""


class Piece(NamedTuple):
    """A part of a script, from ``start`` to ``end``: a statement with the blanks and comments
    around it and the semicolon that ends it. ``text`` is the statement alone, which begins at
    ``at``; empty where there is none."""

    start: int
    end: int
    at: int
    text: str


def split(script: str, lexis: Lexis) -> list[Piece]:
    """The parts of a script; one behind the other they are the script."""
    pieces: list[Piece] = []
    start = 0
    for statement, end in _statements(script, lexis):
        pieces.append(_piece(script, start, end, statement))
        start = end
    if start < len(script) or not pieces:
        pieces.append(Piece(start, len(script), len(script), ""))
    return pieces


def statements_in(script: str, lexis: Lexis) -> list[Piece]:
    """The parts of a script that hold a statement."""
    return [piece for piece in split(script, lexis) if piece.text]


def statement_at(script: str, cursor: int, lexis: Lexis) -> Piece | None:
    """The statement that a cursor is in; between two of them the one before it, on the same line,
    else the one behind it."""
    found = None
    for piece in statements_in(script, lexis):
        if piece.at <= cursor <= piece.end:
            return piece
        if piece.end < cursor and "\n" not in script[piece.end : cursor]:
            found = piece
        elif piece.at > cursor:
            between = script[found.end : cursor] if found is not None else "\n"
            return found if found is not None and "\n" not in between else piece
        else:
            found = piece
    return found


def _piece(script: str, start: int, end: int, statement: Sequence[Token]) -> Piece:
    meant = [token for token in statement if token.kind != "comment"]
    if meant and meant[-1].text == ";":
        meant.pop()
    if not meant:
        return Piece(start, end, end, "")
    return Piece(start, end, meant[0].start, script[meant[0].start : _end(script, meant, end)])


def _end(script: str, meant: Sequence[Token], end: int) -> int:
    """Where a statement ends; one with a quote that is never closed goes on to the end."""
    if meant[-1].kind == "loose quote" or any(token.kind == "loose quote" for token in meant):
        return len(script[:end].rstrip())
    return meant[-1].end


def _statements(script: str, lexis: Lexis) -> Iterator[tuple[list[Token], int]]:
    """The tokens of each statement, with its semicolon, and where it ends."""
    current: list[Token] = []
    reading = _Body()
    for token in tokens(script, lexis):
        current.append(token)
        if token.kind == "comment":
            continue
        if token.kind == "loose quote":
            yield current, len(script)
            return
        if reading.ends_with(token):
            yield current, token.end
            current, reading = [], _Body()
    if any(token.kind != "comment" for token in current):
        yield current, len(script)


class _Body:
    """Tells which semicolon ends a statement: one that makes a trigger or a routine may have
    statements inside, a rule has them in parentheses."""

    def __init__(self) -> None:
        self._words: list[str] = []
        self._kind = self._last = ""
        self._inside = self._closed = False
        self._depth = 0

    def ends_with(self, token: Token) -> bool:
        """Whether the statement ends with a token."""
        word = token.text.upper() if token.kind in ("word", "sign") else ""
        if word == ";":
            inside = self._inside and not self._closed
            self._last = word
            return not inside and not (self._kind == "RULE" and self._depth > 0)
        if len(self._words) < _LONGEST_BEGINNING:
            self._words.append(word)
            self._kind = _kind_of(self._words)
        if self._kind == "RULE":
            self._depth += (word == "(") - (word == ")")
        if self._kind == "TRIGGER":
            self._inside |= word == "BEGIN"
        elif self._kind in ("FUNCTION", "PROCEDURE"):
            self._inside |= word == "ATOMIC" and self._last == "BEGIN"
        self._closed = self._inside and word == "END" and self._last in (";", "ATOMIC")
        self._last = word
        return False


def _kind_of(words: Sequence[str]) -> str:
    """What a statement makes, by its first words; empty where it makes nothing."""
    words = [word for word in words if word not in ("EXPLAIN", "QUERY", "PLAN")]
    if words[:1] != ["CREATE"]:
        return ""
    return next((word for word in words[1:] if word not in _BEFORE_KIND), "")
