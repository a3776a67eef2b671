"""The application: its themes, and the commands by name."""

from __future__ import annotations

import gc
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from textual.app import App, SystemCommand
from textual.screen import Screen
from textual.worker import WorkerFailed

from jondel.core.errors import JondelError
from jondel.tui.early_look import EarlyLook
from jondel.tui.theme import DUSK, MORNING
from jondel.tui.views.workbench import Workbench
from jondel.tui.workspace import Workspace

if TYPE_CHECKING:
    from jondel.core.verify.actions import Action


class JondelApp(App[None]):
    """The full-screen interface on one database."""

    TITLE = "Jondel"
    CSS_PATH = "jondel.tcss"

    def __init__(
        self,
        target: str,
        actions: Sequence[Action] = (),
        early: EarlyLook | None = None,
        *,
        read_only: bool = False,
    ) -> None:
        super().__init__()
        self.workspace = Workspace(target, actions, early, read_only=read_only)
        self.register_theme(DUSK)
        self.register_theme(MORNING)
        self.theme = DUSK.name

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

    def get_theme_variable_defaults(self) -> dict[str, str]:
        return DUSK.variables

    def get_default_screen(self) -> Screen[None]:
        # Not pushed over an empty screen, which would be laid out and painted first.
        return Workbench(self.workspace)

    def on_unmount(self) -> None:
        with suppress(JondelError):  # how sheets were left is no reason to fail
            self.workspace.sheets.save()
        self.workspace.close()

    def on_ready(self) -> None:
        gc.freeze()
        gc.enable()

    def action_change_light(self) -> None:
        """Go from the dark theme to the light one, or back."""
        self.theme = MORNING.name if self.theme == DUSK.name else DUSK.name

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Everything that has a key can be called by name too."""
        if isinstance(screen, Workbench):
            yield from screen.commands()
        yield SystemCommand("leave", "End Jondel", self.action_quit)
