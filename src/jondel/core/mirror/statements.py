"""Runs statements on states of a mirror, as if they were the database that it mirrors.

Statements are in SQLite's dialect. Views give each table its own name, and exact values a form that
SQLite computes with: numbers and truth values as numbers, all else as the text that it is.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from typing import TYPE_CHECKING, cast

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.sql_text import quoted
from jondel.core.errors import StatementFailed, StatementRefused
from jondel.core.mirror.layout import Layout, MirrorTable
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import ResultRows
from jondel.core.model.statements import Statement
from jondel.core.sql.tokens import Token, without_comments

if TYPE_CHECKING:
    from jondel.core.engines.roles import StatementRunner
    from jondel.core.engines.sqlite.image import SqliteImage
    from jondel.core.model.outcomes import ResultSink, StatementError
    from jondel.core.model.plans import PlanStep

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
        inner, asked, inside = self._asked(Statement((sql,)), beside or {})
        return inner.execute(asked.text(), limit=limit, beside=inside)

    def stream(
        self,
        statement: Statement,
        sink: ResultSink,
        *,
        beside: Mapping[str, Database] | None = None,
    ) -> None:
        """See ``StatementRunner.stream``."""
        inner, asked, inside = self._asked(statement, beside or {})
        try:
            inner.stream(asked, sink, beside=inside)
        except StatementFailed as error:
            if error.at is None or asked == statement:
                raise
            raise StatementFailed(str(error)) from error  # it is of the text with views' names

    def plan(self, statement: Statement, *, measured: bool = False) -> tuple[PlanStep, ...]:
        """See ``StatementRunner.plan``: it is that of the mirror, and not the server's."""
        raise StatementRefused("a snapshot of a server's database has none of the server's plans")

    def check(self, statement: Statement) -> StatementError | None:
        """See ``StatementRunner.check``."""
        inner, asked, _ = self._asked(statement, {})
        error = inner.check(asked)
        return error if error is None or asked == statement else error._replace(at=None)

    def _asked(
        self, statement: Statement, states: Mapping[str, Database]
    ) -> tuple[StatementRunner, Statement, dict[str, Database]]:
        """What to ask of what, and beside which states."""
        names = {"": _Names("main", self._layout, "")}
        names |= {n: _Names(n, Layout(s.schema()), f"{n}.") for n, s in states.items()}
        sql = statement.text()
        tokens = without_comments(sql)
        mentioned = {token.name.casefold() for token in tokens if token.is_name}
        views = {k: v for known in names.values() for k, v in known.views(mentioned).items()}
        cast("SqliteImage", self._inner).define_views(views)
        inside = {name: _inside(name, state) for name, state in states.items()}
        asked = _with_view_names(sql, tokens, names)
        places = [
            token.start
            for token in without_comments(asked)
            if token.kind == "parameter" and token.text == "?"
        ]
        if len(places) == len(statement.arguments):
            statement = Statement.marked(asked, places, statement.arguments)
        return statements_of(self._inner), statement, inside


def _inside(name: str, state: Database) -> Database:
    inner = getattr(state, "inner", None)
    if inner is None:
        raise StatementRefused(f"{name}: this state cannot be asked beside another")
    return cast(Database, inner)


class _Names:
    """The views that stand for a state's tables: each by its whole name, and by its last one where
    no other table has that, whatever its case."""

    def __init__(self, schema: str, layout: Layout, before: str) -> None:
        """``schema`` is what the state is attached as; ``before`` begins the views' names."""
        self._schema, self._tables, self._before = schema, layout.tables, before
        last = Counter(table.name.casefold() for table in self._tables)
        whole = {kept.name.casefold() for kept in self._tables.values()}
        self._alone = {
            table
            for table in self._tables
            if last[table.name.casefold()] == 1 and table.name.casefold() not in whole
        }

    def views(self, mentioned: Collection[str]) -> dict[str, str]:
        """Those of tables whose last name is mentioned, by name and query."""
        views: dict[str, str] = {}
        for table, kept in self._tables.items():
            if table.name.casefold() in mentioned:
                views[self.of(table)] = (
                    f"SELECT {_columns(kept)} FROM {quoted(self._schema)}.{quoted(kept.name)}"
                )
        return views

    def of(self, table: TableId) -> str:
        """The view of a table."""
        name = table.name if table in self._alone else self._tables[table].name
        return f"{self._before}{name}"

    def table(self, names: list[str]) -> TableId | None:
        """The table that has these last levels, just so or in another case."""
        ends = {table: list(table[-len(names) :]) for table in self._tables}
        just_so = [table for table, end in ends.items() if end == names]
        wanted = [name.casefold() for name in names]
        alike = [t for t, end in ends.items() if [n.casefold() for n in end] == wanted]
        found = just_so if len(just_so) == 1 else alike
        return found[0] if len(found) == 1 else None


def _columns(kept: MirrorTable) -> str:
    shown = []
    for name, column in zip(kept.columns, kept.table.columns, strict=True):
        kind, stored = column.type.exact_kind, quoted(name)
        if kind == "numeric":
            digits = f"length(ltrim(replace(replace({stored}, '-', ''), '.', ''), '0'))"
            number = f"{stored} GLOB '*[0-9]*' AND {digits} <= {_EXACT_DIGITS}"
            stored = f"CASE WHEN {number} THEN CAST({stored} AS NUMERIC) ELSE {stored} END"
        elif kind == "boolean":
            stored = f"({stored} = 'true')"
        shown.append(f"{stored} AS {quoted(column.name)}")
    return ", ".join(shown) or "NULL"


def _with_view_names(sql: str, tokens: list[Token], names: Mapping[str, _Names]) -> str:
    """A statement in which names of tables with their schemas, or with a state's name before them,
    are the names of their views."""
    parts: list[str] = []
    at = place = 0
    while place < len(tokens):
        found = _view_at(tokens, place, names)
        if found is None:
            place += 1
            continue
        name, length = found
        parts += [sql[at : tokens[place].start], quoted(name)]
        place += length
        at = tokens[place - 1].end
    return "".join([*parts, sql[at:]])


def _view_at(
    tokens: list[Token], place: int, names: Mapping[str, _Names]
) -> tuple[str, int] | None:
    """The view that some tokens name, and how many they are."""
    if place and tokens[place - 1].says("."):
        return None
    words = _dotted(tokens, place)
    is_of_state = bool(words) and words[0] in names
    known = names[words[0] if is_of_state else ""]
    levels = words[1:] if is_of_state else words
    # A single word is a view's name as it is, unless a state's name stands before it.
    for length in range(len(levels), 0 if is_of_state else 1, -1):
        table = known.table(levels[:length])
        if table is not None:
            return known.of(table), 2 * (length + is_of_state) - 1
    return None


def _dotted(tokens: list[Token], place: int) -> list[str]:
    """The names from a token on that have dots between them; three at most."""
    words = [tokens[place].name] if tokens[place].is_name else []
    while 0 < len(words) < 3:
        dot = place + 2 * len(words) - 1
        if dot + 1 >= len(tokens) or not (tokens[dot].says(".") and tokens[dot + 1].is_name):
            break
        words.append(tokens[dot + 1].name)
    return words
