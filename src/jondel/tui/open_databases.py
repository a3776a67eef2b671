"""The databases that are open: one is in front, the others go on behind it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from jondel.core.browse.display import grouped, line
from jondel.core.engines.registry import name_of

if TYPE_CHECKING:
    from jondel.tui.frame.screen import MainScreen
    from jondel.tui.opening.listing import Choice


class OpenDatabases:
    """In the order in which they were opened."""

    def __init__(self) -> None:
        self._screens: list[MainScreen] = []
        self.current: MainScreen | None = None
        """The one that is in front, or that one comes back to."""

    @property
    def screens(self) -> Sequence[MainScreen]:
        return tuple(self._screens)

    @property
    def following(self) -> MainScreen | None:
        """The one after the current one; None where there is no other."""
        if self.current is None or len(self._screens) < 2:
            return None
        return self._screens[(self._screens.index(self.current) + 1) % len(self._screens)]

    def add(self, screen: MainScreen) -> None:
        """One more; the first one is in front."""
        self._screens.append(screen)
        if self.current is None:
            self.bring_forward(screen)

    def remove(self, screen: MainScreen) -> None:
        """It is being closed."""
        self._screens.remove(screen)
        if screen is self.current:
            self.current = None

    def bring_forward(self, screen: MainScreen) -> None:
        """Only this one may open dialogs from now on; each is told what F3 goes to from there."""
        self.current = screen
        for one, name in zip(self._screens, self._names(), strict=True):
            one.desk.shown_name = name
        for one in self._screens:
            one.desk.others = tuple(other.desk for other in self._after(one) if other is not one)
            one.desk.in_front(one is screen)

    def show_behind(self) -> None:
        """Something else is in front of all of them."""
        for one in self._screens:
            one.desk.in_front(False)

    def choices(self) -> list[Choice]:
        """What the list of databases says of them, the current one last."""
        from jondel.tui.opening.listing import Choice

        order = self._after(self.current) if self.current is not None else []
        return [
            Choice(screen.workspace.target, screen.desk.shown_name, _facts(screen))
            for screen in [*order[1:], *order[:1]]
        ]

    def _names(self) -> list[str]:
        """What they are called: by so much of where they are that no two are called alike."""
        locations = [screen.workspace.location for screen in self._screens]
        ways: list[Callable[[str], str]] = [
            name_of,
            lambda location: "/".join(location.rsplit("/", 2)[-2:]),
            lambda location: location,
        ]
        named = [Counter(map(way, locations)) for way in ways]
        return [
            line(next(way(at) for way, known in zip(ways, named, strict=True)
                      if known[way(at)] == 1), 60)
            for at in locations
        ]  # fmt: skip

    def _after(self, screen: MainScreen) -> list[MainScreen]:
        place = self._screens.index(screen)
        return self._screens[place:] + self._screens[:place]


def _facts(screen: MainScreen) -> str:
    situation = screen.desk.situation()
    facts = [screen.engine] if screen.engine else []
    if situation.steps:
        facts.append(f"{grouped(situation.steps)} step{'' if situation.steps == 1 else 's'}")
    if situation.draft_size:
        facts.append(f"{grouped(situation.draft_size)} not written")
    if situation.watching:
        facts.append("watching")
    return " · ".join(facts)
