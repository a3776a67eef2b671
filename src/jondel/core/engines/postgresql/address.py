"""Which database of which server a URL means, and opening it. Needs no driver for the former."""

from __future__ import annotations

import re
from importlib.util import find_spec
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, quote, urlencode

from jondel.core.engines.server_addresses import ServerAddress, from_environment, parsed
from jondel.core.errors import TargetUnavailable

if TYPE_CHECKING:
    from jondel.core.engines.protocol import Database

_SCHEME = "postgresql"
_USUAL_PORT = 5432
_VARIABLES = {"user": "PGUSER", "host": "PGHOST", "port": "PGPORT", "name": "PGDATABASE"}
_DRIVER = re.compile(r"postgres(ql)?(\+\w+)?://", re.IGNORECASE)


def address_of(url: str) -> ServerAddress:
    """The address that a URL means, with what the server's own variables say for what it leaves
    out. Raises ``TargetUnavailable``."""
    return parsed(url, _SCHEME, from_environment(_VARIABLES), _USUAL_PORT)


def open_at(url: str) -> Database:
    """Open the database at a URL. Raises ``TargetError``."""
    address = address_of(url)
    require_driver(url)
    from jondel.core.engines.postgresql.database import open_server  # needs the driver

    return open_server(for_driver(url), address.location, address.name)


def require_driver(url: str) -> None:
    """Raise ``TargetUnavailable`` where the driver is missing."""
    if find_spec("psycopg") is None:
        raise TargetUnavailable(
            f"{address_of(url).location}: the driver for PostgreSQL is missing; "
            "install it with: pip install 'jondel[postgresql]'"
        )


def for_driver(url: str) -> str:
    """The URL as the driver takes it: frameworks have options of their own there."""
    from psycopg.pq import Conninfo  # needs the driver

    base, _, query = _DRIVER.sub(f"{_SCHEME}://", url).partition("?")
    known = {option.keyword.decode() for option in Conninfo.get_defaults()}
    kept = [(name, value) for name, value in parse_qsl(query) if name in known]
    return f"{base}?{urlencode(kept, quote_via=quote)}" if kept else base
