"""Lays statements out over lines, and changes nothing else of them."""

from __future__ import annotations

from jondel.core.errors import StatementRefused
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Lexis, tokens

_MOST_CHARACTERS = 100_000


def formatted(script: str, dialect: Dialect) -> str:
    """The script with one clause on a line.

    Raises:
        StatementRefused: it is too long, or would not be the same script any more.
    """
    import sqlparse  # slow to load

    if len(script) > _MOST_CHARACTERS:
        raise StatementRefused(f"it has more than {_MOST_CHARACTERS} characters; select a part")
    laid_out = "\n\n".join(
        sqlparse.format(part, reindent=True, indent_width=4, wrap_after=90).strip()
        for part in sqlparse.split(script)
        if part.strip()
    )
    if _words(laid_out, dialect.lexis) != _words(script, dialect.lexis):
        raise StatementRefused("this cannot be laid out without changing what it says")
    return laid_out


def _words(script: str, lexis: Lexis) -> list[str]:
    return [token.text.rstrip() for token in tokens(script, lexis)]
