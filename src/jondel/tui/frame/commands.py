"""Commands: what a person can do, each declared once by the feature that does it.

Footer, help, palette, menus and key handling all read the table of commands; nothing else knows
which key does what.
"""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, Iterable, Iterator
from typing import NamedTuple

from jondel.core.model.schema import Table
from jondel.tui.frame.keys import written
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.place import Place
from jondel.tui.services.moments import Now

CELL = "cell"
"""The context while a cell is edited in place; otherwise the context is the view's name."""
BOX = "box"
"""The context while statements are written in the box of the query view: letters are text there."""
RECORDS, CHANGES = frozenset({"records"}), frozenset({"changes"})
VERIFY = frozenset({"verify"})
EDITING = frozenset({CELL})


class Situation(NamedTuple):
    """What a command may ask to say whether it can run."""

    view: str
    place: Place
    table: Table | None = None
    """The table of the place, as it is there."""
    has_record: bool = False
    """Whether a record is the current one."""
    rows: int = 0
    """How many rows the current sheet has."""
    steps: int = 0
    unseen_steps: int = 0
    """How many steps came by themselves that nobody has looked at yet."""
    actions: int = 0
    draft_size: int = 0
    read_only: bool = False
    read_only_for_good: bool = False
    watching: bool = False
    stale: bool = False
    """Whether what is shown of now may be out of date, for the app never pauses."""
    editing: bool = False
    """Whether a cell is being edited in place."""
    tried_out: bool = False
    """Whether there is something that was tried out and can be written."""
    typing: bool = False
    """Whether statements are being written in the box of the query view."""
    can_go_back: bool = False
    other_databases: int = 0
    """How many databases are open beside this one."""
    open_tables: int = 0

    @property
    def at_now(self) -> bool:
        return isinstance(self.place.moment, Now)

    @property
    def context(self) -> str:
        """Which commands a key stands for."""
        if self.editing:
            return CELL
        return BOX if self.typing else self.view


def _always(_: Situation) -> str:
    return ""


def _never_in_footer(_: Situation) -> int:
    return 0


class Command(NamedTuple):
    """Something that a person can do."""

    id: str
    label: str
    """A word or two, for the footer and menus."""
    help: str
    """What it does, for the help and the palette."""
    group: str
    """The heading under which the help lists it."""
    run: Callable[[], Awaitable[None] | None]
    keys: tuple[str, ...] = ()
    """Names of keys, as the toolkit calls them."""
    keys_text: str = ""
    """How the keys are written, where not one after the other."""
    contexts: frozenset[str] | None = None
    """The contexts in which the keys stand for this; None for every view."""
    refusal: Callable[[Situation], str] = _always
    """Why it cannot run, and what to do; empty where it can."""
    footer_rank: Callable[[Situation], int] = _never_in_footer
    """How much it matters now, from 1 for the least; 0 keeps it out of the footer."""
    label_now: Callable[[Situation], str] | None = None
    """The label where it depends on the situation."""
    steers: bool = False
    """It can run while one is on the way somewhere else; others wait for the arrival."""
    reach: Reach | None = None
    """When to stop its work: when the moment, the table or the record is left; None for never."""
    task: str = ""
    """The group of its work, of which only the latest goes on; the id by default."""
    beside: bool = False
    """Its work goes on beside earlier work of the group."""
    holds_keys: bool = False
    """Keys typed while it runs wait for what it opens."""
    listed: bool = True
    """Whether help and palette list it."""

    def applies_in(self, context: str) -> bool:
        """Whether it belongs to a context, whether or not it can run there."""
        if self.contexts is not None:
            return context in self.contexts
        if context == BOX:
            return any(not is_typed(key) for key in self.keys)
        return context != CELL

    @property
    def key_text(self) -> str:
        """Its keys as they are written for people."""
        return self.keys_text or " ".join(written(key) for key in self.keys)

    def label_in(self, situation: Situation) -> str:
        return self.label_now(situation) if self.label_now is not None else self.label


_COMMANDING = re.compile(r".*\+.+|f[0-9]+|escape")


def is_typed(key: str) -> bool:
    """Whether a key does something to a text that is being written, by its name."""
    return _COMMANDING.fullmatch(key) is None


class CommandTable:
    """All commands, in the order in which they are listed."""

    def __init__(self) -> None:
        self._commands: dict[str, Command] = {}
        self._by_key: dict[str, list[Command]] = {}

    def add(self, commands: Iterable[Command]) -> None:
        """Add commands.

        Raises:
            ValueError: an id is taken, or a key stands for another command in the same context.
        """
        for command in commands:
            if command.id in self._commands:
                raise ValueError(f"two commands are called {command.id}")
            for key in command.keys:
                for other in self._by_key.setdefault(key, []):
                    if _overlap(command, other):
                        raise ValueError(f"{key} stands for {command.id} and for {other.id}")
                self._by_key[key].append(command)
            self._commands[command.id] = command

    def __iter__(self) -> Iterator[Command]:
        return iter(self._commands.values())

    def __getitem__(self, id: str) -> Command:
        return self._commands[id]

    @property
    def keys(self) -> Iterable[str]:
        """All keys that stand for a command anywhere."""
        return self._by_key

    def for_key(self, key: str, context: str) -> Command | None:
        """The command that a key stands for in a context."""
        return next((c for c in self._by_key.get(key, ()) if c.applies_in(context)), None)

    def elsewhere(self, key: str) -> list[Command]:
        """What a key stands for in any context."""
        return self._by_key.get(key, [])

    def footer(self, situation: Situation) -> list[Command]:
        """The commands that matter now and can run, the most needed first."""
        ranked = [
            (command.footer_rank(situation), command)
            for command in self
            if command.applies_in(situation.context)
        ]
        ranked = [(rank, c) for rank, c in ranked if rank and not c.refusal(situation)]
        return [command for _, command in sorted(ranked, key=lambda entry: -entry[0])]

    def groups(self, situation: Situation) -> list[tuple[str, list[Command]]]:
        """All listed commands under their headings, those of the current context first."""
        groups: dict[str, list[Command]] = {}
        for command in self:
            if command.listed:
                groups.setdefault(command.group, []).append(command)

        def is_elsewhere(entry: tuple[str, list[Command]]) -> bool:
            return not any(c.applies_in(situation.context) for c in entry[1])

        def is_everywhere(entry: tuple[str, list[Command]]) -> bool:
            return all(command.contexts is None for command in entry[1])

        return sorted(groups.items(), key=lambda e: (is_elsewhere(e), is_everywhere(e)))


def _overlap(one: Command, other: Command) -> bool:
    if one.contexts is None or other.contexts is None:
        both = one.contexts or other.contexts
        return both is None or both != EDITING
    return bool(one.contexts & other.contexts)
