"""Which part of a statement a step of its plan serves, as far as that can be told."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

from jondel.core.model.plans import PlanStep, all_steps
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Token, without_comments

_BEFORE_SOURCE = ("FROM", "JOIN", "UPDATE", "INTO", "USING")
_NO_ALIAS = (
    *("ON", "USING", "WHERE", "GROUP", "ORDER", "LIMIT", "SET", "JOIN", "LEFT", "INNER", "CROSS"),
    *("NATURAL", "FULL", "RIGHT", "UNION", "EXCEPT", "INTERSECT", "HAVING", "VALUES", "RETURNING"),
    *("WINDOW", "INDEXED", "NOT", "FOR", "OFFSET", "SELECT", "DEFAULT"),
)
_ENDS_CLAUSE = (
    *("ORDER", "GROUP", "LIMIT", "HAVING", "WINDOW", "UNION", "EXCEPT", "INTERSECT", "RETURNING"),
    *("OFFSET", "FETCH", "FOR", "ROWS", "RANGE"),
)
_ENDS_CONDITION = (*_ENDS_CLAUSE, "AND", "OR", "WHERE", "JOIN", "LEFT", "ON", "SET")
_COMPARED = re.compile(
    r"([\w$]+)\s*(?:=|<|>|<=|>=)\s*\?|\(?\(?(?:[\w$]+\.)?([\w$]+)(?:\)::\w+)?\s*[=<>~]"
)
_CLAUSES = (
    ("ORDER", re.compile(r"FOR (?:.*)?ORDER BY|^(?:Incremental )?Sort\b")),
    ("GROUP", re.compile(r"FOR GROUP BY|^(?:\w* ?Aggregate|Group)\b")),
    ("DISTINCT", re.compile(r"FOR DISTINCT|^Unique\b")),
    ("LIMIT", re.compile(r"^Limit\b")),
)
_NAMED = re.compile(r"^(?:CO-ROUTINE|MATERIALIZE) (\S+)")

Range = tuple[int, int]
"""The characters from one on, up to another one."""


class _Named(NamedTuple):
    """A source of a statement: its name, and where it stands."""

    name: str
    at: Range


def fragments_of(
    steps: tuple[PlanStep, ...], sql: str, dialect: Dialect
) -> list[tuple[PlanStep, tuple[Range, ...]]]:
    """Each step of a plan with the parts of the statement that it serves; none where they cannot be
    told. The steps come as ``all_steps`` has them."""
    tokens = without_comments(sql, dialect.lexis)
    sources = list(_sources(tokens))
    seen: dict[str, int] = {}
    found: list[tuple[PlanStep, tuple[Range, ...]]] = []
    readers = [s.table.casefold() for s in all_steps(steps) if s.table]
    for step in all_steps(steps):
        ranges: list[Range] = []
        if step.table:
            name = step.table.casefold()
            of = [source.at for source in sources if source.name == name]
            place = seen[name] = seen.get(name, -1) + 1
            if len(of) == 1 or len(of) == readers.count(name):
                ranges.append(of[min(place, len(of) - 1)])
                ranges += _conditions(tokens, step)
        else:
            ranges += _clause(tokens, step.words)
        found.append((step, tuple(dict.fromkeys(ranges))))
    return found


def _sources(tokens: Sequence[Token]) -> Iterator[_Named]:
    """What stands behind FROM, JOIN and the like, by the name that it goes by."""
    depth, lists = 0, [False]
    for place, token in enumerate(tokens):
        if token.text == "(":
            depth += 1
            lists.append(False)
        elif token.text == ")":
            depth = max(0, depth - 1)
            if len(lists) > 1:
                lists.pop()
        elif token.says(*_NO_ALIAS) and not token.says(*_BEFORE_SOURCE):
            lists[-1] = False
        if token.says("FROM"):
            lists[-1] = True
        if token.says(*_BEFORE_SOURCE) or (token.text == "," and lists[-1]):
            named = _named_at(tokens, place + 1)
            if named is not None:
                yield named


def _named_at(tokens: Sequence[Token], place: int) -> _Named | None:
    start = place
    if place < len(tokens) and tokens[place].text == "(":
        end = _closing(tokens, place)
        if end is None:
            return None
        name, place = "", end + 1
    else:
        name = ""
        while place < len(tokens) and (tokens[place].is_name or tokens[place].text == "."):
            if tokens[place].says(*_NO_ALIAS):
                break
            name = tokens[place].name if tokens[place].is_name else name
            place += 1
            if place < len(tokens) and tokens[place].text != "." and tokens[place - 1].text != ".":
                break
    if place < len(tokens) and tokens[place].says("AS"):
        place += 1
    if place < len(tokens) and tokens[place].is_name and not tokens[place].says(*_NO_ALIAS):
        name = tokens[place].name
        place += 1
    if not name or place == start:
        return None
    return _Named(name.casefold(), (tokens[start].start, tokens[place - 1].end))


def _closing(tokens: Sequence[Token], place: int) -> int | None:
    """The parenthesis that closes the one at a place."""
    depth = 0
    for at in range(place, len(tokens)):
        depth += {"(": 1, ")": -1}.get(tokens[at].text, 0)
        if not depth:
            return at
    return None


def _conditions(tokens: Sequence[Token], step: PlanStep) -> Iterator[Range]:
    """The comparisons of the columns that a step looks its rows up by, where each stands once."""
    _, bracket, inside = step.words.partition("(")
    columns = {(one or other).casefold() for one, other in _COMPARED.findall(bracket + inside)}
    for column in sorted(columns):
        places = [
            place
            for place, token in enumerate(tokens)
            if token.is_name
            and token.name.casefold() == column
            and place + 1 < len(tokens)
            and tokens[place + 1].text.upper() in ("=", "<", ">", "<=", ">=", "IN", "BETWEEN", "IS")
        ]
        if len(places) == 1:
            start = places[0]
            if start > 1 and tokens[start - 1].text == ".":
                start -= 2
            yield tokens[start].start, _end_of_condition(tokens, places[0])


def _end_of_condition(tokens: Sequence[Token], place: int) -> int:
    depth, end = 0, tokens[place].end
    between = tokens[place + 1].says("BETWEEN")
    for token in tokens[place + 1 :]:
        if token.text == ")" and not depth:
            break
        if not depth and (token.text == ";" or token.says(*_ENDS_CONDITION)):
            if not (between and token.says("AND")):
                break
            between = False
        depth += {"(": 1, ")": -1}.get(token.text, 0)
        end = token.end
    return end


def _clause(tokens: Sequence[Token], words: str) -> Iterator[Range]:
    """The clause that a step which reads no table is for, where there is but one such."""
    named = _NAMED.match(words)
    if named is not None:
        for token, after in pairwise(tokens):
            is_it = token.is_name and token.name.casefold() == named[1].casefold()
            if is_it and (after.says("AS") or after.text == "("):
                yield token.start, token.end
                return
        return
    for first, pattern in _CLAUSES:
        if pattern.search(words) is None:
            continue
        places = [place for place, token in enumerate(tokens) if token.says(first)]
        if len(places) == 1:
            yield tokens[places[0]].start, _end_of_clause(tokens, places[0], first)
        return


def _end_of_clause(tokens: Sequence[Token], place: int, first: str) -> int:
    end = tokens[place].end
    if first == "DISTINCT":
        return end
    depth = 0
    for token in tokens[place + 1 :]:
        if not depth and (token.text in (")", ";") or token.says(*_ENDS_CLAUSE)):
            break
        depth += {"(": 1, ")": -1}.get(token.text, 0)
        end = token.end
    return end
