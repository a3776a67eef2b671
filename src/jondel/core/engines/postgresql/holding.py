"""Keeps others, and the database's own triggers, from writing while we do."""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress

import psycopg

from jondel.core.engines.postgresql.connection import SESSION_SETTINGS, Connection
from jondel.core.engines.postgresql.sql_text import named, quoted, source, unmarked
from jondel.core.errors import WriteRefused
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table

_TRIES = 6
_WAIT_MS, _PAUSE_SECONDS = 300, 0.05
_TRIGGERS = """
SELECT n.nspname, c.relname, t.tgname
FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE NOT t.tgisinternal AND t.tgenabled IN ('O', 'A')
"""


def lock_against_writing(connection: Connection, tables: Sequence[Table]) -> None:
    """Keep others from writing to tables until the transaction ends; they can be read.

    Those that one may not lock are left out. Where somebody holds one of them, the others are let
    go again for a moment, so that nobody waits for these meanwhile.

    Raises:
        psycopg.errors.LockNotAvailable: somebody does not let go.
    """
    listed = [unmarked(source(table)) for table in tables
              if table.kind in ("table", "partitioned table")]  # fmt: skip
    if not listed:
        return
    for attempt in range(_TRIES):
        try:
            with connection.transaction():
                connection.execute(f"SET LOCAL lock_timeout = '{_WAIT_MS}ms'")
                _lock(connection, listed)
                connection.execute(f"SET LOCAL lock_timeout = '{SESSION_SETTINGS['lock_timeout']}'")
            return
        except psycopg.errors.LockNotAvailable:
            if attempt == _TRIES - 1:
                raise
            time.sleep(_PAUSE_SECONDS)


def _lock(connection: Connection, listed: Sequence[str]) -> None:
    try:
        with connection.transaction():
            _lock_all(connection, listed)
    except psycopg.errors.InsufficientPrivilege:
        for one in listed:
            with suppress(psycopg.errors.InsufficientPrivilege), connection.transaction():
                _lock_all(connection, [one])


def _lock_all(connection: Connection, listed: Sequence[str]) -> None:
    connection.execute(f"LOCK TABLE {', '.join(listed)} IN SHARE ROW EXCLUSIVE MODE")


@contextmanager
def triggers_held(connection: Connection, tables: Collection[TableId]) -> Iterator[bool]:
    """Keep the triggers of these tables from running in the block.

    Gives whether links are checked and act all the same: only a superuser can keep them from it.

    Raises:
        WriteRefused: there are triggers, and the user may not hold them.
    """
    if not tables:
        yield True
        return
    try:
        with connection.transaction():
            connection.execute("SET LOCAL session_replication_role = replica")
    except psycopg.errors.InsufficientPrivilege:
        pass
    else:
        yield False
        connection.execute("SET LOCAL session_replication_role = origin")
        return
    held = [
        (TableId(schema.decode(), table.decode()), name.decode())
        for schema, table, name in connection.execute(_TRIGGERS).fetchall()
    ]
    mine = [(table, name) for table, name in held if table in tables]
    for way in ("DISABLE", "ENABLE"):
        if way == "ENABLE":
            yield True
        for table, name in mine:
            sql = unmarked(f"ALTER TABLE {named(table)} {way} TRIGGER {quoted(name)}")
            try:
                connection.execute(sql)
            except psycopg.errors.InsufficientPrivilege as error:
                raise WriteRefused(
                    f"{table}: its trigger {name} would run, and only the table's owner may keep "
                    "it from that; nothing was written"
                ) from error
