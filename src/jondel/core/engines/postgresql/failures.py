"""Says in words why a server could not be reached, and what to do."""

from __future__ import annotations

import re

import psycopg

from jondel.core.engines.server_addresses import ServerAddress
from jondel.core.errors import PasswordNeeded, TargetError, TargetNotFound, TargetUnavailable

_UNKNOWN_HOST = re.compile(r"could not translate host name|failed to resolve host", re.IGNORECASE)
_NOTHING_THERE = re.compile(r"connection refused|no such file or directory", re.IGNORECASE)
_NO_PASSWORD = re.compile(r"no password supplied", re.IGNORECASE)
_WRONG_PASSWORD = re.compile(r"(password|SCRAM|ident|peer) authentication failed", re.IGNORECASE)
_NO_DATABASE = re.compile(r'database "(.*)" does not exist', re.IGNORECASE)
_NO_ROLE = re.compile(r'role "(.*)" does not exist', re.IGNORECASE)
_NOT_LET_IN = re.compile(r"no pg_hba\.conf entry", re.IGNORECASE)
_WITHOUT_TLS = re.compile(r"no encryption|SSL off", re.IGNORECASE)
_WITH_TLS = re.compile(r"SSL encryption|SSL on|GSS encryption|\[local\]", re.IGNORECASE)
_NO_TLS = re.compile(r"server does not support SSL", re.IGNORECASE)
_CERTIFICATE = re.compile(r"certificate", re.IGNORECASE)
_TIMED_OUT = re.compile(r"timeout expired|timed out", re.IGNORECASE)
_TOO_MANY = re.compile(r"too many (clients|connections)|remaining connection slots", re.IGNORECASE)
_STARTING = re.compile(r"the database system is (starting up|shutting down|in recovery)", re.I)
_USUAL_PORT = 5432


def why_not_reached(error: psycopg.OperationalError, address: ServerAddress) -> TargetError:
    """What is to be raised for a connection that failed."""
    said = str(error)
    at = address.location
    host, port = address.host or "this machine", address.port or _USUAL_PORT
    if _NO_PASSWORD.search(said):
        return PasswordNeeded(
            f"{at}: {address.user} needs a password; set PGPASSWORD, or write it into the server's "
            "password file (~/.pgpass)", at,
        )  # fmt: skip
    if _WRONG_PASSWORD.search(said):
        return PasswordNeeded(f"{at}: the password of {address.user} is wrong, or none fits", at)
    if _NO_DATABASE.search(said):
        return TargetNotFound(f"{at}: the server has no database {address.name!r}")
    if found := _NO_ROLE.search(said):
        return TargetUnavailable(f"{at}: the server knows no user {found[1]!r}; give another one")
    if _UNKNOWN_HOST.search(said):
        return TargetUnavailable(f"{at}: no host is called {address.host!r}; check the name")
    if _NOT_LET_IN.search(said):
        if _WITHOUT_TLS.search(said) and not _WITH_TLS.search(said):
            return TargetUnavailable(f"{at}: the server wants TLS; add ?sslmode=require to the URL")
        return TargetUnavailable(
            f"{at}: the server's rules (pg_hba.conf) do not let {address.user} in from here"
        )
    if _NO_TLS.search(said):
        return TargetUnavailable(f"{at}: the server has no TLS; add ?sslmode=disable to the URL")
    if _CERTIFICATE.search(said):
        return TargetUnavailable(f"{at}: the server's certificate is not accepted: {_first(said)}")
    if _STARTING.search(said):
        return TargetUnavailable(f"{at}: {_first(said)}; try again in a moment")
    if _TOO_MANY.search(said):
        return TargetUnavailable(f"{at}: the server has no connection left; close another one")
    if _TIMED_OUT.search(said):
        return TargetUnavailable(f"{at}: {host} does not answer; is it reachable from here?")
    if _NOTHING_THERE.search(said):
        where = f"the socket in {host}" if host.startswith("/") else f"port {port} of {host}"
        return TargetUnavailable(f"{at}: nothing listens on {where}; is the server running?")
    return TargetUnavailable(f"{at}: {_first(said)}")


def _first(said: str) -> str:
    """The first line of what was said, without where it was tried."""
    line = said.strip().splitlines()[0] if said.strip() else "it cannot be reached"
    return line.rpartition("FATAL:")[2].strip() or line
