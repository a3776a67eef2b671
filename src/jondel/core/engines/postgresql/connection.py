"""Connects to a server, in a session that reads every value in the server's own exact spelling."""

from __future__ import annotations

import logging
import re
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
from psycopg.abc import Buffer
from psycopg.adapt import Loader

from jondel.core.engines.passwords import known_password
from jondel.core.engines.postgresql.address import address_of
from jondel.core.engines.postgresql.failures import why_not_reached
from jondel.core.errors import (
    Cancelled,
    PermissionMissing,
    StatementFailed,
    TargetLocked,
    TargetNotFound,
    TargetUnavailable,
)

# The driver tells of errors in errors; without a handler that would go to the terminal.
logging.getLogger("psycopg").addHandler(logging.NullHandler())

SESSION_SETTINGS = {
    "datestyle": "ISO, YMD",
    "intervalstyle": "postgres",
    "bytea_output": "hex",
    "extra_float_digits": "1",
    "timezone": "UTC",
    "lock_timeout": "2s",
    "statement_timeout": "0",
    "idle_in_transaction_session_timeout": "60s",
    "default_transaction_read_only": "on",
    "default_transaction_isolation": "read committed",
    "default_transaction_deferrable": "off",
    "quote_all_identifiers": "off",
    "row_security": "on",
    "lc_monetary": "C",
    "xmlbinary": "base64",
    "standard_conforming_strings": "on",
}
"""What values and declarations read as, and how long we may be in anybody's way; whatever the
server, the database or the user has as its own settings."""


_OLDEST_VERSION = 130_000
"""What tells which transactions are over has its present names from then on."""


_LOST = re.compile(r"server closed the connection|consuming input failed|connection is lost", re.I)


class Connection(psycopg.Connection[tuple[Any, ...]]):
    """A connection in our session."""

    copies = True
    """Whether rows can be copied out of the server."""
    incarnation = ""
    """See ``read_incarnation``; empty until it was asked for."""
    used_at = 0.0
    """When it was last asked something, by ``time.monotonic``."""

    def execute(self, *arguments: Any, **options: Any) -> psycopg.Cursor[tuple[Any, ...]]:
        """See ``psycopg.Connection``."""
        self.used_at = time.monotonic()
        return super().execute(*arguments, **options)


class _AsSent(Loader):
    """Gives what the server sent."""

    def load(self, data: Buffer) -> bytes:
        return bytes(data)


def connect(
    target: str,
    what: str,
    *,
    writing: bool = False,
    as_the_app: bool = False,
    database: str = "",
) -> Connection:
    """Connect to a database by its URL; for reading, unless it is for ``writing``.

    ``as_the_app``: with the settings that the server has for everybody. ``database``: another one
    of that server instead. ``what`` names it in messages: the URL may hold a password.

    Raises:
        TargetError: it cannot be reached; the message says why.
    """
    settings = (
        {}
        if as_the_app
        else {**SESSION_SETTINGS, **({"default_transaction_read_only": "off"} if writing else {})}
    )
    options = " ".join(f"-c {name}={_escaped(value)}" for name, value in settings.items())
    address = address_of(target)
    password = known_password(address)
    more = {"password": password} if password is not None else {}
    if database:
        more["dbname"] = database
    with translated(what):
        try:
            connection = Connection.connect(
                target,
                autocommit=True,
                options=options,
                application_name="jondel",
                client_encoding="utf8",
                connect_timeout=10,
                **more,  # type: ignore[arg-type]
            )
        except psycopg.OperationalError as error:
            raise why_not_reached(error, address) from error
        if connection.info.server_version < _OLDEST_VERSION:
            version = connection.info.server_version // 10_000
            connection.close()
            raise TargetUnavailable(f"{what}: PostgreSQL {version} is too old; 13 is needed")
        # Ours are written with their schemas. Not a setting to connect with: then what the path is
        # for this user would be known no more.
        connection.execute("SET search_path = pg_catalog")
    for known in connection.adapters.types:
        for number in (known.oid, known.array_oid):
            if number:
                connection.adapters.register_loader(number, _AsSent)
    connection.adapters.register_loader(0, _AsSent)
    return connection


def _escaped(value: str) -> str:
    return value.replace("\\", "\\\\").replace(" ", "\\ ")


@contextmanager
def translated(what: str) -> Iterator[None]:
    """Give the server's errors as ours; ``what`` says of what, without a password."""
    try:
        yield
    except psycopg.errors.QueryCanceled as error:
        raise Cancelled("stopped") from error
    except psycopg.errors.LockNotAvailable as error:
        raise TargetLocked(f"{what}: another session holds it; try again") from error
    except psycopg.errors.InsufficientPrivilege as error:
        raise PermissionMissing(f"{what}: {_words(error)}") from error
    except psycopg.errors.InvalidCatalogName as error:
        raise TargetNotFound(f"{what}: there is no such database") from error
    except psycopg.OperationalError as error:
        raise TargetUnavailable(f"{what}: {_words(error)}") from error
    except psycopg.Error as error:
        raise StatementFailed(f"{what}: {_words(error)}") from error


def words_with_hint(error: psycopg.Error) -> str:
    """What the server said of a statement, and what it advises."""
    hint = error.diag.message_hint
    return f"{_words(error)}; {hint}" if hint else _words(error)


def _words(error: psycopg.Error) -> str:
    """The first line of what the server, or the driver, said."""
    said = (error.diag.message_primary or str(error)).strip()
    if not said:
        return type(error).__name__
    first = said.splitlines()[0]
    if _LOST.search(said):
        return "the server closed the connection; it is made again at the next question"
    # Of a connection that failed there is but a text, which says where it was tried first.
    return first.rpartition("FATAL:")[2].strip() or first
