"""The folder in which Jondel keeps everything of its own."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from jondel.core.errors import StoreUnavailable

VARIABLE = "JONDEL_HOME"


def usable_home() -> Path:
    """The same as ``jondel_home``, where it can be a folder.

    Raises:
        StoreUnavailable: it cannot.
    """
    return _usable(jondel_home()) if os.environ.get(VARIABLE) else jondel_home()


def jondel_home() -> Path:
    """``JONDEL_HOME``, else the platform's folder for user data."""
    given = os.environ.get(VARIABLE)
    if given:
        return Path(given).expanduser().absolute()
    from platformdirs import user_data_path  # slow to import and seldom needed

    return user_data_path("jondel", appauthor=False)


def _usable(path: Path) -> Path:
    try:
        info = path.stat()
    except FileNotFoundError:
        return path
    except (OSError, ValueError) as error:
        raise StoreUnavailable(
            f"{VARIABLE} names {path}, which cannot be used ({_reason(error)}); "
            "set it to a folder you may write to"
        ) from error
    if not stat.S_ISDIR(info.st_mode):
        raise StoreUnavailable(
            f"{VARIABLE} names {path}, which is not a folder; set it to one you may write to"
        )
    return path


def _reason(error: Exception) -> str:
    return getattr(error, "strerror", None) or str(error)


def as_text(location: str) -> str:
    """A path in a spelling that is valid text, also where it is none itself."""
    return location.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


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
