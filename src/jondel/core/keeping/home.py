"""The folder in which Jondel keeps everything of its own."""

from __future__ import annotations

import os
from pathlib import Path

from jondel.core.errors import StoreUnavailable

VARIABLE = "JONDEL_HOME"


def jondel_home() -> Path:
    """``JONDEL_HOME``, else the platform's folder for user data."""
    given = os.environ.get(VARIABLE)
    if given:
        return Path(given).expanduser().absolute()
    from platformdirs import user_data_path  # slow to import and seldom needed

    return user_data_path("jondel", appauthor=False)


def private_folder(path: Path) -> Path:
    """Make a folder that only the user may enter, and return it.

    Raises:
        StoreUnavailable: it cannot be made or written to.
    """
    try:
        # Not ``parents=True``: that gives the mode to the last folder only.
        for folder in (*reversed(path.parents), path):
            if not folder.exists():
                folder.mkdir(mode=0o700, exist_ok=True)
        path.mkdir(mode=0o700, exist_ok=True)
    except OSError as error:
        reason = error.strerror or str(error)
        raise StoreUnavailable(
            f"{path}: this folder is needed for snapshots and cannot be made ({reason}); "
            f"set {VARIABLE} to a folder you may write to"
        ) from error
    if not os.access(path, os.W_OK | os.X_OK):
        raise StoreUnavailable(
            f"{path}: snapshots cannot be kept in this folder, it is not writable; "
            f"set {VARIABLE} to a folder you may write to"
        )
    return path
