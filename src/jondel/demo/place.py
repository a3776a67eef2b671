"""Where the demo keeps its database."""

from __future__ import annotations

from pathlib import Path

from jondel.core.files.home import jondel_home


def demo_database() -> Path:
    """The path of the demo's database, whether it is there yet or not."""
    return jondel_home() / "demo" / "saltmarsh.db"
