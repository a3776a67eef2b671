"""Where the demo keeps its database."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from jondel.core.files.home import jondel_home


def demo_server_folder() -> Path:
    """Where the demo's server keeps its data. A socket's path must be short, and the server's user
    may be another one, who may not enter our home."""
    home = hashlib.sha256(str(jondel_home()).encode()).hexdigest()[:8]
    return Path("/tmp") / f"jondel-demo-{os.getuid()}-{home}"


def demo_server_project() -> Path:
    """The folder that is the project of the demo's database on a server."""
    return jondel_home() / "demo-server"


def demo_database() -> Path:
    """The path of the demo's database, whether it is there yet or not."""
    return jondel_home() / "demo" / "saltmarsh.db"
