"""Finds, while nothing else is asked for, what was written since the last snapshot."""

from __future__ import annotations

import asyncio
import time
from contextlib import suppress

from textual import work
from textual.message import Message
from textual.widget import Widget

from jondel.core.errors import Cancelled, JondelError, TargetBusy
from jondel.core.model.changes import Changes
from jondel.tui.services.workspace import Workspace

_SETTLE_SECONDS, _LONGEST_REST_SECONDS = 0.4, 3.0
_REST_FACTOR = 3


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

    @property
    def _last_number(self) -> int | None:
        last = self._workspace.trail.last
        return last.number if last is not None else None

    def refresh_now(self, *, asked: bool = False) -> None:
        """Compare with now, once the app is quiet for a moment; ``asked`` for by a person."""
        self._outdated = True
        wanted = asked or self._workspace.comparisons.is_quick
        if self._workspace.trail.steps and wanted and not self._comparing:
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
                last, started = self._last_number, time.monotonic()
                try:
                    changes = await self._workspace.comparisons.since_last()
                except TargetBusy:
                    self._outdated, rest = True, _LONGEST_REST_SECONDS
                    continue
                # A database that is slow to compare and always written to must not keep us busy.
                taken = time.monotonic() - started
                rest = max(min(2 * rest, _LONGEST_REST_SECONDS), _REST_FACTOR * taken)
                if last != self._last_number:
                    self._outdated = True
                    continue
                self.since = changes
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
        """Find the sizes of the steps that are not known yet, latest first."""
        for step in reversed(self._workspace.trail.steps):
            if step.summary is None and step.before and self._workspace.comparisons.is_quick:
                with suppress(JondelError):  # told when the step is looked at
                    await self._workspace.comparisons.step_changes(step)
                    self.post_message(self.StepMeasured())
