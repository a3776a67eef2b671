"""Passwords of servers: kept by the system, or told for as long as this process lasts.

What a server's own library finds by itself (its variables, its password file) comes first and does
not come here. Nothing is ever written by us.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from jondel.core.engines.server_addresses import ServerAddress

SERVICE = "jondel"
"""The name under which the system's keyring keeps our passwords, one for each location."""
_told: dict[str, str] = {}


def tell_password(location: str, password: str) -> None:
    """Know the password of a database from now on."""
    _told[location] = password


def known_password(address: ServerAddress) -> str | None:
    """The password of a database; None where nobody has told it."""
    if address.location in _told:
        return _told[address.location]
    return None if address.has_password else _from_keyring(address.location)


def _from_keyring(location: str) -> str | None:
    try:
        import keyring  # an extra; slow to load
    except ImportError:
        return None
    try:
        kept: str | None = keyring.get_password(SERVICE, location)
    except Exception:
        return None  # there is no keyring here, or it stays locked
    return kept
