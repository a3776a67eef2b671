"""A database as an app's configuration names it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple
from urllib.parse import parse_qsl, quote, urlencode

URL = re.compile(
    r"(?:jdbc:)?(postgres(?:ql)?|mysql|mariadb|sqlite3?|duckdb|h2|hsqldb|mongodb)(\+[\w.]+)?:\S+",
    re.IGNORECASE,
)
_ENGINES = {
    "postgres": "postgresql", "postgresql": "postgresql", "postgis": "postgresql",
    "psql": "postgresql", "pgsql": "postgresql", "mysql": "mysql", "mysql2": "mysql",
    "mariadb": "mysql", "sqlite": "sqlite", "sqlite3": "sqlite", "duckdb": "duckdb", "h2": "h2",
    "hsqldb": "hsqldb", "mongodb": "mongodb",
}  # fmt: skip
_PORTS = {"postgresql": "5432", "mysql": "3306"}


class Setting(NamedTuple):
    """A database that a configuration names: its URL, which may hold a password, and by which key.

    ``place`` is the key, as people write it.
    """

    url: str
    place: str


def engine_of(word: str) -> str:
    """Our name of an engine that is called so, also with a driver or as a module; else nothing."""
    plain = word.rpartition(".")[2].partition("+")[0].lower()
    return _ENGINES.get(plain, "")


def from_url(text: str) -> str:
    """The URL in a text as we take it; empty where it is none."""
    text = text.strip().strip("'\"")
    if not URL.fullmatch(text):
        return ""
    scheme, _, rest = re.sub("^jdbc:", "", text, flags=re.IGNORECASE).partition(":")
    engine = engine_of(scheme)
    if engine == "sqlite" and not rest.startswith("//"):
        return f"sqlite:///{rest}"
    return f"{engine}:{rest}"


def from_parts(engine: str, parts: Mapping[str, str | None]) -> str:
    """A URL of parts: ``host``, ``port``, ``user``, ``password``, ``name``; empty for no engine.

    Of a file there is the ``name`` alone.
    """
    engine = engine_of(engine)
    name = parts.get("name") or ""
    if not engine or not name:
        return ""
    if engine in ("sqlite", "duckdb"):
        return f"{engine}:///{name}"
    user, password = parts.get("user") or "", parts.get("password") or ""
    account = _account(user, password)
    host, port = parts.get("host") or "", parts.get("port") or ""
    at = f"{account}@" if account else ""
    if host.startswith("/"):
        return f"{engine}://{at}/{quote(name, safe='')}?host={quote(host, safe='/')}"
    port = f":{port}" if port and port != _PORTS.get(engine) else ""
    return f"{engine}://{at}{host}{port}/{quote(name, safe='')}"


def _account(user: str, password: str) -> str:
    return quote(user, safe="") + (f":{quote(password, safe='')}" if password else "")


def with_account(url: str, user: str, password: str) -> str:
    """A URL with the account that is given apart from it, or in its options."""
    base, _, query = url.partition("?")
    options = dict(parse_qsl(query))
    user, password = user or options.pop("user", ""), password or options.pop("password", "")
    scheme, separator, rest = base.partition("://")
    if separator and user and "@" not in rest.partition("/")[0]:
        base = f"{scheme}://{_account(user, password)}@{rest}"
    return f"{base}?{urlencode(options)}" if options else base
