"""Files for what is copied and the terminal's clipboard cannot take."""

from __future__ import annotations

import re
from datetime import datetime
from pathlib import Path

from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import jondel_home, private_folder
from jondel.core.files.replacement import replacing


def write_copy(name: str, ending: str, text: str) -> Path:
    """Write a text to a new file in Jondel's folder, and return that.

    Raises:
        StoreUnavailable: it cannot be written.
    """
    folder = jondel_home() / "copies"
    plain = re.sub(r"\W+", "-", name).strip("-")[:60] or "copy"
    start = f"{plain}-{datetime.now().astimezone():%Y%m%d-%H%M%S}"
    try:
        private_folder(folder)
        path = folder / f"{start}.{ending}"
        number = 2
        while path.exists():
            path, number = folder / f"{start}-{number}.{ending}", number + 1
        with replacing(path, mode=0o600) as file:
            file.write(text.encode("utf-8", "surrogateescape"))
    except OSError as error:
        raise StoreUnavailable(f"{folder}: cannot be written ({error.strerror})") from error
    return path
