"""Unseen parts of the screen that watch and tell: the database, its trail, and what was written."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Hashable
from contextlib import suppress

from textual import work
from textual.message import Message
from textual.timer import Timer
from textual.widget import Widget

from jondel.core.errors import Cancelled, JondelError
from jondel.core.model.changes import Changes
from jondel.core.trail.watch import LOOK_EVERY_SECONDS, Settling
from jondel.tui.early_look import Identity, Look
from jondel.tui.workspace import Workspace

_POLL_SECONDS = 0.2
_TRAIL_CHECK_SECONDS = 2.0
_BUSY_CHANGES, _BUSY_TICKS = 4, 5
"""While the app commits all the time it is looked at less often: showing what it wrote takes
locks. Three changes in a row may be one commit, as its first and last look and a checkpoint."""
_SETTLE_SECONDS, _LONGEST_REST_SECONDS = 0.4, 3.0
_REST_FACTOR = 3


class Follower(Widget):
    """Follows the live database and the trail, and tells when something became of them."""

    DEFAULT_CSS = "Follower { display: none; }"

    class Committed(Message):
        """Something was committed, or the database can be read for the first time or again."""

        def __init__(self, identity: Identity) -> None:
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

    class TrailGrew(Message):
        """Another Jondel took a snapshot."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._identity: Identity | None = None
        self._token: Hashable = None
        self._polling = False
        self._trail_checked = time.monotonic()
        self._ticks_to_skip = 0
        self._changes_in_a_row = 0
        self._trail_is_open = False
        self._settling: Settling | None = None
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
        return self._settling is not None and self._settling.busy

    def watch_actions(self, settle_seconds: float | None) -> None:
        """Look out for app actions from now on, or no more for None."""
        self._settling = Settling(settle_seconds) if settle_seconds is not None else None
        if self._settling is not None:
            self._settling.start(self._token)
        if self._timer is not None:
            self._timer.stop()
        self._timer = self.set_interval(
            LOOK_EVERY_SECONDS if self._settling else _POLL_SECONDS, self._tick
        )

    def action_recorded(self, token: Hashable) -> None:
        """What was committed up to the token is in a step."""
        if self._settling is not None:
            self._settling.start(token)

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
            await self._workspace.open_trail()
            self._trail_is_open = True
        except JondelError as error:
            problem = error
        self.post_message(self.TrailOpened(problem))

    def _tick(self) -> None:
        now = time.monotonic()
        if self._trail_is_open and now - self._trail_checked >= _TRAIL_CHECK_SECONDS:
            self._trail_checked = now
            self._check_trail()
        if self._ticks_to_skip:
            self._ticks_to_skip -= 1
        elif not self._polling:
            self._polling = True
            self._poll()

    @work(group="trail", exclusive=True)
    async def _check_trail(self) -> None:
        with suppress(JondelError):
            if await self._workspace.reload_steps():
                self.post_message(self.TrailGrew())

    @work(group="poll")
    async def _poll(self) -> None:
        try:
            token = await self._workspace.change_token()
            if self._identity is None:
                self._identity = await self._workspace.identity()
            changed = token != self._token
            self._changes_in_a_row = self._changes_in_a_row + 1 if changed else 0
            if self._changes_in_a_row >= _BUSY_CHANGES:
                self._ticks_to_skip = _BUSY_TICKS
            if self.trouble or changed:
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

    def _settle(self, token: Hashable) -> None:
        if self._settling is None:
            return
        was_busy = self._settling.busy
        if self._settling.over(token):
            self._settling.start(token)
            self.post_message(self.ActionOver(token))
        elif self._settling.busy and not was_busy:
            self.post_message(self.ActionBegan())


class Comparer(Widget):
    """Finds, while nothing else is asked for, what was written since the last snapshot.

    And the sizes of steps that nobody has looked at yet. A large database is compared only when
    a person asks for it.
    """

    DEFAULT_CSS = "Comparer { display: none; }"

    class NowCompared(Message):
        """The changes since the last snapshot are known, or why they cannot be."""

        def __init__(self, error: JondelError | None) -> None:
            super().__init__()
            self.error = error

    class StepMeasured(Message):
        """The size of a step's changes is known now."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self._workspace = workspace
        self._outdated = True
        self._comparing = False
        self.since: Changes | None = None
        """The changes since the last snapshot as last found; None while unknown."""

    @property
    def up_to_date(self) -> bool:
        """Whether ``since`` says how things are now."""
        return self.since is not None and not self._outdated

    @property
    def comparing(self) -> bool:
        """Whether now is being compared."""
        return self._comparing

    def refresh_now(self, *, asked: bool = False) -> None:
        """Compare with now, once the app is quiet for a moment; ``asked`` for by a person."""
        self._outdated = True
        wanted = asked or self._workspace.compares_quickly
        if self._workspace.steps and wanted and not self._comparing:
            self._comparing = True
            self._compare()

    def start_anew(self) -> None:
        """Forget what was found: there is another last snapshot now."""
        self.since = None
        self.refresh_now()
        self.measure_steps()

    def pause(self) -> None:
        """Stop what is being done; whoever pauses it calls ``refresh_now`` again."""
        for group in ("now", "measures"):
            self.workers.cancel_group(self, group)

    @work(group="now")
    async def _compare(self) -> None:
        rest, problem = _SETTLE_SECONDS, None
        try:
            while self._outdated:
                await asyncio.sleep(rest)
                self._outdated = False
                last, started = self._workspace.steps[-1].number, time.monotonic()
                found = await self._workspace.changes_of(None)
                # A database that is slow to compare and always written to must not keep us busy.
                taken = time.monotonic() - started
                rest = max(min(2 * rest, _LONGEST_REST_SECONDS), _REST_FACTOR * taken)
                if last != self._workspace.steps[-1].number:
                    self._outdated = True
                    continue
                self.since = found
                self.post_message(self.NowCompared(None))
        except Cancelled:
            self._outdated = True
        except JondelError as error:
            problem = error
        except asyncio.CancelledError:
            self._outdated = True
            raise
        finally:
            self._comparing = False
        if problem is not None:
            self.post_message(self.NowCompared(problem))

    @work(group="measures", exclusive=True)
    async def measure_steps(self) -> None:
        """Find the sizes of the steps that are not known yet, the latest first."""
        for step in reversed(self._workspace.steps):
            if step.summary is None and step.before and self._workspace.compares_quickly:
                with suppress(JondelError):  # told when the step is looked at
                    await self._workspace.changes_of(step.number)
                    self.post_message(self.StepMeasured())
