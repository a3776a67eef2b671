"""Small files of JSON in Jondel's home, one for each database and purpose."""

from __future__ import annotations

import os
import zlib
from contextlib import suppress
from typing import Any

from jondel.core.errors import StoreUnavailable
from jondel.core.keeping.home import jondel_home, private_folder


class SmallFile:
    """A JSON object kept for the database at a location, readable by the user alone."""

    def __init__(self, purpose: str, location: str) -> None:
        self._location = location
        raw = location.encode("utf-8", "surrogateescape")
        # Two databases whose names would be alike are told apart by what the file says.
        self.path = jondel_home() / purpose / f"{zlib.crc32(raw):08x}{zlib.adler32(raw):08x}.json"

    def read(self) -> dict[str, Any]:
        """What was kept; nothing where there is none, or where it cannot be understood."""
        try:
            text = self.path.read_text("utf-8")
        except (OSError, ValueError):
            return {}
        import json  # nothing is kept of most databases, and start-up is felt

        try:
            found = json.loads(text)
        except (ValueError, RecursionError):
            return {}
        if not isinstance(found, dict) or found.get("location") != _plain(self._location):
            return {}
        content = found.get("content")
        return content if isinstance(content, dict) else {}

    def write(self, content: dict[str, Any]) -> None:
        """Keep something in place of what was kept; a crash leaves the one or the other whole.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        if not content:
            with suppress(OSError):
                self.path.unlink()
            return
        import json

        private_folder(self.path.parent)
        unfinished = self.path.with_suffix(f".{os.getpid()}.unfinished")
        try:
            descriptor = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
            with os.fdopen(descriptor, "w", encoding="utf-8") as file:
                json.dump({"location": _plain(self._location), "content": content}, file)
                file.flush()
                os.fsync(file.fileno())
            unfinished.replace(self.path)
        except OSError as error:
            with suppress(OSError):
                unfinished.unlink()
            reason = error.strerror or str(error)
            raise StoreUnavailable(f"{self.path}: cannot be written ({reason})") from error


def _plain(location: str) -> str:
    """A path as JSON can hold it, also where it is no valid text."""
    return location.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
