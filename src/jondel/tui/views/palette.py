"""Doing something by its name."""

from __future__ import annotations

from textual.command import CommandPalette


class Palette(CommandPalette):
    """The toolkit's list of commands, in the manner of the panels."""

    CSS_PATH = "palette.tcss"
