"""Plans of statements, what is slow in them, and the index that would serve."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from typing import NamedTuple

from jondel.core.engines.needed import rehearser_of, statements_of
from jondel.core.engines.protocol import Database
from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.plans import PlanStep, all_steps
from jondel.core.model.schema import Schema
from jondel.core.model.statements import Statement
from jondel.core.query.scopes import Source, sources_of
from jondel.core.sql.completion import name_in_sql
from jondel.core.sql.create_table import names_in_sql, table_in_sql
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.tokens import Token, without_comments

_EQUAL, _RANGE = ("=", "==", "IS", "IN"), ("<", "<=", ">", ">=", "BETWEEN")
_MOST_COLUMNS = 3


class IndexTried(NamedTuple):
    """An index that would serve a statement, and the plan with it; none where it was not tried."""

    statement: str
    plan: tuple[PlanStep, ...]


def with_index(
    state: Database, steps: tuple[PlanStep, ...], asked: ScriptStatement, dialect: Dialect
) -> IndexTried | None:
    """The index that would serve a statement, tried out on a captured state of the database; None
    where none would."""
    for sql in indexes_for(steps, asked.text, state.schema(), dialect):
        made = ScriptStatement(Statement((sql,)), sql)
        outcome, after = rehearser_of(state).rehearse([made], lambda number: None)
        with closing(after):
            if outcome.error is not None:
                continue
            plan = statements_of(after).plan(asked.statement)
        if plan != steps:
            return IndexTried(sql, plan)
    return None


def index_for(
    steps: tuple[PlanStep, ...], sql: str, schema: Schema, dialect: Dialect
) -> str | None:
    """The first of ``indexes_for``; None where there is none."""
    return next(indexes_for(steps, sql, schema, dialect), None)


def indexes_for(
    steps: tuple[PlanStep, ...], sql: str, schema: Schema, dialect: Dialect
) -> Iterator[str]:
    """Indexes that a step which reads all of a table could do with: of all columns that are
    compared, then of each of them."""
    tokens = without_comments(sql, dialect.lexis)
    sources = sources_of(tokens, schema)
    for step in all_steps(steps):
        if step.concern not in ("reads all", "makes an index"):
            continue
        source = next((s for s in sources if s.name.casefold() == step.table.casefold()), None)
        if source is None or source.table is None:
            continue
        columns = _compared(tokens, source, sources)
        alone = [[column] for column in columns] if len(columns) > 1 else []
        for chosen in [columns, *alone] if columns else []:
            names = names_in_sql(chosen, dialect)
            table = table_in_sql(source.table.id, dialect)
            name = name_in_sql("_".join(["by", source.table.name, *chosen])[:60], dialect)
            yield f"CREATE INDEX {name} ON {table}({names})"


def _compared(tokens: Sequence[Token], source: Source, sources: Sequence[Source]) -> list[str]:
    """The columns of a source that conditions compare: equal ones first, then one range."""
    equal: list[str] = []
    ranges: list[str] = []
    for column, sign in _comparisons(tokens, source, sources):
        if sign in _EQUAL and column not in equal:
            equal.append(column)
        elif sign in _RANGE and column not in ranges:
            ranges.append(column)
    ranges = [column for column in ranges if column not in equal]
    return [*equal[:_MOST_COLUMNS], *ranges[:1]][:_MOST_COLUMNS]


def _comparisons(
    tokens: Sequence[Token], source: Source, sources: Sequence[Source]
) -> Iterator[tuple[str, str]]:
    by_folded = {column.casefold(): column for column in source.columns}
    others = {c.casefold() for other in sources if other is not source for c in other.columns}
    conditions = False
    for place, token in enumerate(tokens):
        if token.says("WHERE", "ON", "AND", "OR", "HAVING"):
            conditions = True
        elif token.says("SELECT", "SET", "GROUP", "ORDER", "LIMIT"):
            conditions = False
        if not conditions or not token.is_name or token.name.casefold() not in by_folded:
            continue
        before = tokens[place - 1] if place else None
        if before is not None and before.text == ".":
            if tokens[place - 2].name.casefold() != source.name.casefold():
                continue
        elif token.name.casefold() in others:
            continue
        start = place - 2 if before is not None and before.text == "." else place
        after = tokens[place + 1] if place + 1 < len(tokens) else None
        earlier = tokens[start - 1] if start else None
        for sign in (after, earlier):
            if sign is not None and sign.text.upper() in (*_EQUAL, *_RANGE):
                yield by_folded[token.name.casefold()], sign.text.upper()
                break


def plan_lines(steps: tuple[PlanStep, ...], indent: str = "") -> Iterator[tuple[str, str]]:
    """A plan as lines of a tree, each with what is slow about it."""
    for number, step in enumerate(steps):
        last = number == len(steps) - 1
        told = [step.words]
        if step.rows is not None:
            told.append(f"{step.rows:.0f} rows")
        if step.estimated is not None:
            told.append(f"{step.estimated:.0f} expected")
        if step.seconds is not None:
            told.append(f"{step.seconds * 1000:.1f} ms")
        yield f"{indent}{'└' if last else '├'} {' · '.join(told)}", step.concern
        yield from plan_lines(step.steps, f"{indent}{'  ' if last else '│ '}")
