"""Runs statements on states of a mirror, as if they were the database that it mirrors.

Statements are in SQLite's dialect. Views give each table its own name, and exact values a form that
SQLite computes with: numbers and truth values as numbers, all else as the text that it is.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING, cast

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.errors import StatementRefused
from jondel.core.mirror.layout import Layout, MirrorTable, exact_kind
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import ResultRows
from jondel.core.sql.tokens import Token, without_comments

if TYPE_CHECKING:
    from jondel.core.engines.sqlite.image import SqliteImage

_EXACT_DIGITS = 15
"""Decimals of more digits are no floating point number exactly; they stay text."""


class MirrorStatements:
    """See ``StatementRunner``."""

    def __init__(self, inner: Database, layout: Layout) -> None:
        self._inner = inner
        self._layout = layout

    def execute(
        self,
        sql: str,
        *,
        limit: int | None = None,
        beside: Mapping[str, Database] | None = None,
    ) -> ResultRows:
        """See ``StatementRunner.execute``."""
        states = beside or {}
        layouts = {name: Layout(state.schema()) for name, state in states.items()}
        views = _views("main", self._layout, "")
        for name, layout in layouts.items():
            views |= _views(name, layout, f"{name}.")
        cast("SqliteImage", self._inner).define_views(views)
        asked = _with_view_names(sql, self._layout, layouts)
        inside = {name: _inside(name, state) for name, state in states.items()}
        return statements_of(self._inner).execute(asked, limit=limit, beside=inside)


def _inside(name: str, state: Database) -> Database:
    inner = getattr(state, "inner", None)
    if inner is None:
        raise StatementRefused(f"{name}: this state cannot be asked beside another")
    return cast(Database, inner)


def _views(schema: str, layout: Layout, before: str) -> dict[str, str]:
    """The views of a state's tables: each by its whole name, and by its last one where no other
    table has that."""
    views: dict[str, str] = {}
    for table, kept in layout.tables.items():
        query = f"SELECT {_columns(kept)} FROM {quoted(schema)}.{quoted(kept.name)}"
        views[f"{before}{kept.name}"] = query
        if table in _told_by_last_name(layout):
            views[f"{before}{table.name}"] = query
    return views


def _told_by_last_name(layout: Layout) -> frozenset[TableId]:
    """The tables whose last name no other table has, whatever its case."""
    last = Counter(table.name.casefold() for table in layout.tables)
    whole = {kept.name.casefold() for kept in layout.tables.values()}
    return frozenset(
        t for t in layout.tables if last[t.name.casefold()] == 1 and t.name.casefold() not in whole
    )


def _columns(kept: MirrorTable) -> str:
    shown = []
    for name, column in zip(kept.columns, kept.table.columns, strict=True):
        kind, stored = exact_kind(column), quoted(name)
        if kind == "numeric":
            digits = f"length(ltrim(replace(replace({stored}, '-', ''), '.', ''), '0'))"
            number = f"{stored} GLOB '*[0-9]*' AND {digits} <= {_EXACT_DIGITS}"
            stored = f"CASE WHEN {number} THEN CAST({stored} AS NUMERIC) ELSE {stored} END"
        elif kind == "boolean":
            stored = f"({stored} = 'true')"
        shown.append(f"{stored} AS {quoted(column.name)}")
    return ", ".join(shown) or "NULL"


def _with_view_names(sql: str, layout: Layout, beside: Mapping[str, Layout]) -> str:
    """A statement in which names of tables with their schemas, or with a state's name before them,
    are the names of their views."""
    tokens = without_comments(sql)
    parts: list[str] = []
    at = place = 0
    while place < len(tokens):
        found = _view_at(tokens, place, layout, beside)
        if found is None:
            place += 1
            continue
        name, length = found
        parts += [sql[at : tokens[place].start], quoted(name)]
        place += length
        at = tokens[place - 1].end
    return "".join([*parts, sql[at:]])


def _view_at(
    tokens: list[Token], place: int, layout: Layout, beside: Mapping[str, Layout]
) -> tuple[str, int] | None:
    """The view that some tokens name, and how many they are."""
    if place and tokens[place - 1].says("."):
        return None
    names = [tokens[place].name] if tokens[place].is_name else []
    while len(names) and len(names) < 3:
        dot = place + 2 * len(names) - 1
        if dot + 1 >= len(tokens) or not (tokens[dot].says(".") and tokens[dot + 1].is_name):
            break
        names.append(tokens[dot + 1].name)
    state, rest = "", names
    if names and names[0] in beside:
        state, rest, layout = f"{names[0]}.", names[1:], beside[names[0]]
    for length in range(len(rest), 0, -1):
        if length == 1 and not state:
            return None
        table = _table(layout, rest[:length])
        if table is not None:
            alone = table in _told_by_last_name(layout)
            name = table.name if alone else layout.tables[table].name
            return f"{state}{name}", 2 * (length + bool(state)) - 1
    return None


def _table(layout: Layout, names: list[str]) -> TableId | None:
    just_so = [t for t in layout.tables if list(t[-len(names) :]) == names]
    if len(just_so) == 1:
        return just_so[0]
    wanted = [name.casefold() for name in names]
    found = [t for t in layout.tables if [n.casefold() for n in t[-len(names) :]] == wanted]
    return found[0] if len(found) == 1 else None
