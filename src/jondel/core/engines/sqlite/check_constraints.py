"""Records for which a CHECK constraint does not hold, though their table declares it.

An app can switch SQLite's checks off, and a constraint can come into a declaration behind its back.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from typing import NamedTuple, cast

from jondel.core.engines.roles import StatementRunner
from jondel.core.engines.sqlite.sql_text import quoted, quoted_list
from jondel.core.errors import Cancelled, ReadError
from jondel.core.model.constraints import Violation
from jondel.core.model.outcomes import CollectedRows
from jondel.core.model.schema import Table
from jondel.core.model.statements import Statement
from jondel.core.model.values import ShownRow, StoredValue
from jondel.core.sql.tokens import Token, without_comments

_MOST_RECORDS = 10_000
_AT_ONCE = 100

_log = logging.getLogger(__name__)


class Check(NamedTuple):
    """A constraint: what is to hold, as it is declared, and the columns that it names."""

    expression: str
    columns: tuple[str, ...]


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
    runner: StatementRunner,
    declaration: str,
    table: Table,
    key: Sequence[str],
    records: Sequence[tuple[StoredValue, ...]] | None = None,
) -> Iterator[Violation]:
    """See ``ConstraintChecker``; ``declaration`` is the statement that made the table."""
    for check in declared_checks(declaration, table):
        if not check.columns:
            continue
        # What closes it is on a line of its own, for it may end in a comment.
        sql = f"SELECT {quoted_list([*key, check.columns[0]])} "
        sql += f"FROM {quoted(table.name)} WHERE NOT ({check.expression}\n)"
        found: list[ShownRow] = []
        try:
            for some in _parts(key, records):
                rows = CollectedRows(_MOST_RECORDS)
                runner.stream(Statement((sql,)) + some, rows)
                found += rows.rows
        except Cancelled:
            raise
        except ReadError as error:
            _log.info("%s: CHECK (%s): not looked at: %s", table.title, check.expression, error)
            continue
        for *record, value in found:
            of = cast("tuple[StoredValue, ...]", tuple(record))
            yield Violation(of, check.columns[0], value, check.expression)


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
