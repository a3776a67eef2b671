"""The statements of a plan as a person reads them, and as they are run."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from jondel.core.engines.needed import writer_of
from jondel.core.engines.protocol import Database
from jondel.core.model.statements import Statement
from jondel.core.model.writes import RowWrite


class ReadableStatement(NamedTuple):
    """One statement: its ``gist`` addresses the record, ``exact`` checks all of it too."""

    gist: Statement
    exact: Statement

    @property
    def guarded(self) -> bool:
        """Whether more is checked than where the record is."""
        return self.gist != self.exact


def readable_statements(writes: Iterable[RowWrite], database: Database) -> list[ReadableStatement]:
    """The statements that write rows."""
    return [
        ReadableStatement(
            writer_of(database).unguarded_statement(write),
            writer_of(database).write_statement(write),
        )
        for write in writes
    ]
