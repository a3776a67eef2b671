"""What is to be known of statements while they are written, before anything is run."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import StatementRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema, Table
from jondel.core.query.lets import without_lets
from jondel.core.query.scopes import sources_of
from jondel.core.query.scripts import script_of
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.splitting import statement_at, statements_in
from jondel.core.sql.tokens import Token, without_comments

_MOST_CHECKED = 50
_NAMED = re.compile(r"no such \w+: (?:\w+\.)*(\w+)")
_NAMING = re.compile(r"let\s", re.IGNORECASE)
_DECLARING = frozenset({"CREATE", "ALTER", "DROP", "ATTACH", "SET", "BEGIN"})


class Problem(NamedTuple):
    """What is wrong in a script, from one character to another."""

    start: int
    end: int
    message: str


def problems_in(script: str, database: Database, dialect: Dialect) -> list[Problem]:
    """What the engine finds wrong in a script without running any of it.

    A statement behind one that declares something may need that, and is not looked at.
    """
    found: list[Problem] = []
    try:
        parsed = script_of(script, dialect)
    except StatementRefused as refused:
        return [Problem(0, len(script.partition("\n")[0]), str(refused))]
    statements = parsed.with_values({})
    for piece, entry in list(zip(parsed.pieces, statements, strict=True))[:_MOST_CHECKED]:
        error = statements_of(database).check(entry.statement)
        if error is not None:
            before = len(parsed.prefix)
            at = entry.place(error.at) - before if error.at is not None else None
            start, end = _place_of(piece.text, at, error.message, dialect)
            found.append(Problem(piece.at + start, piece.at + end, error.message))
        first = next(iter(without_comments(piece.text, dialect.lexis)), None)
        if first is not None and first.text.upper() in _DECLARING:
            break
    return found


def _place_of(text: str, at: int | None, message: str, dialect: Dialect) -> tuple[int, int]:
    """The word that an error is about: where the engine says, or the name that it says."""
    tokens = without_comments(text, dialect.lexis)
    named = _NAMED.search(message) if at is None else None
    for token in tokens:
        if at is not None and token.start <= at < token.end:
            return token.start, token.end
        if named is not None and token.is_name and token.name.casefold() == named[1].casefold():
            return token.start, token.end
    return max(0, len(text) - 1), len(text)


class Remark(NamedTuple):
    """Something to be said of the statement at the cursor; ``counted`` is the table whose rows are
    to be counted for it, in place of ``{}``."""

    words: str
    counted: Table | None = None


def remark_at(script: str, cursor: int, schema: Schema, dialect: Dialect) -> Remark | None:
    """What is to be said of the statement at a cursor."""
    line = script[script.rfind("\n", 0, cursor) + 1 : cursor].lstrip()
    if _NAMING.match(line):
        return Remark("let name = a value, or (SELECT …); below, :name is what it gives")
    try:
        plain = without_lets(script, dialect).text
    except StatementRefused:
        return None
    piece = statement_at(plain, cursor, dialect.lexis)
    if piece is None:
        return None
    tokens = without_comments(piece.text, dialect.lexis)
    if not tokens:
        return None
    if tokens[0].says("INSERT", "REPLACE"):
        return _of_insert(tokens, cursor - piece.at, schema)
    if tokens[0].says("UPDATE", "DELETE"):
        return _of_everything(tokens, schema)
    return None


def outlives_a_rollback(script: str, schema: Schema, dialect: Dialect) -> list[str]:
    """What a script would leave behind on a server although it is rolled back."""
    found: dict[str, None] = {}
    for piece in statements_in(script, dialect.lexis):
        tokens = without_comments(piece.text, dialect.lexis)
        words = {token.text.upper() for token in tokens if token.kind == "word"}
        if words & {"NEXTVAL", "SETVAL"}:
            found["what sequences are set to stays, rolled back or not"] = None
        if not words & {"INSERT", "MERGE"}:
            continue
        for source in sources_of(tokens, schema):
            table = source.table
            if table is not None and any(column.numbered for column in table.columns):
                found[f"numbers that {table.title} gives out are gone, rolled back or not"] = None
    return list(found)


def _of_everything(tokens: Sequence[Token], schema: Schema) -> Remark | None:
    """An UPDATE or a DELETE without a condition."""
    words = {token.text.upper() for token in tokens if token.kind == "word"}
    if "WHERE" in words or (tokens[0].says("UPDATE") and "SET" not in words):
        return None
    sources = sources_of(tokens, schema)
    table = sources[0].table if sources else None
    if table is None:
        return None
    what = "changes" if tokens[0].says("UPDATE") else "removes"
    return Remark(f"no WHERE: it {what} all {{}} records of {table.title}", table)


def _of_insert(tokens: Sequence[Token], cursor: int, schema: Schema) -> Remark | None:
    """Which value of an INSERT without the names of columns lands where."""
    into = next((n for n, token in enumerate(tokens) if token.says("INTO")), None)
    if into is None:
        return None
    at, levels = into + 1, []
    while at < len(tokens) and tokens[at].is_name and not tokens[at].says("VALUES"):
        levels.append(tokens[at].name)
        at += 1
        if at < len(tokens) and tokens[at].text == ".":
            at += 1
            continue
        break
    table = schema.ending_in(TableId(*levels)) if levels else None
    if table is None or at >= len(tokens):
        return None
    columns = [column for column in table.columns if not column.generated]
    names = [column.name for column in columns]
    if tokens[at].text == "(":
        names = []
        while at < len(tokens) and tokens[at].text != ")":
            names += [tokens[at].name] if tokens[at].is_name else []
            at += 1
        at += 1
    if at >= len(tokens) or not tokens[at].says("VALUES"):
        return None
    place = _value_at(tokens[at + 1 :], cursor)
    if place is None:
        return None
    if place >= len(names):
        return Remark(
            f"value {place + 1} of {len(names)}: there is no such column in {table.title}"
        )
    column = table.column(names[place])
    kind = f" {column.type.name.lower()}" if column is not None and column.type.name else ""
    needed = " not null" if column is not None and column.not_null else ""
    return Remark(f"value {place + 1} of {len(names)}: {names[place]}{kind}{needed}")


def _value_at(tokens: Sequence[Token], cursor: int) -> int | None:
    """Which value of a row a character is in, from 0; None where it is in none."""
    depth = place = 0
    inside = False
    for token in tokens:
        if token.start >= cursor:
            break
        if token.text == "(":
            depth += 1
            if depth == 1:
                inside, place = True, 0
        elif token.text == ")":
            depth -= 1
            inside = inside and depth > 0
        elif token.text == "," and depth == 1:
            place += 1
    return place if inside else None
