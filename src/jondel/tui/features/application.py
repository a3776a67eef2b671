"""The application itself: help, menus, the palette, light and dark, leaving."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from jondel.tui.frame.commands import Command, Situation
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.keys import key_help

if TYPE_CHECKING:
    from jondel.tui.dialogs.help import KeyHelp


_TABLE_LIST, _BY_NAME = "The list of tables", "Copying by name"


class Application(Feature):
    """What is there in every application."""

    def commands(self) -> Iterable[Command]:
        desk = self.desk
        yield Command(
            "theme", "light", "dark or light", "Everywhere", desk.change_light, ("T",), steers=True
        )
        yield Command(
            "palette",
            "by name",
            "run a command by name, or go to a table",
            "Everywhere",
            desk.open_palette,
            ("ctrl+p",),
            steers=True,
        )
        yield Command(
            "menu",
            "menu",
            "what can be done here; the right mouse button opens it too",
            "Everywhere",
            self._open_menu,
            ("f10",),
        )
        yield Command(
            "databases",
            "databases",
            "open another database; this one stays open and goes on",
            "Everywhere",
            desk.show_databases,
            ("ctrl+o",),
            steers=True,
        )
        yield Command(
            "other database",
            "other database",
            "go to the next of the databases that are open",
            "Everywhere",
            desk.show_other_database,
            ("f3",),
            refusal=_needs_another,
            steers=True,
            holds_keys=True,
        )
        yield Command(
            "close database",
            "close",
            "close this database; its draft and its trail are kept",
            "Everywhere",
            desk.close_database,
            ("ctrl+w",),
            steers=True,
        )
        yield Command("quit", "leave", "leave", "Everywhere", desk.quit, ("ctrl+q",), steers=True)
        yield Command(
            "help",
            "keys",
            "what the keys do",
            "Everywhere",
            self._open_help,
            ("question_mark",),
            footer_rank=lambda _: 1,
            steers=True,
        )

    async def _open_help(self) -> None:
        from jondel.tui.dialogs.help import HelpDialog, KeyHelp
        from jondel.tui.frame.table_list import TableList

        desk, situation = self.desk, self.desk.situation()
        view = desk.views.if_opened(situation.view)
        groups = [
            (title, [KeyHelp(*entry) for entry in key_help(bindings)])
            for title, bindings in (view.WIDGET_KEYS if view is not None else ())
        ]
        listed = [
            KeyHelp("a–z", "find a table by typing; Backspace and Escape take that back"),
            *(KeyHelp(*entry) for entry in key_help(TableList.BINDINGS)),
        ]
        groups.insert(0 if desk.table_list_has_focus else len(groups), (_TABLE_LIST, listed))
        for title, commands in desk.commands.groups(situation):
            if title in (_TABLE_LIST, _BY_NAME):
                continue  # they are the list's own keys, and what C asks about
            groups.append((title, [_explained(command, situation) for command in commands]))
        await desk.ask(HelpDialog(groups))

    async def _open_menu(self) -> None:
        from jondel.tui.dialogs.menu import MenuDialog

        desk, situation = self.desk, self.desk.situation()
        possible = [
            command
            for _, commands in desk.commands.groups(situation)
            for command in commands
            if command.applies_in(situation.context)
            and command.contexts is not None
            and not command.refusal(situation)
        ]
        chosen = await desk.ask(MenuDialog(possible, situation))
        if chosen is not None:
            desk.run_command(chosen)


def _needs_another(situation: Situation) -> str:
    return "" if situation.other_databases else "no other database is open: Ctrl+O opens one"


def _explained(command: Command, situation: Situation) -> KeyHelp:
    from jondel.tui.dialogs.help import KeyHelp

    refusal = command.refusal(situation) if command.applies_in(situation.context) else ""
    return KeyHelp(command.key_text, command.help, refusal)
