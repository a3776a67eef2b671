"""What a statement that is being written can name: the tables in scope, with their columns.

Only as far as the text tells it: it may be half typed, and what cannot be understood is left out.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.sql.tokens import Token

_ENDS_FROM = ("WHERE", "GROUP", "ORDER", "HAVING", "LIMIT", "UNION", "EXCEPT", "INTERSECT", "SET",
              "RETURNING", "WINDOW", "VALUES", "OFFSET", "FETCH", "FOR", "ON", "USING")  # fmt: skip
_JOINING = ("JOIN", "INNER", "LEFT", "RIGHT", "FULL", "CROSS", "NATURAL", "OUTER", "LATERAL")
_NO_ALIAS = frozenset((*_ENDS_FROM, *_JOINING, "AS", "SELECT", "FROM", "DEFAULT", "INDEXED", "NOT"))
_MOST_DEPTH = 20


class Source(NamedTuple):
    """Something in scope: ``name`` is what it goes by there. ``table`` is the table that it is;
    None for a query in parentheses or one that WITH names."""

    name: str
    columns: tuple[str, ...]
    table: Table | None = None


class Scope(NamedTuple):
    """The sources at a place, the innermost first, and the names that WITH gives."""

    sources: tuple[Source, ...]
    named: tuple[Source, ...] = ()

    def called(self, name: str) -> Source | None:
        """The source that goes by a name."""
        folded = name.casefold()
        return next((s for s in self.sources if s.name.casefold() == folded), None)


def scope_at(tokens: Sequence[Token], place: int, schema: Schema) -> Scope:
    """What is in scope at a character of a statement, given its tokens without comments."""
    named = tuple(_named_queries(tokens, schema))
    sources: list[Source] = []
    for block in _blocks_around(tokens, place):
        sources += sources_of(block, schema, named)
    return Scope(tuple(sources), named)


def sources_of(
    tokens: Sequence[Token], schema: Schema, named: Sequence[Source] = (), depth: int = 0
) -> list[Source]:
    """The sources of one query, not those of the queries in it."""
    found: list[Source] = []
    if depth > _MOST_DEPTH:
        return found
    flat = list(_flat(tokens))
    at = 0
    while at < len(flat):
        word = flat[at]
        starts = word.says("FROM", "JOIN", "INTO", "UPDATE", "USING")
        at += 1
        if not starts or (word.says("USING") and at < len(flat) and flat[at].text == "("):
            continue
        while at < len(flat):
            while at < len(flat) and flat[at].says("ONLY", "LATERAL", "OR", "IGNORE", "REPLACE",
                                                   "ROLLBACK", "ABORT", "FAIL"):  # fmt: skip
                at += 1
            source, at = _source(tokens, flat, at, schema, named, depth)
            if source is not None:
                found.append(source)
            if at < len(flat) and flat[at].text == ",":
                at += 1
                continue
            break
    return found


def columns_of_query(
    tokens: Sequence[Token], schema: Schema, named: Sequence[Source] = (), depth: int = 0
) -> tuple[str, ...]:
    """The names of the columns that a query gives, as far as they can be told."""
    if depth > _MOST_DEPTH:
        return ()
    flat = list(_flat(tokens))
    begins = next((n for n, token in enumerate(flat) if token.says("SELECT")), None)
    if begins is None:
        return ()
    ends = next((n for n, t in enumerate(flat) if n > begins and t.says("FROM", *_ENDS_FROM)),
                len(flat))  # fmt: skip
    sources = sources_of(tokens, schema, named, depth + 1)
    columns: list[str] = []
    item: list[Token] = []
    for token in [*flat[begins + 1 : ends], None]:
        if token is not None and token.text != ",":
            item.append(token)
            continue
        columns += _columns_of_item(item, sources)
        item = []
    return tuple(dict.fromkeys(columns))


def _columns_of_item(item: Sequence[Token], sources: Sequence[Source]) -> Iterator[str]:
    if not item:
        return
    if item[-1].text == "*":
        of = item[-3].name.casefold() if len(item) > 2 and item[-2].text == "." else None
        for source in sources:
            if of is None or source.name.casefold() == of:
                yield from source.columns
    elif item[-1].is_name and not item[-1].says("END", "NULL", "DISTINCT", "ALL"):
        yield item[-1].name


def _source(
    tokens: Sequence[Token],
    flat: Sequence[Token],
    at: int,
    schema: Schema,
    named: Sequence[Source],
    depth: int,
) -> tuple[Source | None, int]:
    """What stands at a place after FROM and the like, and where the text goes on."""
    if at >= len(flat):
        return None, at
    if flat[at].text == "(":
        inner = _inside(tokens, flat[at])
        columns = columns_of_query(inner, schema, named, depth + 1)
        at += 2  # what is inside is left out of the flat tokens
        name, at = _alias(flat, at)
        return (Source(name, columns) if name else None), at
    levels: list[str] = []
    while at < len(flat) and flat[at].is_name:
        if not levels and flat[at].kind == "word" and flat[at].text.upper() in _NO_ALIAS:
            return None, at
        levels.append(flat[at].name)
        at += 1
        if at + 1 < len(flat) and flat[at].text == "." and flat[at + 1].is_name:
            at += 1
            continue
        break
    if not levels:
        return None, at
    if at + 1 < len(flat) and flat[at].text == "(":
        at += 2  # the columns of INSERT, or the arguments of a function
    alias, at = _alias(flat, at)
    known = next((s for s in named if s.name.casefold() == levels[-1].casefold()), None)
    if known is not None and len(levels) == 1:
        return Source(alias or known.name, known.columns), at
    table = schema.ending_in(TableId(*levels))
    if table is None:
        return Source(alias or levels[-1], ()), at
    return Source(alias or table.name, table.column_names, table), at


def _alias(flat: Sequence[Token], at: int) -> tuple[str, int]:
    if at < len(flat) and flat[at].says("AS"):
        at += 1
        if at < len(flat) and flat[at].is_name:
            return flat[at].name, at + 1
        return "", at
    taken = at < len(flat) and flat[at].kind == "word" and flat[at].text.upper() in _NO_ALIAS
    if at < len(flat) and flat[at].is_name and not taken:
        return flat[at].name, at + 1
    return "", at


def _named_queries(tokens: Sequence[Token], schema: Schema) -> Iterator[Source]:
    """What WITH names in the beginning of a statement."""
    flat = list(_flat(tokens))
    at = next((n for n, token in enumerate(flat[:3]) if token.says("WITH")), None)
    if at is None:
        return
    at += 1
    known: list[Source] = []
    if at < len(flat) and flat[at].says("RECURSIVE"):
        at += 1
    while at < len(flat) and flat[at].is_name:
        name = flat[at].name
        at += 1
        columns: tuple[str, ...] = ()
        if at + 1 < len(flat) and flat[at].text == "(":
            columns = tuple(t.name for t in _inside(tokens, flat[at]) if t.is_name)
            at += 2
        while at < len(flat) and flat[at].says("AS", "NOT", "MATERIALIZED"):
            at += 1
        if at < len(flat) and flat[at].text == "(":
            inner = _inside(tokens, flat[at])
            columns = columns or columns_of_query(inner, schema, known)
            at += 2
        source = Source(name, columns)
        known.append(source)
        yield source
        if at < len(flat) and flat[at].text == ",":
            at += 1
            continue
        return


def _flat(tokens: Sequence[Token]) -> Iterator[Token]:
    """The tokens that are not inside of parentheses; the parentheses themselves are."""
    depth = 0
    for token in tokens:
        if token.text == ")" and depth:
            depth -= 1
            if not depth:
                yield token
            continue
        if not depth:
            yield token
        if token.text == "(":
            depth += 1


def _inside(tokens: Sequence[Token], opening: Token) -> list[Token]:
    """The tokens between a parenthesis and its end, or the end of the text."""
    depth, inner = 0, []
    for token in tokens:
        if token.start <= opening.start:
            continue
        if token.text == ")":
            if not depth:
                break
            depth -= 1
        depth += token.text == "("
        inner.append(token)
    return inner


def _blocks_around(tokens: Sequence[Token], place: int) -> Iterator[list[Token]]:
    """The queries that a character is in, the innermost first, each as its tokens."""
    opened: list[Token] = []
    for token in tokens:
        if token.start >= place:
            break
        if token.text == "(":
            opened.append(token)
        elif token.text == ")" and opened:
            opened.pop()
    for opening in reversed(opened):
        inner = _inside(tokens, opening)
        if inner and inner[0].says("SELECT", "WITH", "VALUES"):
            yield _one_of_several(inner, place)
    yield _one_of_several(list(tokens), place)


def _one_of_several(tokens: list[Token], place: int) -> list[Token]:
    """Of queries that UNION and the like put together, the one that a character is in."""
    parts: list[list[Token]] = [[]]
    depth = 0
    for token in tokens:
        depth += (token.text == "(") - (token.text == ")")
        if not depth and token.says("UNION", "EXCEPT", "INTERSECT"):
            parts.append([])
        parts[-1].append(token)
    for part in parts[:-1]:
        if part and part[-1].end >= place:
            return part
    return parts[-1]
