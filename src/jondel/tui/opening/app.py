"""The application that lets one choose a database, and ends with the choice."""

from __future__ import annotations

import asyncio
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from jondel.core.browse.display import line
from jondel.core.engines.registry import create_database, databases_beside, is_on_server
from jondel.core.engines.server_addresses import with_name
from jondel.core.errors import JondelError
from jondel.tui.dialogs.entries import FileDialog
from jondel.tui.frame.dialog import foot
from jondel.tui.opening.connection_dialog import ConnectionDialog
from jondel.tui.opening.listing import Choice, Group, groups
from jondel.tui.theme import ThemedApp


class OpeningApp(ThemedApp[str | None]):
    """Lists what can be opened; returns the target that was chosen, None where none was."""

    TITLE = "Jondel"
    CSS_PATH = "opening.tcss"
    ENABLE_COMMAND_PALETTE = False
    BINDINGS = [
        Binding("c", "connect", "connect"),
        Binding("d", "databases", "databases of this server"),
        Binding("N", "create", "new SQLite file"),
        Binding("r", "look_again", "look again"),
        Binding("T", "light", "dark or light"),
        Binding("escape,q,ctrl+q", "leave", "leave", priority=False),
    ]

    def __init__(self, folder: Path, problem: str = "") -> None:
        """``problem``: why what was chosen before could not be opened."""
        super().__init__()
        self._folder = folder
        self._problem = problem
        self._choices: list[Choice | None] = []

    def compose(self) -> ComposeResult:
        with Vertical(id="opening"):
            title = f" Jondel  open a database · {line(self._folder.name, 100)}"
            yield Static(title, id="masthead", markup=False)
            yield OptionList(id="choices", markup=False)
            yield Static("", id="places", markup=False)
            yield Static(self._problem, id="message", markup=False)
            yield foot(
                "Enter opens · c connects to a server · d databases of the same server · "
                "N new SQLite file · r looks again · Escape leaves"
            )

    def on_mount(self) -> None:
        self.query_one("#choices", OptionList).focus()
        self.run_worker(self._look(), exclusive=True)

    async def _look(self) -> None:
        self._say(self._problem or "looking …")
        found = await asyncio.to_thread(groups, self._folder)
        self._show(found)
        self._say(self._problem)
        self._problem = ""

    def _show(self, found: list[Group]) -> None:
        options = self.query_one("#choices", OptionList)
        options.clear_options()
        titles = [len(choice.shown) for group in found for choice in group.choices]
        title_cells = min(max(titles, default=0), self.size.width // 2)
        self._choices = []
        for group in found:
            if group.choices:
                options.add_option(Option(Text(group.title, style="bold"), disabled=True))
                self._choices.append(None)
            for choice in group.choices:
                shown = f"  {line(choice.shown, 90):<{title_cells}}  "
                text = Text(shown, no_wrap=True, overflow="ellipsis")
                text.append(line(choice.facts, 160))
                options.add_option(Option(text))
                self._choices.append(choice)
        if not any(self._choices):
            self._problem = self._problem or (
                "no database is found here: c connects to a server, N makes a SQLite file"
            )
        first = next((n for n, choice in enumerate(self._choices) if choice is not None), None)
        options.highlighted = first

    @property
    def _current(self) -> Choice | None:
        at = self.query_one("#choices", OptionList).highlighted
        return self._choices[at] if at is not None and at < len(self._choices) else None

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        choice = self._current
        places = "  ".join((choice.facts, *choice.places)) if choice is not None else ""
        self.query_one("#places", Static).update(f" {line(places, 300)}")

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        choice = self._choices[event.option_index]
        if choice is not None:
            self.exit(choice.target)

    def action_connect(self) -> None:
        """Write a connection."""
        choice = self._current
        url = choice.target if choice is not None and is_on_server(choice.target) else ""
        dialog = ConnectionDialog(url) if url else ConnectionDialog()
        self.push_screen(dialog, lambda told: self.exit(told.target) if told is not None else None)

    def action_databases(self) -> None:
        """List the databases of the chosen one's server."""
        self.run_worker(self._list_databases(), exclusive=True)

    async def _list_databases(self) -> None:
        choice = self._current
        if choice is None or not is_on_server(choice.target):
            self._say("this is a file; only servers have several databases")
            return
        try:
            names = await asyncio.to_thread(databases_beside, choice.target)
        except JondelError as error:
            self._say(str(error))
            return
        beside = tuple(
            Choice(with_name(choice.target, name), name, "", (choice.shown,)) for name in names
        )
        self._show([Group(f"databases of {line(choice.shown, 80)}", beside)])
        self._say("r lists everything again")

    def action_create(self) -> None:
        """Make a SQLite file, and open it."""
        self.push_screen(FileDialog("A new SQLite database"), self._make)

    def _make(self, path: str | None) -> None:
        if path is None:
            return
        try:
            create_database(path)
        except JondelError as error:
            self._say(str(error))
        else:
            self.exit(path)

    def action_look_again(self) -> None:
        """Look through the project once more."""
        self.run_worker(self._look(), exclusive=True)

    def action_light(self) -> None:
        """Dark or light."""
        self.change_light()

    def action_leave(self) -> None:
        """End without a choice."""
        self.exit(None)

    def _say(self, words: str) -> None:
        self.query_one("#message", Static).update(f" {line(words, 400)}" if words else "")
