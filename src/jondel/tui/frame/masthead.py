"""The masthead: which database, and whether one sees it live or as it was."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from jondel.core.browse.display import grouped, line
from jondel.core.engines.registry import name_of
from jondel.core.trail.trail import Step
from jondel.tui.services.early_look import Identity
from jondel.tui.services.moments import NOW, AtResult, GoneStep, Now, Resolved
from jondel.tui.widgets.bands import Band

_NAME_CHARACTERS, _TITLE_CHARACTERS = 60, 40


class MastheadState(NamedTuple):
    """What the masthead says. ``at`` is the moment that everything else on the screen is of."""

    location: str
    identity: Identity | None = None
    at: Resolved = NOW
    live_is_readable: bool = True
    stale_since: datetime | None = None
    """When what is shown of now was read, where nothing later could be."""
    read_only: bool = False
    host: str = ""
    """The machine that the database is on, where that is not this one."""
    draft_size: int = 0
    busy_with: str = ""
    watching: str = ""
    next_database: str = ""
    """The other database that is open and comes next."""


class Masthead(Band):
    """The topmost line."""

    def is_draft(self, part: int) -> bool:
        """Whether a part tells of the draft."""
        return self._left[part][1] == "draft"

    def show_state(self, state: MastheadState) -> None:
        """Say how things are."""
        name = state.identity.name if state.identity else name_of(state.location)
        left = [(" Jondel ", "strong"), (f" {line(name, _NAME_CHARACTERS)} ", "plain")]
        if state.identity:
            left.append((f" {state.identity.engine}  ", "dim"))
        if state.host:
            locked = "locked, Ctrl+R unlocks" if state.read_only else "unlocked"
            left.append((f" on {line(state.host, _TITLE_CHARACTERS)} · {locked} ", "flag"))
        left += _moment(state)
        if state.draft_size:
            left.append((f"  * {grouped(state.draft_size)} not written, W writes ", "draft"))
        right = [(f"{state.busy_with} … Esc stops it ", "plain")] if state.busy_with else []
        if state.watching:
            right.append((f" {state.watching} ", "watch"))
        if state.next_database:
            right.append((f" F3 {line(state.next_database, _TITLE_CHARACTERS)} ", "dim"))
        self.show(left, right)


def _moment(state: MastheadState) -> list[tuple[str, str]]:
    live = isinstance(state.at, Now)
    parts: list[tuple[str, str]] = []
    if isinstance(state.at, Step):
        title = line(state.at.after.title, _TITLE_CHARACTERS)
        title = "" if state.at.after.title == state.at.after.id else f" · {title}"
        parts.append((f" not live · as of {state.at.after.id}{title} ", "flag"))
    elif isinstance(state.at, AtResult):
        parts.append((f" rows of a statement · {line(state.at.title, _TITLE_CHARACTERS)} ", "flag"))
    elif isinstance(state.at, GoneStep):
        parts.append((f" not live · as of s{state.at.number}, which was deleted ", "flag"))
    if not state.live_is_readable:
        parts.append(
            (" cannot be read now ", "flag") if live else (" live: cannot be read now ", "dim")
        )
    elif live and state.stale_since is not None:
        when = state.stale_since.strftime("%H:%M:%S")
        parts.append((f" as of {when} · the app never pauses ", "flag"))
    elif live:
        parts.append(("live · read-only" if state.read_only else "live", "dim"))
    return parts
