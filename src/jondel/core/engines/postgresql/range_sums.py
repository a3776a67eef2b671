"""Checksums of rows by ranges of their key, computed on the server: for a server that does not tell
which rows a transaction wrote."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jondel.core.engines.delta import Span
from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import quoted, source, unmarked
from jondel.core.model.schema import Table

_RANGES = 1000
Sums = dict[str, Any]
"""What is kept of a table: where its ranges begin, how wide they are, and each one's rows and sum;
JSON values only."""


def leading_integer(table: Table) -> str:
    """The first column of the primary key in SQL, where that is an integer; else nothing."""
    first = table.column(table.primary_key[0]) if table.primary_key else None
    if first is None or first.type.kind != "integer":
        return ""
    return unmarked(quoted(first.name))


def in_spans(table: Table, spans: Sequence[Span]) -> str:
    """SQL for: the first column of the key is in one of some spans."""
    name = leading_integer(table)
    return " OR ".join(f"{name} BETWEEN {low} AND {high}" for low, high in spans) or "FALSE"


class RangeSums:
    """Computes checksums in one transaction."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def first(self, table: Table) -> Sums:
        """The sums of a table, for the next time."""
        name = leading_integer(table)
        low, high = self._connection.execute(
            f"SELECT min({name}), max({name}) FROM {unmarked(source(table))}"
        ).fetchall()[0]
        begin = int(low or 0)
        width = max(1, (int(high or 0) - begin) // _RANGES + 1)
        return {"low": begin, "width": width, "of": self._sums(table, begin, width)}

    def next(self, table: Table, before: Sums) -> tuple[Sums, list[Span], int]:
        """The sums now, the spans in which rows differ, and how many rows there are."""
        low, width = before["low"], before["width"]
        was, now = before["of"], self._sums(table, low, width)
        differ = sorted(int(n) for n in was.keys() | now.keys() if was.get(n) != now.get(n))
        spans = [(low + n * width, low + (n + 1) * width - 1) for n in differ]
        rows = sum(int(entry.partition(" ")[0]) for entry in now.values())
        return {"low": low, "width": width, "of": now}, spans, rows

    def _sums(self, table: Table, low: int, width: int) -> dict[str, str]:
        """By the number of the range: how many rows it has, and the sum of their digests."""
        name = leading_integer(table)
        # Rounded down, so that rows before the first range are in ranges of their own, too.
        number = f"floor(({name}::numeric - {low}) / {width})::int8"
        digest = "('x' || substr(md5((t.*)::text), 1, 15))::bit(60)::int8::numeric"
        found = self._connection.execute(
            f"SELECT {number}, count(*), sum({digest}) FROM {unmarked(source(table))} t GROUP BY 1"
        ).fetchall()
        return {n.decode(): f"{count.decode()} {total.decode()}" for n, count, total in found}
