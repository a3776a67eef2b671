"""Cuts SQL into tokens, whatever state the text is in: it may be half typed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import Literal, NamedTuple, TypeAlias

TokenKind: TypeAlias = Literal[
    "word", "name", "string", "number", "blob", "parameter", "sign", "loose quote", "comment"
]
"""``word``: a keyword or a name without quotes; ``name``: a quoted one."""


class Lexis(NamedTuple):
    """What differs from one engine to another in how text becomes tokens.

    ``nested_comments``: a comment in another one has its own end. ``dollar_quotes``: ``$tag$``
    begins a string that only the same ends. ``escapes``: ``E'…'`` is a string with backslashes.
    ``more_quotes``: names stand in backticks and square brackets too. ``tcl_variables``: the name
    of a parameter can go on behind ``::`` and in parentheses.
    """

    nested_comments: bool = False
    dollar_quotes: bool = False
    escapes: bool = False
    more_quotes: bool = True
    tcl_variables: bool = False


PLAIN = Lexis()
"""What conditions and simple statements are read by, whatever their engine."""

_BLANKS = r"\s+"
_COMMENT = r"--[^\n]*|/\*.*?(?:\*/|\Z)"
_OPENING_COMMENT = r"--[^\n]*|/\*"
_PLAIN_STRING = r"'(?:[^']|'')*'"
_ESCAPED_STRING = r"[eE]'(?:[^'\\]|''|\\.)*'"
_PREFIXED_STRING = r"(?:[nN]|[uU]&)'(?:[^']|'')*'"
_BITS = r"[xXbB]'[0-9a-fA-F]*'"
_DOLLAR_STRING = r"\$(?:[^\W\d]\w*)?\$"
_QUOTED_NAME = r'"(?:[^"]|"")*"'
_MORE_QUOTED_NAMES = r"|`(?:[^`]|``)*`|\[[^\]]*\]"
_NUMBER = (
    r"0[xX][0-9a-fA-F]+|0[oO][0-7]+|0[bB][01]+"
    r"|(?:\d+(?:_\d+)*(?:\.(?:\d+(?:_\d+)*)?)?|\.\d+(?:_\d+)*)(?:[eE][+-]?\d+)?"
)
_SIGN = r"->>|->|<>|<=|>=|==|!=|<<|>>|\|\||[-+*/%&|~<>=.,();]"


@cache
def _pattern(lexis: Lexis) -> tuple[re.Pattern[str], tuple[str | None, ...]]:
    forms: list[tuple[str | None, str]] = [(None, _BLANKS)]
    if lexis.nested_comments:
        forms.append(("comment", _OPENING_COMMENT))
    else:
        forms.append(("comment", _COMMENT))
    forms.append(("blob", _BITS if lexis.escapes else r"[xX]'[0-9a-fA-F]*'"))
    string = _PLAIN_STRING
    if lexis.escapes:
        string = f"{_ESCAPED_STRING}|{_PREFIXED_STRING}|{string}"
    forms.append(("string", string))
    if lexis.dollar_quotes:
        forms.append(("dollar string", _DOLLAR_STRING))
    name = _QUOTED_NAME + (
        _MORE_QUOTED_NAMES if lexis.more_quotes else r"|[uU]&\"(?:[^\"]|\"\")*\""
    )
    forms += [("name", name), ("number", _NUMBER), ("word", r"[^\W\d][\w$]*")]
    if not lexis.tcl_variables:
        forms.append(("sign", "::"))
    parameter = r"\?\d*|[:@$][\w$]+(?:::[\w$]*)*(?:\([^)\s]*\))?" if lexis.tcl_variables else (
        r"\?\d*|[:@$][\w$]+"
    )  # fmt: skip
    forms += [
        ("parameter", parameter),
        ("sign", _SIGN),
        ("loose quote", r"['\"`\[]" if lexis.more_quotes else r"['\"]"),
        ("sign", r"."),
    ]
    pattern = re.compile("|".join(f"({form})" for _, form in forms), re.DOTALL)
    return pattern, tuple(kind for kind, _ in forms)


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


def tokens(sql: str, lexis: Lexis = PLAIN) -> Iterator[Token]:
    """The tokens of a text, blanks left out. Together they cover all of it but blanks."""
    pattern, kinds = _pattern(lexis)
    at = 0
    while at < len(sql):
        match = pattern.match(sql, at)
        assert match is not None, "the last form takes any character"
        kind, end = kinds[(match.lastindex or 1) - 1], match.end()
        if kind == "comment" and lexis.nested_comments and match.group() == "/*":
            end = _end_of_comment(sql, at)
        elif kind == "dollar string":
            closing = sql.find(match.group(), end)
            kind = "string" if closing >= 0 else "loose quote"
            end = closing + len(match.group()) if closing >= 0 else end
        if kind is not None:
            yield Token(kind, sql[at:end], at, end)  # type: ignore[arg-type]
        at = end


def without_comments(sql: str, lexis: Lexis = PLAIN) -> list[Token]:
    """The tokens that mean something."""
    return [token for token in tokens(sql, lexis) if token.kind != "comment"]


_COMMENT_ENDS = re.compile(r"/\*|\*/")


def _end_of_comment(sql: str, start: int) -> int:
    depth = 0
    for match in _COMMENT_ENDS.finditer(sql, start):
        depth += 1 if match.group() == "/*" else -1
        if not depth:
            return match.end()
    return len(sql)
