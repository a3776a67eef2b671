"""Small files of JSON in Jondel's home, one for each database and purpose."""

from __future__ import annotations

import zlib
from contextlib import suppress
from typing import Any

from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import as_text, jondel_home, private_folder
from jondel.core.files.replacement import replace_text, sweep_abandoned


def move_small_files(old: str, new: str) -> None:
    """Have what is kept for a database at one location be kept for another one, too."""
    home = jondel_home()
    for folder in home.iterdir() if home.is_dir() else ():
        for was in SmallFile.all_of(folder.name, old):
            now = SmallFile(folder.name, new, was.number)
            content = was.read()
            if content and not now.exists:
                with suppress(StoreUnavailable):  # of less consequence than the trail
                    now.write(content)
                    was.write({})


class SmallFile:
    """A JSON object kept for the database at a location, readable by the user alone."""

    def __init__(self, purpose: str, location: str, number: int = 1) -> None:
        """``number``: which one, where there may be several."""
        self._location = location
        raw = location.encode("utf-8", "surrogateescape")
        # Two databases whose names would be alike are told apart by what the file says.
        name = f"{zlib.crc32(raw):08x}{zlib.adler32(raw):08x}"
        self.number = number
        self.path = jondel_home() / purpose / f"{name}{'' if number == 1 else f'-{number}'}.json"

    @classmethod
    def all_of(cls, purpose: str, location: str) -> list[SmallFile]:
        """Those that are kept for a location, by their numbers."""
        first = cls(purpose, location).path
        numbers = []
        with suppress(OSError):
            for path in first.parent.glob(f"{first.stem}*.json"):
                number = path.stem.removeprefix(first.stem).removeprefix("-") or "1"
                numbers += [int(number)] if number.isdecimal() else []
        return [cls(purpose, location, number) for number in sorted(numbers)]

    @property
    def exists(self) -> bool:
        """Whether something is kept."""
        try:
            return self.path.exists()
        except OSError:
            return False

    def read(self) -> dict[str, Any]:
        """What was kept; nothing where there is none, or where it cannot be understood."""
        try:
            text = self.path.read_text("utf-8")
        except (OSError, ValueError):
            return {}
        import json  # nothing is kept of most databases, and start-up is felt

        try:
            kept = json.loads(text)
        except (ValueError, RecursionError):
            return {}
        if not isinstance(kept, dict) or kept.get("location") != as_text(self._location):
            return {}
        content = kept.get("content")
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
        sweep_abandoned(self.path.parent)
        text = json.dumps({"location": as_text(self._location), "content": content})
        try:
            replace_text(self.path, text, durable=True)
        except OSError as error:
            reason = error.strerror or str(error)
            raise StoreUnavailable(f"{self.path}: cannot be written ({reason})") from error
