"""Tells statements that read from those that may write, before they are run."""

from __future__ import annotations

from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import without_comments

_READING = frozenset({"SELECT", "VALUES", "EXPLAIN", "SHOW", "TABLE", "("})
_WRITING = frozenset({"INSERT", "UPDATE", "DELETE", "MERGE", "REPLACE"})


def may_write(sql: str, dialect: Dialect) -> bool:
    """Whether a statement may write.

    One that turns out to write all the same (a function may) is refused where it is only to read.
    """
    tokens = without_comments(sql, dialect.lexis)
    if not tokens:
        return False
    first = tokens[0].text.upper()
    words = [token.text.upper() for token in tokens if token.kind == "word"]
    if first == "PRAGMA":
        return any(token.text == "=" for token in tokens)
    if first == "EXPLAIN":
        analyses = "ANALYZE" in words[1:4]
        return analyses and not _WRITING.isdisjoint(words)
    if first == "WITH":
        return not _WRITING.isdisjoint(words)
    return first not in _READING
