"""The screen on which one chooses a database, opened over those that are open or before any is."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Sequence
from contextlib import suppress
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.message import Message
from textual.screen import Screen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option
from textual.worker import Worker

from jondel.core.browse.display import line
from jondel.core.engines.passwords import tell_password
from jondel.core.engines.registry import (
    create_database,
    databases_beside,
    is_on_server,
    location_of,
)
from jondel.core.engines.server_addresses import with_name, without_secrets
from jondel.core.errors import JondelError, PasswordNeeded
from jondel.tui.dialogs.entries import FileDialog, PasswordDialog
from jondel.tui.frame.dialog import foot
from jondel.tui.opening.connection_dialog import ConnectionDialog
from jondel.tui.opening.listing import Choice, Group, groups
from jondel.tui.services.early_look import EarlyLook, looked_at

_FOOT = (
    "Enter opens · c connects to a server · d databases of the same server · "
    "N new SQLite file · r looks again · Escape {}"
)


class OpeningScreen(Screen[None]):
    """Lists what can be opened, and opens what is chosen."""

    CSS_PATH = str(Path(__file__).with_name("screen.tcss"))
    AUTO_FOCUS = "#choices"
    BINDINGS = [
        Binding("c", "connect", "connect"),
        Binding("d", "databases", "databases of this server"),
        Binding("N", "create", "new SQLite file"),
        Binding("r", "look_again", "look again"),
        Binding("T", "app.change_light", "dark or light"),
        Binding("escape,q", "leave", "back"),
        Binding("ctrl+q", "app.quit", "leave"),
    ]

    class Opened(Message):
        """A database was chosen, and is open; ``early`` is None where it was open before."""

        def __init__(self, target: str, early: EarlyLook | None) -> None:
            super().__init__()
            self.target, self.early = target, early

    class Left(Message):
        """None was chosen."""

    def __init__(self, folder: Path, open_now: Sequence[Choice] = (), words: str = "") -> None:
        """``open_now`` are the databases that are open, the one that one comes from last.
        ``words`` are to be said first."""
        super().__init__()
        self._folder = folder
        self._open_now = tuple(open_now)
        self._words = words
        self._choices: list[Choice | None] = []
        self._opening: Worker[None] | None = None

    def compose(self) -> ComposeResult:
        with Vertical(id="opening"):
            title = f" Jondel  open a database · {line(self._folder.name, 100)}"
            yield Static(title, id="masthead", markup=False)
            yield OptionList(id="choices", markup=False)
            yield Static("", id="places", markup=False)
            yield Static("", id="message", markup=False)
            yield foot(_FOOT.format("goes back" if self._open_now else "leaves"))

    def on_mount(self) -> None:
        self._look_soon()

    @property
    def _open_locations(self) -> set[str]:
        return {location_of(choice.target) for choice in self._open_now}

    def _look_soon(self) -> None:
        self.run_worker(self._look(), group="look", exclusive=True)

    async def _look(self) -> None:
        self._say(self._words or "looking …")
        if self._open_now and not self._choices:
            self._show([Group("open now", self._open_now)], so_far=True)
        found = await asyncio.to_thread(groups, self._folder)
        known = self._open_locations
        others = [
            Group(group.title, tuple(c for c in group.choices if not _is_of(c.target, known)))
            for group in found
        ]
        self._show([Group("open now", self._open_now), *others])
        self._say(self._words)
        self._words = ""

    def _show(self, found: list[Group], *, so_far: bool = False) -> None:
        options = self.query_one("#choices", OptionList)
        current = self._current
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
                text.append(line(choice.facts, 160) if choice.facts else "")
                options.add_option(Option(text))
                self._choices.append(choice)
        if not any(self._choices):
            self._words = self._words or (
                "no database is found here: c connects to a server, N makes a SQLite file"
            )
        places = [n for n, choice in enumerate(self._choices) if choice is not None]
        same = [n for n in places if current is not None and self._choices[n] == current]
        here = self._open_now[-1:]  # where Escape goes back to
        others = [n for n in places if self._choices[n] not in here]
        options.highlighted = next(iter((*same, *others, *(places if not so_far else ()))), None)

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
            self._open(choice.target, choice.shown)

    # Opening what was chosen

    def _open(self, target: str, shown: str = "") -> None:
        if not self._is_opening:
            self._opening = self.run_worker(
                self._open_it(target, shown or without_secrets(target)), group="open"
            )

    async def _open_it(self, target: str, shown: str) -> None:
        if _is_of(target, self._open_locations):
            self.post_message(self.Opened(target, None))
            return
        self._say(f"opening {line(shown, 100)} … Escape gives up")
        early = await self._look_at(target)
        if early is not None:
            self._say("")
            self.post_message(self.Opened(target, early))

    async def _look_at(self, target: str) -> EarlyLook | None:
        """Open a target, asking for a password where it needs one; None where it cannot be."""
        while True:
            opening = asyncio.ensure_future(asyncio.to_thread(looked_at, target))
            try:
                return await asyncio.shield(opening)
            except asyncio.CancelledError:
                opening.add_done_callback(_let_go)
                raise
            except PasswordNeeded as needed:
                password = await self.app.push_screen_wait(PasswordDialog(str(needed)))
                if password is None:
                    self._say(str(needed), problem=True)
                    return None
                tell_password(needed.location, password)
            except JondelError as error:
                self._say(str(error), problem=True)
                return None

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """While a database is being opened, keys are meant for it."""
        return not self._is_opening or action not in (
            "connect",
            "databases",
            "create",
            "look_again",
        )

    @property
    def _is_opening(self) -> bool:
        return self._opening is not None and not self._opening.is_finished

    def action_connect(self) -> None:
        """Write a connection."""
        choice = self._current
        url = choice.target if choice is not None and is_on_server(choice.target) else ""
        dialog = ConnectionDialog(url) if url else ConnectionDialog()
        self.app.push_screen(
            dialog, lambda told: self._open(told.target) if told is not None else None
        )

    def action_databases(self) -> None:
        """List the databases of the chosen one's server."""
        self.run_worker(self._list_databases(), group="look", exclusive=True)

    async def _list_databases(self) -> None:
        choice = self._current
        if choice is None or not is_on_server(choice.target):
            self._say("this is a file; only servers have several databases", problem=True)
            return
        try:
            names = await asyncio.to_thread(databases_beside, choice.target)
        except JondelError as error:
            self._say(str(error), problem=True)
            return
        beside = tuple(
            Choice(with_name(choice.target, name), name, "", (choice.shown,)) for name in names
        )
        self._show([Group(f"databases of {line(choice.shown, 80)}", beside)])
        self._say("r lists everything again")

    def action_create(self) -> None:
        """Make a SQLite file, and open it."""
        self.app.push_screen(FileDialog("A new SQLite database"), self._make)

    def _make(self, path: str | None) -> None:
        if path is None:
            return
        try:
            create_database(path)
        except JondelError as error:
            self._say(str(error), problem=True)
        else:
            self._open(path)

    def action_look_again(self) -> None:
        """Look through the project once more."""
        self._look_soon()

    def action_leave(self) -> None:
        """Give up opening what was chosen, or end without a choice."""
        if self._opening is not None and self._is_opening:
            self._opening.cancel()
            self._say("given up")
        else:
            self.post_message(self.Left())

    def _say(self, words: str, *, problem: bool = False) -> None:
        message = self.query_one("#message", Static)
        message.set_class(problem, "-problem")
        message.update(f" {line(words, 400)}" if words else "")


def _is_of(target: str, locations: Collection[str]) -> bool:
    """Whether a target is one of some databases."""
    with suppress(JondelError):
        return location_of(target) in locations
    return False


def _let_go(opening: asyncio.Future[EarlyLook]) -> None:
    """Close what was opened although nobody waits for it any more."""
    if not opening.cancelled() and opening.exception() is None:
        opening.result().let_go()
