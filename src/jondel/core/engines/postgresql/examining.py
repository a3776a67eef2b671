"""Tries a connection out, and says what it is like."""

from __future__ import annotations

import time
from contextlib import closing, suppress

from jondel.core.engines.postgresql.address import address_of, for_driver
from jondel.core.engines.postgresql.connection import connect, translated
from jondel.core.engines.postgresql.sql_text import OURS
from jondel.core.engines.server_addresses import ServerAddress, with_name
from jondel.core.engines.server_report import ServerReport
from jondel.core.errors import JondelError, TargetNotFound

_FACTS = """
SELECT current_setting('server_version'), pg_encoding_to_char(encoding),
    current_setting('TimeZone'), current_user,
    (SELECT rolsuper FROM pg_roles WHERE rolname = current_user),
    has_database_privilege(current_database(), 'CREATE'), pg_is_in_recovery(),
    pg_database_size(current_database())
FROM pg_database WHERE datname = current_database()
"""
_TABLES = f"""
SELECT count(*), count(*) FILTER (WHERE has_table_privilege(c.oid, 'SELECT')),
    count(*) FILTER (WHERE has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE'))
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND {OURS}
"""
_DATABASES = "SELECT datname FROM pg_database WHERE datallowconn AND NOT datistemplate ORDER BY 1"
_MAINTENANCE = ("postgres", "template1")


def examine(url: str) -> ServerReport:
    """Connect once, and tell what the server and the user are like. Raises ``TargetError``."""
    address = address_of(url)
    try:
        with (
            translated(address.location),
            closing(connect(for_driver(url), address.location, as_the_app=True)) as connection,
        ):
            began = time.perf_counter()
            connection.execute("SELECT 1").fetchall()
            round_trip = time.perf_counter() - began
            facts = connection.execute(_FACTS).fetchall()[0]
            version, encoding, zone, user, is_super, creates, recovering, size = (
                (part or b"").decode() for part in facts
            )
            tables, readable, writable = map(int, connection.execute(_TABLES).fetchall()[0])
            databases = [name.decode() for (name,) in connection.execute(_DATABASES).fetchall()]
    except TargetNotFound as error:
        raise TargetNotFound(f"{error}{_there_are(url, address)}") from error
    rights = "superuser" if is_super == "t" else f"reads {readable} of {tables} tables"
    if is_super != "t":
        rights += f", writes {writable}" + (", makes schemas" if creates == "t" else "")
    return ServerReport(
        address.location,
        f"PostgreSQL {version.split()[0]}" + (" (a standby)" if recovering == "t" else ""),
        encoding,
        zone,
        round_trip,
        user,
        rights,
        tables,
        int(size),
        tuple(databases),
    )


def databases_at(url: str) -> tuple[str, ...]:
    """The databases of the same server that can be connected to. Raises ``TargetError``."""
    address = address_of(url)
    with (
        translated(address.location),
        closing(connect(for_driver(url), address.location)) as connection,
    ):
        return tuple(name.decode() for (name,) in connection.execute(_DATABASES).fetchall())


def create_database(url: str) -> None:
    """Make the database that a URL names, on its server. Raises ``TargetError``."""
    address = address_of(url)
    problem: JondelError | None = None
    for name in _MAINTENANCE:
        other = with_name(url, name)
        try:
            with (
                translated(address.location),
                closing(connect(for_driver(other), address.location, writing=True)) as connection,
            ):
                doubled = address.name.replace('"', '""')
                connection.execute(f'CREATE DATABASE "{doubled}"')
                return
        except TargetNotFound as error:
            problem = error
    assert problem is not None, "one of them was tried"
    raise problem


def _there_are(url: str, address: ServerAddress) -> str:
    """Which databases there are instead."""
    for name in _MAINTENANCE:
        with suppress(JondelError):
            found = databases_at(with_name(url, name))
            return f"; there are: {', '.join(found[:12])}" if found else ""
    return ""
