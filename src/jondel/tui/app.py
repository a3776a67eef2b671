"""The application: its themes, and the commands by name."""

from __future__ import annotations

import gc
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING

from textual.app import App, SystemCommand
from textual.reactive import Reactive
from textual.screen import Screen
from textual.theme import Theme
from textual.worker import WorkerFailed

from jondel.core.errors import JondelError
from jondel.tui.early_look import EarlyLook
from jondel.tui.theme import DUSK, MORNING
from jondel.tui.views.workbench import Workbench
from jondel.tui.workspace import Workspace

if TYPE_CHECKING:
    from textual.command import Provider

    from jondel.core.verify.actions import Action


def _table_commands() -> type[Provider]:
    from jondel.tui.views.palette import TableCommands

    return TableCommands


class JondelApp(App[None]):
    """The full-screen interface on one database."""

    TITLE = "Jondel"
    CSS_PATH = "jondel.tcss"

    COMMANDS = App.COMMANDS | {_table_commands}

    theme = Reactive(DUSK.name)
    """The palette; set later, it would have the style sheets read twice."""

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

    @property
    def available_themes(self) -> dict[str, Theme]:
        """Ours and the toolkit's; not registered, for the first of them is needed before that."""
        return {**super().available_themes, DUSK.name: DUSK, MORNING.name: MORNING}

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

    def action_command_palette(self) -> None:
        from jondel.tui.views.palette import Palette

        if not Palette.is_open(self):
            self.push_screen(Palette(id="--command-palette"))

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Everything that has a key can be called by name too."""
        if isinstance(screen, Workbench):
            yield from screen.commands()
        yield SystemCommand("leave", "End Jondel", self.action_quit)
