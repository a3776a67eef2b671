"""What the server knows of the files that hold tables, and of when their rows came."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from jondel.core.engines.postgresql.connection import Connection
from jondel.core.engines.postgresql.sql_text import OURS, source, unmarked
from jondel.core.model.schema import Table

_COUNTED_AT_ONCE = 50
_XIDS = 1 << 32
_FACTS = f"""
SELECT c.oid,
    CASE WHEN c.relkind = 'p' THEN
        (SELECT string_agg(p.relid::oid || ':' || coalesce(pg_relation_filenode(p.relid), 0),
             ',' ORDER BY p.relid::oid) FROM pg_partition_tree(c.oid) p)
    ELSE pg_relation_filenode(c.oid)::text END,
    NOT row_security_active(c.oid) AND CASE WHEN c.relkind = 'p' THEN NOT EXISTS (
        SELECT 1 FROM pg_partition_tree(c.oid) p JOIN pg_class l ON l.oid = p.relid
        LEFT JOIN pg_am m ON m.oid = l.relam
        WHERE p.isleaf AND m.amname IS DISTINCT FROM 'heap')
    ELSE coalesce((SELECT m.amname = 'heap' FROM pg_am m WHERE m.oid = c.relam), FALSE) END
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'm') AND {OURS}
"""
_SNAPSHOT = """
SELECT pg_current_snapshot()::text, pg_snapshot_xmin(pg_current_snapshot())::text,
    pg_snapshot_xmax(pg_current_snapshot())::text
"""


_INCARNATION = """
SELECT d.oid::text, extract(epoch FROM pg_postmaster_start_time())::text,
    has_function_privilege('pg_control_system()', 'EXECUTE')
        AND has_function_privilege('pg_control_checkpoint()', 'EXECUTE')
FROM pg_database d WHERE d.datname = current_database()
"""
_SYSTEM = """
SELECT s.system_identifier::text, c.timeline_id::text
FROM pg_control_system() s, pg_control_checkpoint() c
"""


class HeapFacts(NamedTuple):
    """What is to be known of a table: which files hold it, and whether transactions' numbers tell
    all that came: not where a row can come into sight by itself."""

    files: str
    told_by_numbers: bool


class Transactions(NamedTuple):
    """Which transactions are over; ``oldest`` is the first that may not be, ``newest`` the next.

    ``incarnation`` names the history that these numbers count in; see ``read_incarnation``.
    """

    token: str
    oldest: int
    newest: int
    incarnation: str


class Counted(NamedTuple):
    """How many rows a table has, and how many of them came after some time."""

    rows: int
    came: int


def read_incarnation(connection: Connection) -> str:
    """Name the history of the database that a connection leads to.

    A database that was dropped and created again, a data folder that was put back from a copy and
    another server have other names, although files and transaction numbers may be the same. The
    server cannot have been put back while it runs, so a restart makes another name, too.
    """
    if not connection.incarnation:
        (found,) = connection.execute(_INCARNATION).fetchall()
        parts = [part.decode() for part in found[:2]]
        if found[2] == b"t":
            parts += [part.decode() for part in connection.execute(_SYSTEM).fetchall()[0]]
        connection.incarnation = " ".join(parts)
    return connection.incarnation


def read_facts(connection: Connection) -> dict[int, HeapFacts]:
    """The facts of all tables, by their numbers."""
    rows = connection.execute(_FACTS).fetchall()
    return {int(oid): HeapFacts((files or b"").decode(), told == b"t") for oid, files, told in rows}


def read_transactions(connection: Connection) -> Transactions:
    """Which transactions are over for what is read now."""
    token, oldest, newest = connection.execute(_SNAPSHOT).fetchall()[0]
    incarnation = read_incarnation(connection)
    return Transactions(token.decode(), int(oldest), int(newest), incarnation)


def recent_since(oldest: int) -> str:
    """SQL for: a row came with a transaction of this number or later, or so it seems."""
    # A number that seems to be to come is of a row so old that numbers have come round.
    return f"(age(xmin) <= age('{oldest % _XIDS}'::xid) OR age(xmin) < 0)"


def count_rows(
    connection: Connection, tables: Sequence[Table], oldest: int | None
) -> Iterator[tuple[Table, Counted]]:
    """Count the rows of tables, some at a time, and those that came since."""
    recent = recent_since(oldest) if oldest is not None else "FALSE"
    came = f"count(*), count(*) FILTER (WHERE {recent})"
    for table, (rows, recent_rows) in aggregates(connection, tables, lambda _: came):
        yield table, Counted(int(rows or 0), int(recent_rows or 0))


def aggregates(
    connection: Connection, tables: Sequence[Table], of: Callable[[Table], str]
) -> Iterator[tuple[Table, tuple[bytes | None, ...]]]:
    """Compute aggregates over the rows of tables, several tables with each statement.

    ``of`` gives the SQL of a table's aggregates, as many for each; its rows are called ``t``.
    """
    for first in range(0, len(tables), _COUNTED_AT_ONCE):
        part = tables[first : first + _COUNTED_AT_ONCE]
        sql = " UNION ALL ".join(
            f"SELECT {place}, {of(table)} FROM {unmarked(source(table))} AS t"
            for place, table in enumerate(part)
        )
        for place, *found in connection.execute(sql).fetchall():
            yield part[int(place)], tuple(found)


def number_of(table: Table) -> int:
    """The server's own number of a table."""
    assert table.identity is not None, "the server numbers its tables"
    return table.identity
