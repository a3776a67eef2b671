"""Records for which a CHECK constraint does not hold, though their table declares it.

An app can switch SQLite's checks off, and a constraint can come into a declaration behind its back.
A server keeps such constraints by itself.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from typing import NamedTuple, cast

from jondel.core.diff.keys import Key
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import is_on_server
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.errors import Cancelled, ReadError
from jondel.core.findings.finding import Suspicion
from jondel.core.model.outcomes import CollectedRows
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow, StoredValue, Value
from jondel.core.sql.tokens import Token, without_comments

_MOST_CHARACTERS = 200
_MOST_RECORDS = 10_000
_AT_ONCE = 100

_log = logging.getLogger(__name__)


class Check(NamedTuple):
    """A constraint: what is to hold, as it is declared, and the columns that it names."""

    expression: str
    columns: tuple[str, ...]


class Violation(NamedTuple):
    """A record for which a constraint does not hold, by the first column that this names."""

    key: tuple[StoredValue, ...]
    column: str
    value: Value
    suspicion: Suspicion


def declared_checks(declaration: str, table: Table) -> Iterator[Check]:
    """The CHECK constraints in a statement that makes a table."""
    found = without_comments(declaration)
    for at, token in enumerate(found[:-1]):
        if token.says("CHECK") and found[at + 1].says("("):
            within = list(_within(found[at + 2 :]))
            if within:
                by_name = {name.casefold(): name for name in table.column_names}
                named = [by_name.get(t.name.casefold()) for t in within if t.is_name]
                expression = declaration[within[0].start : within[-1].end]
                yield Check(expression, tuple(dict.fromkeys(n for n in named if n is not None)))


def _within(rest: list[Token]) -> Iterator[Token]:
    """What comes before the parenthesis that closes the one before it."""
    depth = 1
    for token in rest:
        depth += token.says("(") - token.says(")")
        if not depth:
            return
        yield token


def violations(
    database: Database,
    table: Table,
    key: Key,
    records: Sequence[tuple[StoredValue, ...]] | None = None,
) -> Iterator[Violation]:
    """The records of a table for which a constraint does not hold; of very many, the first.

    With ``records`` only those with these keys are looked at.

    A constraint that cannot be evaluated here is left out: it may call a function of the app.

    Raises:
        Cancelled: it was interrupted.
    """
    declaration = database.schema().declaration(table.id)
    if declaration is None or database.statements is None or is_on_server(database.location):
        return
    keys = (table.row_id,) if key.is_row_id else key.columns
    if None in keys:
        return
    for check in declared_checks(declaration, table):
        if not check.columns:
            continue
        wanted = [name for name in keys if name is not None]
        # What closes it is on a line of its own, for it may end in a comment.
        sql = f"SELECT {quoted_list([*wanted, check.columns[0]])} "
        sql += f"FROM {quoted(table.name)} WHERE NOT ({check.expression}\n)"
        found: list[ShownRow] = []
        try:
            for some in _parts(wanted, records):
                rows = CollectedRows(_MOST_RECORDS)
                database.statements.stream(Statement((sql,)) + some, rows)
                found += rows.rows
        except Cancelled:
            raise
        except ReadError as error:
            _log.info("%s: CHECK (%s): not looked at: %s", table.title, check.expression, error)
            continue
        evidence = f"CHECK ({' '.join(check.expression.split())[:_MOST_CHARACTERS]}) does not hold"
        suspicion = Suspicion("constraint", evidence, 0.99)
        for *record, value in found:
            yield Violation(
                cast("tuple[StoredValue, ...]", tuple(record)), check.columns[0], value, suspicion
            )


def _parts(
    names: Sequence[str], records: Sequence[tuple[StoredValue, ...]] | None
) -> Iterator[Statement]:
    """What is said of the keys of the records, of so many at a time."""
    if records is None:
        yield Statement()
        return
    for first in range(0, len(records), _AT_ONCE):
        rows = [
            Statement(("(",)) + Statement.joined(", ", map(Statement.value, record)) + ")"
            for record in records[first : first + _AT_ONCE]
        ]
        keys = f" AND ({quoted_list(names)}) IN (VALUES "
        yield Statement((keys,)) + Statement.joined(", ", rows) + ")"
