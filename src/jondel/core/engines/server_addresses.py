"""Where a database on a server is: its URL, its URL without secrets, and what a person calls it."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from typing import NamedTuple
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit, urlunsplit

from jondel.core.errors import TargetUnavailable

_SECRET = re.compile(r"pass|secret|token|key", re.IGNORECASE)


class ServerAddress(NamedTuple):
    """The parts of a URL that say which database is meant. An empty host is the local socket's."""

    scheme: str
    user: str
    host: str
    port: int | None
    name: str
    has_password: bool = False
    """Whether the URL holds one; it is not kept here."""

    @property
    def location(self) -> str:
        """The URL without secrets and options: one location, one trail."""
        user = f"{quote(self.user, safe='')}@" if self.user else ""
        host = self.host if ":" not in self.host else f"[{self.host}]"
        port = f":{self.port}" if self.port is not None else ""
        return f"{self.scheme}://{user}{quote(host, safe='[]:')}{port}/{quote(self.name, safe='')}"

    @property
    def is_local(self) -> bool:
        """Whether the server runs on this machine."""
        return self.host in ("", "localhost", "::1") or self.host.startswith(("/", "@", "127."))


def without_secrets(url: str) -> str:
    """A URL as it may be shown, whatever is wrong with it."""
    head, _, query = url.partition("?")
    scheme, separator, rest = head.partition("://")
    place, slash, path = rest.partition("/")
    user, at, host = place.rpartition("@")
    shown = f"{scheme}{separator}{user.partition(':')[0]}{at}{host}{slash}{path}"
    kept = [(n, v) for n, v in parse_qsl(query, keep_blank_values=True) if not _SECRET.search(n)]
    return f"{shown}?{urlencode(kept)}" if kept else shown


def parsed(url: str, scheme: str, defaults: Mapping[str, str], usual_port: int) -> ServerAddress:
    """The address that a URL means; ``defaults`` are by ``user``, ``host``, ``port``, ``name``.

    ``scheme`` is what the address has, however the URL spells it.

    Raises:
        TargetUnavailable: it is no such URL.
    """
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError as error:
        raise TargetUnavailable(
            f"{without_secrets(url)}: this URL cannot be read ({error}); "
            f"write it as {scheme}://user@host:port/name"
        ) from None
    options = dict(parse_qsl(parts.query))
    host = unquote(parts.hostname or "") or options.get("host", "") or defaults.get("host", "")
    given_port = port or _number(options.get("port") or defaults.get("port") or "")
    user = unquote(parts.username or "") or options.get("user", "") or defaults.get("user", "")
    name = unquote(parts.path.lstrip("/")) or options.get("dbname", "") or defaults.get("name", "")
    if not user:
        import getpass  # seldom needed

        user = getpass.getuser()
    return ServerAddress(
        scheme,
        user,
        host,
        None if given_port == usual_port else given_port,
        name or user,
        parts.password is not None,
    )


def with_name(url: str, name: str) -> str:
    """The URL of another database of the same server, for the same user."""
    parts = urlsplit(url)
    return urlunsplit(parts._replace(path=f"/{quote(name, safe='')}"))


def _number(text: str) -> int | None:
    return int(text) if text.isdecimal() else None


def from_environment(names: Mapping[str, str]) -> dict[str, str]:
    """Those of some variables that are set, by other names."""
    return {ours: os.environ[theirs] for ours, theirs in names.items() if os.environ.get(theirs)}
