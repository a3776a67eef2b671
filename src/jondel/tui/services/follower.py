"""Follows the live database and the trail: what was committed, and what became of the steps."""

from __future__ import annotations

import time
from collections.abc import Hashable, Iterator
from contextlib import contextmanager, suppress

from textual import work
from textual.message import Message
from textual.timer import Timer
from textual.widget import Widget

from jondel.core.engines.registry import is_on_server
from jondel.core.errors import Cancelled, JondelError, TargetBusy
from jondel.core.trail.watch import LOOK_EVERY_SECONDS, Settling, WatchTimes
from jondel.tui.services.early_look import Identity, Look
from jondel.tui.services.workspace import Workspace

_POLL_SECONDS = 0.2
_TRAIL_CHECK_SECONDS = 2.0
_OWN_SECONDS = 1.0
"""So soon after Jondel has written, that has been noticed."""
_BUSY_CHANGES, _BUSY_TICKS = 4, 5
"""While the app commits all the time it is looked at less often: showing what it wrote takes
locks. Three changes in a row may be one commit, as its first and last look and a checkpoint."""


class Follower(Widget):
    """Follows the live database and the trail, and reports what became of them."""

    DEFAULT_CSS = "Follower { display: none; }"

    class Committed(Message):
        """Something was committed, or the database can be read for the first time or again."""

        def __init__(self, identity: Identity | None) -> None:
            """``identity`` is None as long as the app has left no pause to read it in."""
            super().__init__()
            self.identity = identity

    class Unreadable(Message):
        """The live database cannot be read at present; sent once for each reason."""

        def __init__(self, error: JondelError) -> None:
            super().__init__()
            self.error = error

    class ActionOver(Message):
        """While watching: something was committed, and then nothing for the settle time."""

        def __init__(self, token: Hashable) -> None:
            super().__init__()
            self.token = token

    class ActionBegan(Message):
        """While watching: something was committed that is in no step yet."""

    class TrailOpened(Message):
        """What is recorded is known now, or why it cannot be."""

        def __init__(self, error: JondelError | None) -> None:
            super().__init__()
            self.error = error

    class TrailChanged(Message):
        """Another Jondel took, changed or deleted a snapshot."""

    class RulesChanged(Message):
        """The project's file was changed by somebody else."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._identity: Identity | None = None
        self._token: Hashable = None
        self._polling = False
        self._trail_checked = time.monotonic()
        self._ticks_to_skip = 0
        self._look_again_at = 0.0
        self._changes_in_a_row = 0
        self._trail_is_open = False
        self._settling: Settling | None = None
        self._begins = False
        self._is_own = False
        """Whether Jondel itself wrote just now."""
        self._timer: Timer | None = None
        self.trouble = ""
        """Why the live database cannot be read now; empty while it can."""

    def go_on_from(self, look: Look) -> None:
        """Take what was seen early as known, so that it is not reported again."""
        self._identity, self._token = look.identity, look.token

    @property
    def token(self) -> Hashable:
        """What was last read from the database to tell whether something was committed."""
        return self._token

    @property
    def watching(self) -> bool:
        return self._settling is not None

    @property
    def busy(self) -> bool:
        """While watching: whether an app action is going on."""
        return self._settling is not None and self._settling.busy and not self._is_own

    @contextmanager
    def writing_ourselves(self) -> Iterator[None]:
        """What is committed in the block is no action of the app's."""
        self._is_own = True
        try:
            yield
        finally:
            self.set_timer(_OWN_SECONDS, self._own_is_over)

    def _own_is_over(self) -> None:
        self._is_own = False

    def watch_actions(self, times: WatchTimes | None) -> None:
        """Look out for app actions from now on, or no more for None."""
        self._settling = Settling(times) if times is not None else None
        if self._settling is not None:
            self._settling.start(self._token)
        self._begins = self._token is None
        if self._timer is not None:
            self._timer.stop()
        self._timer = self.set_interval(
            LOOK_EVERY_SECONDS if self._settling else _POLL_SECONDS, self._tick
        )

    def action_recorded(self, token: Hashable) -> None:
        """What was committed up to the token is in a step."""
        if self._settling is not None:
            self._settling.start(token)

    def record_again(self) -> None:
        """The action that was over last could not be recorded; report it once more."""
        if self._settling is not None:
            self._settling.go_on()

    def on_mount(self) -> None:
        self._timer = self.set_interval(_POLL_SECONDS, self._tick)
        if self._token is None:
            self._tick()
        # The first rows need not wait for the trail.
        self.call_after_refresh(self._open_trail)

    @work(group="open")
    async def _open_trail(self) -> None:
        problem = None
        try:
            await self._workspace.trail.open()
            self._trail_is_open = True
        except JondelError as error:
            problem = error
        self.post_message(self.TrailOpened(problem))

    @property
    def _pause(self) -> float:
        """The least time from one look to the next."""
        if self._identity is None:
            return _POLL_SECONDS if is_on_server(self._workspace.location) else 0.0
        return self._identity.look_every_seconds

    def _tick(self) -> None:
        now = time.monotonic()
        if self._trail_is_open and now - self._trail_checked >= _TRAIL_CHECK_SECONDS:
            self._trail_checked = now
            self._check_trail()
        if self._ticks_to_skip:
            self._ticks_to_skip -= 1
        elif not self._polling and now >= self._look_again_at:
            self._look_again_at = now + self._pause
            self._polling = True
            self._poll()

    @work(group="trail", exclusive=True)
    async def _check_trail(self) -> None:
        with suppress(JondelError):
            if await self._workspace.trail.rules_changed():
                self.post_message(self.RulesChanged())
            if await self._workspace.trail.reload():
                self.post_message(self.TrailChanged())

    @work(group="poll")
    async def _poll(self) -> None:
        try:
            token = await self._workspace.rows.change_token()
            identified = self._identity is None and await self._identify()
            changed = token != self._token
            self._changes_in_a_row = self._changes_in_a_row + 1 if changed else 0
            if self._changes_in_a_row >= _BUSY_CHANGES:
                self._ticks_to_skip = _BUSY_TICKS
            if self.trouble or changed or identified:
                self.trouble, self._token = "", token
                self.post_message(self.Committed(self._identity))
            self._settle(token)
        except Cancelled:
            pass
        except JondelError as error:
            self._token = None
            if str(error) != self.trouble:
                self.trouble = str(error)
                self.post_message(self.Unreadable(error))
        finally:
            self._polling = False

    async def _identify(self) -> bool:
        """Read what the database is; False where the app leaves no pause for that. Rows that are
        on the screen stay there meanwhile: whoever reads them says that the app never pauses."""
        try:
            self._identity = await self._workspace.rows.identity()
        except TargetBusy:
            return False
        return True

    def _settle(self, token: Hashable) -> None:
        if self._settling is None:
            return
        if self._begins:  # nothing had been read when watching began
            self._begins = False
            self._settling.start(token)
        was_busy = self._settling.busy
        if self._settling.over(token):
            self._settling.start(token)
            self._is_own = False
            self.post_message(self.ActionOver(token))
        elif self._settling.busy and not was_busy and not self._is_own:
            self.post_message(self.ActionBegan())
