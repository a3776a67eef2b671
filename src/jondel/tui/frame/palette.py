"""Doing something, or going to a table, by its name."""

from __future__ import annotations

from functools import partial

from textual.command import CommandPalette, Hit, Hits, Provider
from textual.content import Content

from jondel.core.browse.display import safe_name
from jondel.tui.frame.screen import MainScreen


class Palette(CommandPalette):
    """The toolkit's list of commands, in the manner of the dialogs."""

    CSS_PATH = "palette.tcss"


class TableCommands(Provider):
    """Each table can be gone to by its name."""

    async def search(self, query: str) -> Hits:
        """The tables whose names fit."""
        if not isinstance(self.screen, MainScreen):
            return
        matcher = self.matcher(query)
        for table in self.screen.desk.state.tables:
            name = safe_name(table.id)
            score = matcher.match(name)
            if score > 0:
                # As content: a name is never markup.
                go = partial(self.screen.go_to_table, table.id)
                yield Hit(score, Content(name), go, text=name, help=f"to the {table.kind}")
