"""Reads whole tables of a server in the order of their keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jondel.core.engines.plain_scanner import PlainScanner
from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import quoted, quoted_list, source
from jondel.core.engines.protocol import Database, Selection
from jondel.core.errors import ReadError
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow

_AT_ONCE = 1000


class ServerScanner(PlainScanner):
    """See ``Scanner``."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        self._session.require(table)
        by = ", ".join(part for name in order for part in _by_bytes(table, name))
        sql = f"SELECT {quoted_list(columns)} FROM {source(table)}"
        sql += f" ORDER BY {by}" if by else ""
        with self._session.streamed(Asked(sql), _AT_ONCE) as batches:
            for batch in batches:
                yield [self._session.whole(table, columns, row) for row in batch]

    def same_value(
        self, table: Table, row_id: int, column: str, other: Database, other_table: Table
    ) -> bool:
        raise ReadError(f"{table.title}: rows of a server have no numbers")


def _by_bytes(table: Table, name: str) -> list[str]:
    """What sorts a column as values are compared here, whatever the server's collation."""
    column = table.column(name)
    of = quoted(name)
    if column is None or column.type.kind in ("integer", "real", "blob"):
        return [f"{of} NULLS FIRST"]
    text = f'{of}::text COLLATE "C" NULLS FIRST'
    if column.type.kind in ("text", "json", "enum", "array", "bits", "other"):
        return [text]
    return [f"{of} NULLS FIRST", text]
