"""The application: its themes, and which keys reach what, when."""

from __future__ import annotations

import asyncio
import gc
from collections.abc import Iterable, Sequence
from contextlib import suppress
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING

from textual import events
from textual.app import App, SystemCommand
from textual.screen import Screen
from textual.worker import WorkerFailed

from jondel.core.engines.registry import location_of
from jondel.core.errors import JondelError
from jondel.tui.frame.screen import MainScreen
from jondel.tui.frame.typed_ahead import TypedAhead
from jondel.tui.frame.view_set import ViewEntry
from jondel.tui.open_databases import OpenDatabases
from jondel.tui.services.early_look import EarlyLook
from jondel.tui.services.workspace import Workspace
from jondel.tui.theme import ThemedApp
from jondel.tui.views.table import VIEWS

if TYPE_CHECKING:
    from textual.command import Provider

    from jondel.core.verify.actions import Action
    from jondel.tui.opening.screen import OpeningScreen

_LIST_CSS = "opening/screen.tcss"


def _table_commands() -> type[Provider]:
    from jondel.tui.frame.palette import TableCommands

    return TableCommands


class JondelApp(ThemedApp[None]):
    """The full-screen interface on one database, or several."""

    TITLE = "Jondel"
    CSS_PATH = "jondel.tcss"

    COMMANDS = App.COMMANDS | {_table_commands}

    def __init__(
        self,
        target: str | None,
        actions: Sequence[Action] = (),
        early: EarlyLook | None = None,
        *,
        read_only: bool = False,
        views: Sequence[ViewEntry] = VIEWS,
    ) -> None:
        """``target`` None: one is chosen first. ``read_only``: nothing can be edited, nor written
        in any other way."""
        # The first screen's own style sheet would not be read.
        super().__init__(css_path=None if target is not None else [self.CSS_PATH, _LIST_CSS])
        self._read_only = read_only
        self._views = views
        self._numbers = count(1)
        self._open = OpenDatabases()
        if target is not None:
            self._add(Workspace(target, actions, early, read_only=read_only))

    @property
    def failure(self) -> Exception | None:
        """The unexpected error that ended the interface, if one did."""
        error = self._exception
        if isinstance(error, WorkerFailed) and isinstance(error.error, Exception):
            return error.error
        return error

    def _fatal_error(self) -> None:
        # The base class prints a traceback here; whoever ran the interface reports the failure.
        self._close_messages_no_wait()

    def get_default_screen(self) -> Screen[None]:
        # Not pushed over an empty screen, which would be laid out and painted first.
        first = self._open.current or self._list_of_databases()
        # As the toolkit does for all others; without, it cannot be switched from.
        first._push_result_callback(first, None)
        return first

    # The databases that are open

    @property
    def open_databases(self) -> Sequence[MainScreen]:
        """In the order in which they were opened."""
        return self._open.screens

    @property
    def workspace(self) -> Workspace:
        """Of the database that is in front."""
        assert self._open.current is not None, "one is open"
        return self._open.current.workspace

    def _add(self, workspace: Workspace) -> MainScreen:
        typed: TypedAhead
        typed = TypedAhead(
            lambda: not main.is_ready or main.desk.navigator.journey is not None,
            lambda key, others_wait: main.key_passes(key, others_wait),
            self._take_effect,
            lambda: self.call_next(typed.drain),
        )
        main = MainScreen(workspace, typed, self._views)
        self.install_screen(main, f"database {next(self._numbers)}")  # it goes on in the background
        self._open.add(main)
        return main

    async def show_other_database(self) -> None:
        """Bring the next of the open databases to the front, unless a dialog has been opened."""
        following = self._open.following
        if following is not None and self.screen is self._open.current:
            await self._bring_forward(following)

    def show_databases(self) -> None:
        """Open the list of databases over what is in front."""
        if isinstance(self.screen, MainScreen):
            self._open.show_behind()
            self.push_screen(self._list_of_databases())

    async def close_database(self) -> None:
        """Close the database that is in front, and go to another one, or to the list; not where a
        dialog has been opened."""
        closed, following = self._open.current, self._open.following
        if closed is None or self.screen is not closed:
            return
        words = f"{closed.desk.shown_name} is closed"
        if closed.desk.situation().draft_size:
            words += "; what was not written is kept in its draft"
        self._open.remove(closed)
        if following is not None:
            await self._bring_forward(following)
            following.desk.say(words)
        else:
            await self.switch_screen(self._list_of_databases(words))
        self.uninstall_screen(closed)
        await closed.remove()
        await asyncio.to_thread(_end, closed.workspace)

    async def _bring_forward(self, main: MainScreen) -> None:
        self._open.bring_forward(main)
        if self.screen is not main:
            await self.switch_screen(main)

    def _list_of_databases(self, words: str = "") -> OpeningScreen:
        from jondel.tui.opening.screen import OpeningScreen

        return OpeningScreen(Path.cwd(), self._open.choices(), words)

    async def open_database(self, target: str, early: EarlyLook | None) -> None:
        """Bring a database to the front, which is open already for an ``early`` of None."""
        location = location_of(target)
        main = next((m for m in self._open.screens if m.workspace.location == location), None)
        if main is None:
            main = self._add(Workspace(target, (), early, read_only=self._read_only))
        elif early is not None:
            await asyncio.to_thread(early.let_go)
        await self._bring_forward(main)

    async def on_opening_screen_opened(self, event: OpeningScreen.Opened) -> None:
        """Bring the chosen database to the front."""
        if await self._leave_list():
            await self.open_database(event.target, event.early)
        elif event.early is not None:  # chosen twice in one breath
            await asyncio.to_thread(event.early.let_go)

    async def on_opening_screen_left(self) -> None:
        """Go back to the database that one came from; leave where there is none."""
        if self._open.current is None:
            await self.action_quit()
        elif await self._leave_list():
            self._open.bring_forward(self._open.current)

    async def _leave_list(self) -> bool:
        """Take away the list, where it is over a database, and what is open over the list; False
        where it was left already."""
        from jondel.tui.opening.screen import OpeningScreen

        if not any(isinstance(screen, OpeningScreen) for screen in self.screen_stack):
            return False
        while len(self.screen_stack) > 1 and not isinstance(self.screen, MainScreen):
            await self.pop_screen()
        return True

    # Keys wait while what they are meant for is on its way

    @property
    def _typed(self) -> TypedAhead | None:
        main = self._open.current
        return main.desk.typed if main is not None else None

    async def on_event(self, event: events.Event) -> None:
        if not isinstance(event, events.Key):
            await super().on_event(event)
        elif not self.screen_stack:
            event.stop()  # the interface is closing
        elif event.is_forwarded:
            await super().on_event(event)
        elif self._typed is None or not self._typed.takes(event):
            await self._take_effect(event)

    async def _take_effect(self, key: events.Key) -> None:
        if self.screen_stack:
            await super().on_event(key)
            if self._typed is not None:
                self._typed.follow(key, self)

    async def _on_key(self, event: events.Key) -> None:
        # A key that no widget took comes back here, and may have been overtaken by a journey.
        if self._typed is not None and self._typed.takes_back(event):
            event.prevent_default()

    # The life of the application

    def on_unmount(self) -> None:
        for main in self._open.screens:
            _end(main.workspace)

    def on_ready(self) -> None:
        gc.freeze()
        gc.enable()

    def action_command_palette(self) -> None:
        from jondel.tui.frame.palette import Palette

        if isinstance(self.screen, MainScreen) and not Palette.is_open(self):  # type: ignore[arg-type]
            self.push_screen(Palette(id="--command-palette"))

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Everything that has a key can be called by name too."""
        if isinstance(screen, MainScreen):
            yield from screen.palette_commands()


def _end(workspace: Workspace) -> None:
    """Let go of a database, and keep how it was left."""
    with suppress(JondelError):  # how sheets were left is no reason to fail
        workspace.sheets.save()
    workspace.keep_last_table()
    workspace.close()
