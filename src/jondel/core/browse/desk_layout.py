"""How a person wants the room of the screen shared out, for all databases of a project."""

from __future__ import annotations

from pathlib import Path
from typing import Any, NamedTuple

from jondel.core.files.small_files import SmallFile


class DeskLayout(NamedTuple):
    """The widths of the panes beside the views, in cells; None for as wide as suits, 0 for away."""

    tables: int | None = None
    card: int | None = None
    empty_folded: bool = False
    """Whether tables without rows are one line in the list."""

    def as_plain(self) -> dict[str, Any]:
        return {name: value for name, value in self._asdict().items() if value not in (None, False)}

    @classmethod
    def from_plain(cls, plain: dict[str, Any]) -> DeskLayout:
        """What is not understood is left out: it may be from another version."""
        widths = {
            name: value
            for name in ("tables", "card")
            if isinstance(value := plain.get(name), int) and not isinstance(value, bool)
        }
        kept = {name: value for name, value in widths.items() if value >= 0}
        return cls(**kept, empty_folded=plain.get("empty_folded") is True)


class DeskLayoutFile:
    """Where the layout of a project is kept."""

    def __init__(self, project: Path) -> None:
        self._file = SmallFile("layouts", str(project))

    def read(self) -> DeskLayout:
        return DeskLayout.from_plain(self._file.read())

    def write(self, layout: DeskLayout) -> None:
        """Keep a layout.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        self._file.write(layout.as_plain())
