"""Where a person wants to go on when the interface on one database ends."""

from __future__ import annotations

from typing import Literal, TypeAlias

Wish: TypeAlias = Literal["list", "other"]
"""To the list of databases, or to the other one that is open."""
