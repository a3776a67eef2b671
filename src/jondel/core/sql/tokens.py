"""Cuts SQL into tokens, whatever state the text is in: it may be half typed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal, NamedTuple, TypeAlias

TokenKind: TypeAlias = Literal[
    "word", "name", "string", "number", "blob", "parameter", "sign", "loose quote", "comment"
]
"""``word``: a keyword or a name without quotes; ``name``: a quoted one."""

_FORMS: tuple[tuple[TokenKind | None, str], ...] = (
    (None, r"\s+"),
    ("comment", r"--[^\n]*|/\*.*?(?:\*/|\Z)"),
    ("blob", r"[xX]'[0-9a-fA-F]*'"),
    ("string", r"'(?:[^']|'')*'"),
    ("name", r'"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]'),
    ("number", r"0[xX][0-9a-fA-F]+|(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?"),
    ("word", r"[^\W\d][\w$]*"),
    ("parameter", r"\?\d*|[:@$][\w$]+"),
    ("sign", r"->>|->|<>|<=|>=|==|!=|<<|>>|\|\||[-+*/%&|~<>=.,();]"),
    ("loose quote", r"['\"`\[]"),
    ("sign", r"."),
)
_PATTERN = re.compile("|".join(f"({form})" for _, form in _FORMS), re.DOTALL)


class Token(NamedTuple):
    """A piece of SQL; ``start`` and ``end`` count characters of the text it is from."""

    kind: TokenKind
    text: str
    start: int
    end: int

    def says(self, *words: str) -> bool:
        """Whether it is one of these keywords or signs, whatever its case."""
        return self.kind in ("word", "sign") and self.text.upper() in words

    @property
    def is_name(self) -> bool:
        """Whether it can be the name of something."""
        return self.kind in ("word", "name")

    @property
    def name(self) -> str:
        """The name without its quotes."""
        if self.kind != "name":
            return self.text
        inner, quote = self.text[1:-1], self.text[0]
        return inner if quote == "[" else inner.replace(quote * 2, quote)


def tokens(sql: str) -> Iterator[Token]:
    """The tokens of a text, blanks left out. Together they cover all of it but blanks."""
    for match in _PATTERN.finditer(sql):
        kind = _FORMS[(match.lastindex or 1) - 1][0]
        if kind is not None:
            yield Token(kind, match.group(), match.start(), match.end())


def without_comments(sql: str) -> list[Token]:
    """The tokens that mean something."""
    return [token for token in tokens(sql) if token.kind != "comment"]
