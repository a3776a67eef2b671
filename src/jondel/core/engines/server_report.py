"""What trying a connection out tells."""

from __future__ import annotations

from typing import NamedTuple


class ServerReport(NamedTuple):
    """A server that answered. ``round_trip`` is in seconds."""

    location: str
    server: str
    encoding: str
    time_zone: str
    round_trip: float
    user: str
    rights: str
    """What the user may do, in words."""
    tables: int
    size: int
    """Bytes that the database takes on the server."""
    databases: tuple[str, ...]
    """Those of the same server."""
