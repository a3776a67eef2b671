"""The application: its themes, and which keys reach what, when."""

from __future__ import annotations

import gc
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from textual import events
from textual.app import App, SystemCommand
from textual.screen import Screen
from textual.worker import WorkerFailed

from jondel.core.errors import JondelError
from jondel.tui.frame.leaving import Wish
from jondel.tui.frame.screen import MainScreen
from jondel.tui.frame.typed_ahead import TypedAhead
from jondel.tui.frame.view_set import ViewEntry
from jondel.tui.services.early_look import EarlyLook
from jondel.tui.services.workspace import Workspace
from jondel.tui.theme import ThemedApp
from jondel.tui.views.table import VIEWS

if TYPE_CHECKING:
    from textual.command import Provider

    from jondel.core.verify.actions import Action


def _table_commands() -> type[Provider]:
    from jondel.tui.frame.palette import TableCommands

    return TableCommands


class JondelApp(ThemedApp[None]):
    """The full-screen interface on one database."""

    TITLE = "Jondel"
    CSS_PATH = "jondel.tcss"

    COMMANDS = App.COMMANDS | {_table_commands}

    def __init__(
        self,
        target: str,
        actions: Sequence[Action] = (),
        early: EarlyLook | None = None,
        *,
        read_only: bool = False,
        views: Sequence[ViewEntry] = VIEWS,
    ) -> None:
        """``read_only``: nothing can be edited, nor written in any other way."""
        super().__init__()
        self.workspace = Workspace(target, actions, early, read_only=read_only)
        self.wish: Wish | None = None
        """Where a person wanted to go when this ended; None for nowhere."""
        self._views = views
        self._main: MainScreen | None = None
        self._typed = TypedAhead(
            self._is_on_the_way,
            self._key_passes,
            self._take_effect,
            lambda: self.call_next(self._typed.drain),
        )

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
        self._main = MainScreen(self.workspace, self._typed, self._views)
        return self._main

    # Keys wait while what they are meant for is on its way

    def _is_on_the_way(self) -> bool:
        main = self._main
        return main is not None and (not main.is_ready or main.desk.navigator.journey is not None)

    def _key_passes(self, key: events.Key, others_wait: bool) -> bool:
        return self._main is None or self._main.key_passes(key, others_wait)

    async def on_event(self, event: events.Event) -> None:
        if not isinstance(event, events.Key):
            await super().on_event(event)
        elif not self.screen_stack:
            event.stop()  # the interface is closing
        elif event.is_forwarded:
            await super().on_event(event)
        elif not self._typed.takes(event):
            await self._take_effect(event)

    async def _take_effect(self, key: events.Key) -> None:
        if self.screen_stack:
            await super().on_event(key)
            self._typed.follow(key, self)

    async def _on_key(self, event: events.Key) -> None:
        # A key that no widget took comes back here, and may have been overtaken by a journey.
        if self._typed.takes_back(event):
            event.prevent_default()

    # The life of the application

    def on_unmount(self) -> None:
        with suppress(JondelError):  # how sheets were left is no reason to fail
            self.workspace.sheets.save()
        self.workspace.keep_last_table()
        self.workspace.close()

    def on_ready(self) -> None:
        gc.freeze()
        gc.enable()

    async def leave_for(self, wish: Wish) -> None:
        """End, and say where to go on."""
        self.wish = wish
        await self.action_quit()

    def action_command_palette(self) -> None:
        from jondel.tui.frame.palette import Palette

        if not Palette.is_open(self):  # type: ignore[arg-type]
            self.push_screen(Palette(id="--command-palette"))

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Everything that has a key can be called by name too."""
        if isinstance(screen, MainScreen):
            yield from screen.palette_commands()
