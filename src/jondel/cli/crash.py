"""What happens when Jondel itself fails: one line for the person, the details in a log."""

from __future__ import annotations

import os
import traceback
from datetime import UTC, datetime
from pathlib import Path

from jondel import __version__
from jondel.cli.output import visible_lines
from jondel.core.errors import JondelError
from jondel.core.files.home import jondel_home


def describe(error: BaseException) -> str:
    """Log an unexpected error and return the line to show for it."""
    words = f"Jondel failed: {type(error).__name__}: {error}"
    try:
        path = _logged(error)
    except (OSError, JondelError):
        return f"{words}; please report this"
    return f"{words}; please report this with what is in {path}"


def _logged(error: BaseException) -> Path:
    folder = jondel_home()
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    path = folder / "crash.log"
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    with os.fdopen(descriptor, "a", encoding="utf-8", errors="backslashreplace") as file:
        file.write(f"--- Jondel {__version__}, {datetime.now(UTC).isoformat()}\n")
        file.write(visible_lines("".join(traceback.format_exception(error))))
    return path
