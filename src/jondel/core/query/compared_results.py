"""The rows of two runs of a statement, compared like two states of a table."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

from jondel.core.diff.compare import Scope, compare
from jondel.core.engines.protocol import Database
from jondel.core.model.changes import Changes
from jondel.core.model.schema import Schema, Table
from jondel.core.query.results import RESULT, open_result


def compared(
    one: Path,
    other: Path,
    scope: Scope,
    opened: Callable[[Database], None] = lambda database: None,
) -> Changes:
    """What differs between the rows of two runs.

    Records are told by a column that is the whole key of a table, where there is one and no value
    of it comes twice; else rows are compared as they are, however often each is there.

    Raises:
        StoreUnavailable: rows are no longer kept.
    """
    with (
        closing(open_result(one, "the one")) as before,
        closing(open_result(other, "the other")) as after,
    ):
        sides = (before, after)
        for side in sides:
            opened(side)
        key = _key_of(before, after)
        keyed = [cast(Database, _ByKey(side, key)) for side in sides]
        return compare(keyed[0], keyed[1], scope)


def _key_of(before: Database, after: Database) -> str:
    """The column that tells the records of both; empty where there is none."""
    tables = [side.schema().by_id[RESULT] for side in (before, after)]
    for link in tables[0].foreign_keys:
        name = link.columns[0]
        is_key = any(key.columns == (name,) for key in tables[1].foreign_keys)
        if is_key and all(
            _has_each_once(side, table, name)
            for side, table in zip((before, after), tables, strict=True)
        ):
            return name
    return ""


def _has_each_once(side: Database, table: Table, name: str) -> bool:
    from jondel.core.model.filters import Arrangement  # not needed where nothing is compared

    tally = side.finder.tally(table, name, Arrangement())
    return tally.distinct == tally.rows and not tally.nulls


class _ByKey:
    """A result whose rows are told by a column, or by nothing but themselves."""

    def __init__(self, inner: Database, key: str) -> None:
        self._inner = inner
        table = inner.schema().by_id[RESULT]
        columns = tuple(
            column._replace(key_position=1, not_null=True) if column.name == key else column
            for column in table.columns
        )
        self._schema = Schema((replace(table, columns=columns, row_id=None, foreign_keys=()),))

    def schema(self) -> Schema:
        return self._schema

    def __getattr__(self, name: str) -> Any:
        return getattr(self._inner, name)
